//! Judges the current checks on logged responses. Nothing is sent.

use super::log::nothing_logged;
use crate::clock;
use crate::error::CommandError;
use crate::output::Out;
use crate::output::cell::{CellLines, shown_name};
use crate::output::data::age;
use crate::output::log::rfc3339;
use crate::output::table::count;
use crate::project::{Project, state};
use crate::prompt::Prompter;
use crate::run::RunObserver;
use crate::run::printer::RunPrinter;
use crate::run::response_source::{LoggedResponses, ResponseSource, UsedResponses};
use crate::run::service::RunService;
use serde_json::json;
use std::io::{self, Write};
use yieldtray_engine::{Event, ExitCode, Outcome, Run, RunOptions};
use yieldtray_source::join_words;
use yieldtray_workspace::plan::Plan;

/// Judges the cells of a plan. Gives the exit code of a replay with these results.
pub(super) fn replay_from_log(
    project: &Project,
    prompter: &dyn Prompter,
    plan: Plan,
    fail_fast: bool,
    verbose: bool,
    lines: CellLines<'_>,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let store = state::open_or_set_aside(project, out)?.ok_or_else(nothing_logged)?;
    let responses = LoggedResponses::new(project, store)?;
    let options = RunOptions { fail_fast, reveal_secrets: project.reveal, ..RunOptions::default() };
    let printer = RunPrinter::new(out, lines, project.heading(), &project.random, verbose);
    let mut observer = FromLogObserver { printer, responses: &responses, masked: Vec::new() };
    let run = RunService::new(project, prompter).judge_logged(plan, options, &responses, &mut observer)?;
    let masked = observer.masked;
    print_summary(responses.used(), &masked, out)?;
    Ok(run.summary().exit_code())
}

/// Prints what happens, and notes the cells that failed and whose responses hold masked secrets.
struct FromLogObserver<'o> {
    printer: RunPrinter<'o, 'o>,
    responses: &'o LoggedResponses<'o>,
    masked: Vec<String>,
}

impl RunObserver for FromLogObserver<'_> {
    fn on_event(&mut self, run: &Run<'_>, event: Event) -> io::Result<()> {
        if let Event::CellFinished(report) = &event
            && report.outcome == Outcome::Failed
            && self.responses.find(report.cell, report.row).is_some_and(|response| response.exchange.is_masked())
        {
            self.masked.push(shown_name(run.workspace(), report.cell, report.played_by).into_owned());
        }
        self.printer.on_event(run, event)
    }

    fn release_terminal(&mut self) -> io::Result<()> {
        self.printer.release_terminal()
    }
}

/// How many responses there were and how old they are, and which cells failed for want of a secret.
fn print_summary(used: UsedResponses, masked: &[String], out: &mut Out) -> Result<(), CommandError> {
    if out.settings.json {
        let (oldest, newest) = used.times.map(|(oldest, newest)| (rfc3339(oldest), rfc3339(newest))).unzip();
        let event = json!({ "event": "from-log", "responses": used.count, "oldest": oldest, "newest": newest });
        writeln!(out.result(), "{event}")?;
        return Ok(());
    }
    let now = clock::now_millis();
    let ages = used.times.map(|(oldest, newest)| (age((now - oldest) / 1_000), age((now - newest) / 1_000)));
    let ages = match ages {
        Some((oldest, newest)) if oldest == newest => format!(", from {oldest}"),
        Some((oldest, newest)) => format!(", the oldest from {oldest}, the newest from {newest}"),
        None => String::new(),
    };
    let message = format!("nothing was sent; used {} from the log{ages}", count(used.count, "response", "responses"));
    let message = out.settings.styles.warn(&message);
    writeln!(out.result(), "{message}")?;
    if !masked.is_empty() {
        let message = format!(
            "secrets are masked in the log, so checks that read them cannot be evaluated ({})",
            join_words(masked).replace('`', "")
        );
        out.say(&out.settings.error_styles.dim(&message))?;
    }
    Ok(())
}
