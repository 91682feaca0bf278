//! Shows a logged exchange as if it was just received.

use super::{one, opened};
use crate::args::{Common, LogShow};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::answer::ResponseView;
use crate::output::log::{data, explained, introduction};
use crate::output::{Out, exchange};
use crate::project::Project;
use std::io::Write;
use std::path::Path;
use yieldtray_engine::{ExitCode, RunOptions};
use yieldtray_http::Exchange;
use yieldtray_report::Entry;
use yieldtray_report::log::LoggedExchange;
use yieldtray_store::log::NumberedExchange;
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::secret::Masker;

/// Shows one exchange.
pub(super) fn show(common: &Common, args: &LogShow, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let mut project = Project::open_any(common, host, out, &[])?;
    let store = opened(&project, out)?;
    let (listed, past) = one(&store, args.number)?;
    let answer = past.exchange();
    // Nothing secret is in the log.
    let masker = Masker::default();
    if out.settings.json {
        let document = document(&listed, &past, answer.as_ref());
        writeln!(out.result(), "{document}")?;
        return Ok(ExitCode::Success);
    }
    if !out.settings.quiet {
        out.say(&introduction(&listed, &past, out.settings.error_styles))?;
        if let Some(answer) = &answer {
            out.say(&exchange::status_line(answer, &masker, out.settings.error_styles))?;
        }
    }
    if let Some(answer) = &answer {
        let shown = ResponseView {
            answer,
            masker: &masker,
            in_file: false,
            is_graphql: answer.media_type() == yieldtray_http::GRAPHQL_MEDIA_TYPE,
        };
        match &args.display.pick {
            Some(expression) => out.picked(&pick(&mut project, &past.entry, &shown, expression)?)?,
            None => out.response(&shown, &args.display, host)?,
        }
    }
    if !out.settings.quiet {
        out.messages(&explained(&past.entry, out.settings.error_styles))?;
    }
    Ok(ExitCode::Success)
}

/// One expression, seen from the cell if its file still has it, else from a request of no file.
fn pick(
    project: &mut Project,
    entry: &Entry<'_>,
    shown: &ResponseView<'_>,
    expression: &str,
) -> Result<String, CommandError> {
    let cell =
        cell_of(project, entry).map_or_else(|| project.take_text("the log", "GET http://log/".to_owned()), Ok)?;
    let plan = Plan::new(&mut project.workspace, &[cell], false);
    let run = project.run(plan, RunOptions::default());
    shown.pick(&run, cell, expression)
}

/// The cell of an exchange, if its file still has it.
pub(super) fn cell_of(project: &mut Project, entry: &Entry<'_>) -> Option<CellId> {
    if !project.root.join(&entry.file).is_file() {
        return None;
    }
    let source = project.workspace.load(Path::new(&entry.file)).ok()?;
    project.workspace.cell_named(source, &entry.name)
}

/// The data of the list, the cell as `replay` prints it, and the exchange as `send` does.
fn document(listed: &NumberedExchange, past: &LoggedExchange<'_>, answer: Option<&Exchange>) -> serde_json::Value {
    use crate::output::data::{request, response};
    let mut document = data(listed);
    document["cell"] = serde_json::json!(past.entry);
    if let Some(prepared) = past.prepared() {
        document["request"] = request(&prepared, &Masker::default());
    }
    if let Some(answer) = answer {
        document["response"] = response(answer, &Masker::default());
    }
    for (part, held) in [("request", &past.sent), ("response", &past.received)] {
        if let Some(digest) = &held.digest {
            document[part]["body_blake3"] = digest.as_str().into();
        }
    }
    document
}
