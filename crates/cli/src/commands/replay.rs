//! `replay`.

use super::touched::Touched;
use crate::args::{Common, Replay};
use crate::commands::replay_from_log::replay_from_log;
use crate::confirm::guard;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::cell::{CellLines, Columns, shown_name};
use crate::project::select::choose;
use crate::project::{Project, state};
use crate::prompt::Terminal;
use crate::run::printer::RunPrinter;
use crate::run::recording::{LogRecorder, RecordSinks, Recording, Reports};
use crate::run::service::{ReplayParams, ReplayResult, RunService};
use chrono::{DateTime, Utc};
use std::borrow::Cow;
use std::path::PathBuf;
use std::time::SystemTime;
use yieldtray_engine::{ExitCode, RunOptions};
use yieldtray_report::RunInfo;
use yieldtray_report::record::MAX_REPORTED_BODY;
use yieldtray_workspace::Workspace;
use yieldtray_workspace::plan::{Plan, Step};

/// Sends many requests in order and judges their checks.
pub(crate) fn replay(
    common: &Common,
    args: &Replay,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    replay_part(common, args, host, out, &mut WatchState::default())
}

/// State that a watched replay passes from one run to the next.
#[derive(Default)]
pub(crate) struct WatchState {
    /// The changes since the last run; `None` before the first one.
    pub(crate) touched: Option<Touched>,
    /// The files that responses of the last run were saved to, relative to the root.
    pub(crate) saved: Vec<PathBuf>,
    /// Whether what changed touched nothing.
    pub(crate) idle: bool,
    /// The guarded environment that somebody said may be changed.
    may_change: Option<String>,
}

/// The same, of what `part` says.
pub(crate) fn replay_part(
    common: &Common,
    args: &Replay,
    host: &HostFacts,
    out: &mut Out,
    part: &mut WatchState,
) -> Result<ExitCode, CommandError> {
    let Replay { choice, shard, times, jobs, fail_fast, report, yes, save_yields, from_log, no_log, watch: _ } = args;
    let shard = shard.as_deref().map(share).transpose()?;
    let (mut project, mut chosen) = choose(common, choice, host, out)?;
    if let Some(touched) = &part.touched {
        chosen = touched.of(&mut project.workspace, &chosen);
        part.idle = chosen.is_empty();
        if part.idle {
            return Ok(ExitCode::Success);
        }
        if !out.settings.json && !out.settings.quiet {
            out.say(&out.settings.error_styles.dim(&touched.describe()))?;
        }
    }
    let mut plan = Plan::new(&mut project.workspace, &chosen, true);
    if let Some((own, all)) = shard {
        plan = plan.shard(&project.workspace, &chosen, own, all);
    }
    let plan = plan.times(*times as usize);
    let environment = &project.settings.environment;
    if *from_log {
        let heading = project.heading();
        let lines = lines(&project, &plan, heading.base, out);
        return replay_from_log(&project, &Terminal::of(host), plan, *fail_fast, common.verbose, lines, out);
    }
    // A confirmation holds for later runs too.
    let changing = plan.unsafe_requests(&project.workspace);
    let prompter = Terminal::opening_pages(host, project.trust.allows());
    if guard(&project, &changing, *yes || (environment.is_some() && part.may_change == *environment), &prompter)? {
        part.may_change.clone_from(environment);
    }
    let heading = project.heading_of(plan.steps.iter().map(|step| step.cell));
    if project.reveal && !report.is_empty() {
        let hint = "omit one of the two: secrets are never written to files";
        return Err(CommandError::refused_with("`--reveal` cannot be combined with `--report`", hint));
    }
    let mut about = RunInfo::new(DateTime::<Utc>::from(SystemTime::now()), environment.clone(), heading.base.clone());
    about.shard = shard.map(|(own, all)| format!("{own}/{all}"));
    let reports = Reports::begin(report, |file| project.path_from_here(file), about)?;
    out.outlive_reader();
    let lines = lines(&project, &plan, heading.base.clone(), out);
    let logbook = LogRecorder::begin(&project, plan.steps.iter().map(|step| step.cell), !no_log);
    // Only reports and the log need exchanges, and only reports the time of connecting.
    let tells = reports.tell_exchanges();
    let run_options = RunOptions {
        fail_fast: *fail_fast,
        capture_limit: (tells || logbook.is_some()).then_some(MAX_REPORTED_BODY),
        reveal_secrets: project.reveal,
        ..RunOptions::default()
    };
    let audience = RunPrinter::new(out, lines, heading, &project.random, common.verbose);
    let sinks = RecordSinks { reports: reports.are_wanted().then_some(reports), logbook };
    let params = ReplayParams { plan, options: run_options, jobs: usize::from(*jobs), time_connecting: tells };
    let replayed = RunService::new(&project, &prompter).replay(params, Recording::new(audience, sinks))?;
    let ReplayResult { run, observer, elapsed, saved, outcome } = replayed;
    // Sent requests are logged, whatever ended the run.
    let (_, RecordSinks { reports, logbook }) = observer.end(&run);
    if let Err(error) = outcome {
        logbook.map(|logbook| logbook.end(out)).transpose()?;
        return Err(error);
    }
    part.saved = saved;
    // A file that cannot be read was not replayed.
    let mut code = run.summary().exit_code().max(project.unreadable_code());
    if let Some(mut reports) = reports {
        part.saved.extend(reports.below(&project.root));
        reports.end(&run, elapsed, project.random.seed_in_use());
        if !reports.finish(out)? {
            code = code.max(ExitCode::InvalidInput);
        }
    }
    out.seed(project.seed_to_tell(run.summary()))?;
    logbook.map(|logbook| logbook.end(out)).transpose()?;
    // It was asked for: where it does not work, the command did not.
    if *save_yields && !state::keep(&project, &mut None, &run, None, out)? {
        code = code.max(ExitCode::InvalidInput);
    }
    Ok(code)
}

/// The lines of a run of `plan`, as wide as the terminal.
fn lines<'w>(project: &'w Project, plan: &Plan, base: Option<String>, out: &Out) -> CellLines<'w> {
    let workspace = &project.workspace;
    let columns = Columns::new(plan.steps.iter().map(|step| written(workspace, step)), out.settings.width);
    CellLines { workspace, columns, styles: out.settings.styles, base }
}

/// `I/N` of `--shard`.
fn share(text: &str) -> Result<(u32, u32), CommandError> {
    let parts = text.split_once('/').and_then(|(own, all)| Some((own.parse().ok()?, all.parse().ok()?)));
    parts.filter(|(own, all)| (1..=*all).contains(own)).ok_or_else(|| {
        let hint = "write `--shard INDEX/COUNT`, for example `--shard 2/4`";
        CommandError::refused_with(format!("invalid shard `{text}`"), hint)
    })
}

/// A cell's name, method and target as written in its file: enough to align columns.
fn written<'w>(workspace: &'w Workspace, step: &Step) -> (Cow<'w, str>, &'w str, &'w str) {
    let cell = step.cell;
    let mut name = shown_name(workspace, cell, step.played.map(|played| played.sequence));
    if workspace.rows_file(cell).is_some() {
        name += " row 99";
    }
    let text = &workspace.source(cell.source).text;
    let own = workspace.cell(cell);
    let request = own.request.as_ref();
    let method = request.and_then(|request| request.method).map_or("GET", |method| method.of(text));
    (name, method, request.map_or("", |request| request.target.of(text)))
}
