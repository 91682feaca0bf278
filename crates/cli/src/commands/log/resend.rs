//! A past request, sent once more.

use super::compare::comparing;
use super::show::cell_of;
use super::{one, opened};
use crate::args::{Common, LogResend, Needs};
use crate::commands::send::{self, Showing};
use crate::confirm::guard;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::comparison::ComparedExchange;
use crate::output::{Out, comparison};
use crate::project::{Project, state};
use crate::prompt::{Prompter, Terminal};
use crate::run::send_one::{SendParams, SendPlan};
use crate::run::service::RunService;
use yieldtray_engine::ExitCode;
use yieldtray_report::log::{compare, restore_secrets};
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::secret::Masker;

/// Sends it, shows the response, and the differences from the logged one.
pub(super) fn resend(
    common: &Common,
    args: LogResend,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let LogResend { number, exactly, display, comparing: options, yes } = args;
    let how = comparing(&options)?;
    let (listed, past) = {
        let project = Project::open_any(common, host, out, &[])?;
        one(&opened(&project, out)?, Some(number))?
    };
    // It goes where it went then, unless somebody says otherwise.
    let mut common = common.clone();
    if common.env.is_empty() && !listed.summary.environment.is_empty() {
        common.env.push(listed.summary.environment.clone());
    }
    if exactly && common.seed.is_none() {
        // Checks may expect the values generated then.
        common.seed = Some(past.seed);
    }
    let mut project = Project::open_to_evaluate(&common, host, out, &[])?;
    let prompter = Terminal::opening_pages(host, project.trust.allows());
    let mut found = cell_of(&mut project, &past.entry);
    // A request that is sent as logged needs its file only for masked secrets.
    if let (true, Some(cell), Some(then)) = (exactly, found, past.prepared())
        && restore_secrets(then, None, &Masker::default()).is_ok()
        && !can_be_made(&mut project, &prompter, cell, out)?
    {
        found = None;
    }
    let (cell, exactly) = match found {
        Some(cell) => (cell, exactly),
        None if exactly || !past.entry.file.ends_with(".http") => {
            // Its cell is gone: sending it as logged is the only way.
            let method = past.entry.method.as_deref().unwrap_or("GET");
            (project.take_text("the log", format!("{method} http://log/"))?, true)
        }
        None => {
            let message = format!("`{}` no longer contains a request named `{}`", past.entry.file, past.entry.name);
            return Err(CommandError::refused_with(message, "use `--exactly` to send the logged request"));
        }
    };
    send::refuse_sequence(&project, cell)?;
    let instead = match exactly {
        true if past.was_redirected() => {
            let message = format!("exchange {number} was redirected, and only its last request is logged");
            return Err(CommandError::refused_with(message, "omit `--exactly` to send the request as its file is now"));
        }
        true => Some(past.prepared().ok_or_else(|| CommandError::refused("this request is not in the log"))?),
        false => None,
    };
    send::print_header(out, &project, cell)?;
    // As it was sent then it is sent even if its row is gone.
    let row = past.entry.row.filter(|row| !exactly || project.workspace.has_row(cell, *row));
    let prelude = SendPlan::of(&mut project, cell, Needs::Ask, &prompter, out)?;
    let mut changing = prelude.plan.unsafe_requests(&project.workspace);
    // Its file may have another method for it now.
    let then = instead.as_ref().map(|request| (cell, request.method.clone()));
    changing.extend(then.filter(|own| changes_things(&own.1) && !changing.contains(own)));
    guard(&project, &changing, yes, &prompter)?;
    let params = SendParams { instead, row, ..SendParams::default() };
    let done = RunService::new(&project, &prompter).send_one(prelude, cell, params, false, None)?;
    let now = done.past().and_then(|past| past.exchange());
    let differences = past.exchange().zip(now).map(|(then, now)| compare(&then, &now, &how));
    let then = ComparedExchange::of(&listed);
    let data =
        differences.as_ref().filter(|_| out.settings.json).map(|found| comparison::diff_from_logged_data(&then, found));
    let showing = Showing { display: &display, file: None, then: data };
    send::show(&project, cell, &done, &showing, host, out)?;
    if let Some(found) = differences.as_ref().filter(|_| !out.settings.json) {
        for line in comparison::diff_from_logged(&then, found, out.settings.error_styles, out.settings.width) {
            out.say(&line)?;
        }
    }
    out.flush()?;
    Ok(done.keep(out)?.0)
}

/// Whether the request of a cell can be made as its file and its values are now.
fn can_be_made(
    project: &mut Project,
    prompter: &dyn Prompter,
    cell: CellId,
    out: &mut Out,
) -> Result<bool, CommandError> {
    let plan = Plan::new(&mut project.workspace, &[cell], false);
    let tray = state::read(project, out)?.tray;
    Ok(RunService::new(project, prompter).can_prepare(plan, tray))
}

/// Whether a method is one that changes things (RFC 9110 9.2.1).
fn changes_things(method: &str) -> bool {
    !["GET", "HEAD", "OPTIONS", "TRACE"].contains(&method)
}
