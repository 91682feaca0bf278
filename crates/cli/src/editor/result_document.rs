//! The text that an editor shows beside the file when something was sent: what the terminal would show, on one
//! sheet.

use crate::error::CommandError;
use crate::output::cell::{Heading, time};
use crate::output::result_lines::ResultLines;
use crate::output::styles::Styles;
use crate::output::{body, exchange, problems};
use crate::project::{Project, state};
use crate::run::send_one::SendResult;
use anyhow::Context;
use std::io::Write;
use std::path::{Path, PathBuf};
use yieldtray_engine::{CellReport, Run};
use yieldtray_http::Exchange;
use yieldtray_store::StateFolder;
use yieldtray_workspace::CellId;

/// Bytes of a body that are shown: an editor is not a pager.
const MAX_RESULT_BYTES: u64 = 4 << 20;

/// The sheet of a request that was sent.
pub(super) fn of_sent(session: &Project, cell: CellId, done: &SendResult<'_>) -> Result<String, CommandError> {
    let mut sheet = Vec::new();
    let plain = Styles::new(false);
    top(&mut sheet, session, cell, &session.heading())?;
    let told = ResultLines { run: &done.run, heading: session.heading(), look: plain };
    for line in told.before_lines(&done.tokens, &done.before, None) {
        writeln!(sheet, "{line}")?;
    }
    answered(&mut sheet, &done.run, &told, done.report.as_ref(), done.answer.as_ref())?;
    Ok(String::from_utf8_lossy(&sheet).into_owned())
}

/// The document of a logged response whose checks were judged now. `age` is its age.
pub(super) fn of_judged(
    session: &Project,
    run: &Run<'_>,
    report: &CellReport,
    answer: &Exchange,
    age: &str,
) -> Result<String, CommandError> {
    let mut sheet = Vec::new();
    top(&mut sheet, session, report.cell, &session.heading())?;
    writeln!(sheet, "nothing was sent: the answer is from {age}")?;
    let told = ResultLines { run, heading: session.heading(), look: Styles::new(false) };
    answered(&mut sheet, run, &told, Some(report), Some(answer))?;
    Ok(String::from_utf8_lossy(&sheet).into_owned())
}

fn top(sheet: &mut Vec<u8>, session: &Project, cell: CellId, heading: &Heading) -> Result<(), CommandError> {
    let workspace = &session.workspace;
    let place = workspace.shown_cell(cell);
    writeln!(sheet, "{}  {place}  {}", heading.text(Styles::new(false)), workspace.cell(cell).name)?;
    Ok(())
}

/// Status, checks, header fields, body, times.
fn answered(
    sheet: &mut Vec<u8>,
    run: &Run<'_>,
    told: &ResultLines<'_, '_>,
    report: Option<&CellReport>,
    answer: Option<&Exchange>,
) -> Result<(), CommandError> {
    let plain = Styles::new(false);
    let masker = run.masker();
    for problem in report.iter().flat_map(|report| &report.problems) {
        writeln!(sheet, "{}", problems::snippet(run.workspace(), problem, plain))?;
    }
    if let Some(answer) = answer {
        for hop in &answer.hops {
            writeln!(sheet, "{}", masker.mask(&exchange::hop_words(hop)))?;
        }
        writeln!(sheet, "{}", exchange::status_line(answer, masker, plain))?;
    }
    for line in told.verdict_lines(None, false, report) {
        writeln!(sheet, "{line}")?;
    }
    let Some(answer) = answer else { return Ok(()) };
    writeln!(sheet)?;
    exchange::head(sheet, answer, masker, plain)?;
    match answer.size {
        ..=MAX_RESULT_BYTES => body::for_a_person(sheet, answer, masker, plain)?,
        size => writeln!(sheet, "a body of {}: `yieldtray log show --pick` looks at its parts", body::size(size))?,
    }
    writeln!(sheet, "\nwhat was sent\n")?;
    exchange::sent(sheet, answer, masker, plain)?;
    exchange::timeline(sheet, answer, masker, plain, None)?;
    Ok(())
}

/// The summary of a result, in a line.
pub(super) fn summary(report: Option<&CellReport>) -> String {
    let Some(report) = report else { return "not sent: a cell it needs did not pass".to_owned() };
    let status = report.status.map(|status| status.to_string());
    let mut parts: Vec<String> = status.into_iter().collect();
    if report.status.is_some() {
        parts.push(time(report.elapsed));
    }
    match (report.checks, report.failures.len()) {
        _ if report.status.is_none() => {
            let why = report.failure.as_ref().map(|failure| failure.message.clone());
            parts.push(why.unwrap_or_else(|| "not sent".to_owned()));
        }
        (0, _) => {}
        (all, 0) => parts.push(format!("{} passed", crate::output::table::count(all, "check", "checks"))),
        (all, failed) => {
            parts.push(format!("{failed} of {} failed", crate::output::table::count(all, "check", "checks")))
        }
    }
    parts.join(" · ")
}

/// Writes a sheet where the editor can open it: below the state folder, for its owner alone.
pub(super) fn write(root: &Path, file: &Path, name: &str, text: &str) -> Result<PathBuf, CommandError> {
    // A folder for each request file, under its own path: no two names can meet.
    let folder = StateFolder::open_or_make(root, state::key_file().as_deref())?.path().join("answers").join(file);
    std::fs::create_dir_all(&folder).context("cannot make a folder for answers")?;
    let plain = |text: &str| -> String {
        text.chars().map(|c| if c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | '+') { c } else { '-' }).collect()
    };
    // That of a whole file begins as no cell's name does.
    let name = if name.is_empty() { "+replay".to_owned() } else { plain(name) };
    let sheet = folder.join(format!("{name}.txt"));
    crate::files::replace_private(&sheet, text.as_bytes()).context("cannot write the answer's sheet")?;
    Ok(sheet)
}
