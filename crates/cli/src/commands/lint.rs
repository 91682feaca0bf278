use crate::args::{Common, Lint};
use crate::failure::Stop;
use crate::host::Host;
use crate::private::PrivateFile;
use crate::session::{Session, places};
use crate::show::{Out, data, problems, table};
use std::io::Write;
use yieldtray_core::lint::lint as find;

/// Finds mistakes and oddities without sending anything.
pub(crate) fn lint(common: &Common, args: &Lint, host: &Host, out: &mut Out) -> Result<u8, Stop> {
    let places = places(common, &args.places)?;
    let mut session = Session::open(common, host, out, &places)?;
    let cells = if places.is_empty() { session.find_all()? } else { session.find(&places)? };
    let Session { workspace, engine, settings, .. } = &mut session;
    let mut found = find(workspace, engine, settings, &cells);
    found.extend(out.take_private_file().and_then(PrivateFile::problem));
    let workspace = &session.workspace;
    let mistakes = found.iter().filter(|problem| problem.is_mistake()).count();
    let code = if mistakes > 0 { 2 } else { 0 };
    if out.json {
        let document = serde_json::json!({ "problems": data::problems(workspace, &found) });
        writeln!(out.result(), "{document}")?;
        return Ok(code);
    }
    out.introduce(&session.heading())?;
    let look = out.look;
    let quiet = out.quiet;
    for problem in found.iter().filter(|problem| problem.is_mistake() || !quiet) {
        let text = problems::snippet(workspace, problem, look);
        writeln!(out.result(), "{text}")?;
    }
    if !quiet || mistakes > 0 {
        let mut files: Vec<_> = cells.iter().map(|cell| cell.source).collect();
        files.dedup();
        let mut parts =
            vec![table::count(files.len(), "file", "files"), table::count(cells.len(), "request", "requests")];
        let remarks = found.len() - mistakes;
        if found.is_empty() {
            parts.push(look.good("nothing found"));
        }
        if mistakes > 0 {
            parts.push(look.bad(&table::count(mistakes, "mistake", "mistakes")));
        }
        if remarks > 0 {
            parts.push(look.odd(&table::count(remarks, "remark", "remarks")));
        }
        writeln!(out.result(), "{}", parts.join(" · "))?;
    }
    Ok(code)
}
