//! `list`.

use crate::args::{Common, List};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output;
use crate::output::table::Cell;
use crate::output::{Out, data, table};
use crate::project::{Project, places};
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_source::Problem;
use yieldtray_source::escape::escape_line;
use yieldtray_workspace::plan::Graph;

/// Shows the requests there are: place, name, method, target, what they need and yield.
pub(crate) fn list(common: &Common, args: &List, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let List { places: texts, graph } = args;
    let places = places(common, texts)?;
    let mut project = Project::open(common, host, out, &places)?;
    let cells = if places.is_empty() { project.find_all()? } else { project.find(&places)? };
    if let Some(format) = graph {
        let Project { workspace, engine, .. } = &mut project;
        let graph = Graph::new(workspace, engine, &cells);
        match out.settings.json {
            true => writeln!(out.result(), "{}", output::graph::data(workspace, &graph))?,
            false => write!(out.result(), "{}", output::graph::graph(workspace, &graph, *format))?,
        }
        return Ok(ExitCode::Success);
    }
    let workspace = &project.workspace;
    let listed: Vec<serde_json::Value> = cells.iter().map(|cell| data::listed(workspace, *cell)).collect();
    // A file that is broken lists what can be read of it, and says what cannot.
    let mut sources: Vec<_> = cells.iter().map(|cell| cell.source).collect();
    sources.dedup();
    let problems: Vec<Problem> = sources
        .iter()
        .flat_map(|source| &workspace.source(*source).problems)
        .filter(|p| p.is_error())
        .cloned()
        .chain(project.unreadable.iter().cloned())
        .collect();
    let code = ExitCode::invalid_input_if(problems.iter().any(Problem::is_error));
    if out.settings.json {
        let document = serde_json::json!({ "requests": listed, "diagnostics": data::problems(workspace, &problems) });
        writeln!(out.result(), "{document}")?;
        return Ok(code);
    }
    let text = |value: &serde_json::Value| escape_line(value.as_str().unwrap_or_default()).into_owned();
    let words = |value: &serde_json::Value| {
        value.as_array().into_iter().flatten().filter_map(serde_json::Value::as_str).collect::<Vec<_>>().join(", ")
    };
    let styles = out.settings.styles;
    let rows: Vec<Vec<Cell>> = listed
        .iter()
        .map(|request| {
            let ways = ["plays", "needs", "yields"].map(|way| (way, words(&request[way])));
            let ways = ways.iter().filter(|(_, names)| !names.is_empty());
            let ways: Vec<String> = ways.map(|(word, names)| format!("{word} {names}")).collect();
            let place = format!("{}:{}", text(&request["file"]), request["line"]);
            vec![
                Cell::new(place.clone()).painted(styles.dim(&place)),
                Cell::new(text(&request["name"])).shrinkable(),
                Cell::new(text(&request["method"])),
                Cell::new(table::cut(&text(&request["target"]), 48)).shrinkable(),
                Cell::new(ways.join("  ")).shrinkable(),
            ]
        })
        .collect();
    out.print_header(&project.heading())?;
    out.table(&rows)?;
    if !problems.is_empty() {
        out.problems(workspace, &problems)?;
        return Ok(code);
    }
    if rows.is_empty() && !out.settings.quiet {
        out.say("no requests found; run `yieldtray init` to create a workspace")?;
    }
    Ok(ExitCode::Success)
}
