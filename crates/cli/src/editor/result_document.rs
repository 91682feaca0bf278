//! The text that an editor shows beside the file after a request was sent: the same text as in the terminal.

use crate::error::CommandError;
use crate::output::cell::{Heading, time};
use crate::output::result_lines::ResultLines;
use crate::output::{body, events, exchange, problems};
use crate::project::{Project, state};
use crate::run::send_one::SendResult;
use crate::styles::Styles;
use anyhow::Context;
use std::path::{Path, PathBuf};
use yieldtray_engine::{CellReport, Run};
use yieldtray_http::Exchange;
use yieldtray_store::StateFolder;
use yieldtray_workspace::CellId;

/// Bytes of a body that are shown: an editor is not a pager.
const MAX_RESULT_BYTES: u64 = 4 << 20;

/// The document of a request that was sent.
pub(super) fn of_sent(project: &Project, cell: CellId, done: &SendResult<'_>) -> String {
    let lines = ResultLines { run: &done.run, heading: project.heading(), styles: Styles::new(false) };
    let mut text = first_line(project, cell, &project.heading());
    for line in lines.prerequisites(&done.tokens, &done.before, None) {
        text.push_str(&(line + "\n"));
    }
    text.push_str(&response(&done.run, &lines, done.report.as_ref(), done.answer.as_ref()));
    text
}

/// The document of a logged response whose checks were judged now. `age` is its age.
pub(super) fn of_judged(project: &Project, run: &Run<'_>, report: &CellReport, answer: &Exchange, age: &str) -> String {
    let lines = ResultLines { run, heading: project.heading(), styles: Styles::new(false) };
    let top = first_line(project, report.cell, &project.heading());
    let text = response(run, &lines, Some(report), Some(answer));
    format!("{top}nothing was sent; response from {age}\n{text}")
}

/// Environment, URL, place and name.
fn first_line(project: &Project, cell: CellId, heading: &Heading) -> String {
    let workspace = &project.workspace;
    let place = workspace.shown_cell(cell);
    format!("{}  {place}  {}\n", heading.text(Styles::new(false)), workspace.cell(cell).name)
}

/// Status, checks, header fields, body, times.
fn response(
    run: &Run<'_>,
    lines: &ResultLines<'_, '_>,
    report: Option<&CellReport>,
    answer: Option<&Exchange>,
) -> String {
    let plain = Styles::new(false);
    let masker = run.masker();
    let problems = report.iter().flat_map(|report| &report.problems);
    let mut shown: Vec<String> = problems.map(|problem| problems::snippet(run.workspace(), problem, plain)).collect();
    if let Some(answer) = answer {
        shown.extend(answer.hops.iter().map(|hop| masker.mask(&exchange::describe_hop(hop)).into_owned()));
        shown.push(exchange::status_line(answer, masker, plain));
    }
    shown.extend(lines.verdict(None, false, report));
    let mut text: String = shown.into_iter().map(|line| line + "\n").collect();
    let Some(answer) = answer else { return text };
    text.push('\n');
    text.push_str(&exchange::head(answer, masker, plain));
    match answer.size {
        ..=MAX_RESULT_BYTES => text.push_str(&events::readable(answer, masker, plain)),
        size => {
            let size = body::size(size);
            text.push_str(&format!("body of {size}; see its parts with `yieldtray log show --pick`\n"));
        }
    }
    text.push_str("\nrequest\n\n");
    text.push_str(&exchange::sent(answer, masker, plain));
    text.push_str(&exchange::timeline(answer, masker, plain, None));
    text
}

/// The summary of a result, in a line.
pub(super) fn summary(report: Option<&CellReport>) -> String {
    let Some(report) = report else { return "not sent: a required request did not pass".to_owned() };
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

/// Writes a document where the editor can open it: below the state folder, for its owner alone.
pub(super) fn write(root: &Path, file: &Path, name: &str, text: &str) -> Result<PathBuf, CommandError> {
    // A folder for each request file, under its own path: no two names can meet.
    let folder = StateFolder::open_or_make(root, state::key_file().as_deref())?.path().join("answers").join(file);
    std::fs::create_dir_all(&folder).context("cannot create a directory for responses")?;
    let plain = |text: &str| -> String {
        text.chars().map(|c| if c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | '+') { c } else { '-' }).collect()
    };
    // That of a whole file begins as no cell's name does.
    let name = if name.is_empty() { "+replay".to_owned() } else { plain(name) };
    let path = folder.join(format!("{name}.txt"));
    crate::files::replace_private(&path, text.as_bytes()).context("cannot write the response")?;
    Ok(path)
}
