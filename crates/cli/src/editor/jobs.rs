//! Jobs of the editor: sending, judging, replaying.

use super::host;
use crate::args::{Common, Needs};
use crate::confirm::guard;
use crate::editor::prompter::{DefaultAnswers, EditorPrompter};
use crate::editor::result_document;
use crate::error::CommandError;
use crate::export::ExportOptions;
use crate::output::Out;
use crate::output::cell::{CellLines, Columns, shown_name, summary};
use crate::output::data::age;
use crate::project::disk::Disk;
use crate::project::trust::Trust;
use crate::project::{Project, state};
use crate::run::RunObserver;
use crate::run::recording::{LogRecorder, RecordSinks, Recording};
use crate::run::response_source::{LoggedResponse, SingleResponse};
use crate::run::send_one::{SendParams, SendPlan};
use crate::run::service::{ReplayParams, ReplayResult, RunService};
use crate::settings::OutputSettings;
use crate::styles::Styles;
use crate::{clock, export};
use anyhow::Context;
use std::io;
use std::path::PathBuf;
use std::rc::Rc;
use std::sync::{Arc, Mutex};
use yieldtray_engine::{CellReport, CheckPart, Event, ExitCode, Outcome, Run, RunOptions};
use yieldtray_expression::Value;
use yieldtray_lsp::{Finding, Job, JobResult, JobUi, Overlay, Task};
use yieldtray_report::record::MAX_REPORTED_BODY;
use yieldtray_source::{SourceId, Span};
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::{CellId, Workspace};

/// The workspace of a job as the editor has it, and the file that it is about.
fn open(common: &Common, job: &Job, out: &mut Out) -> Result<(Project, SourceId), CommandError> {
    let trust = Trust::default();
    let disk = Disk::new(&job.root, &trust).with_context(|| format!("cannot open `{}`", job.root.display()))?;
    let open = Arc::new(Mutex::new(job.unsaved.clone()));
    let files = Overlay { disk: Box::new(disk), root: job.root.clone(), open, runs: true };
    let mut project = Project::over(Box::new(files), trust, job.root.clone(), job.root.clone(), common, &host(), out)?;
    project.check_choice()?;
    project.settings.set.extend(job.answers.iter().map(|(name, answer)| (name.clone(), Value::infer(answer))));
    let source = project.workspace.load(&job.file)?;
    Ok((project, source))
}

fn named(project: &Project, source: SourceId, name: &str) -> Result<CellId, CommandError> {
    let cell = project.workspace.cell_named(source, name);
    cell.ok_or_else(|| CommandError::refused(format!("the request `{name}` no longer exists")))
}

/// A cell as code or in a format.
pub(super) fn export(common: &Common, job: &Job, name: &str, target: &str) -> Result<String, CommandError> {
    let mut out = Out::new(OutputSettings::resolve(common, &host()));
    let manner = ExportOptions { target: export::named(target)?, with_values: true, whole: false };
    let (mut project, source) = open(common, job, &mut out)?;
    let cell = named(&project, source, name)?;
    Ok(export::export_cells(&mut project, &[cell], manner, &mut out)?.text)
}

pub(super) fn run_job(common: &Common, job: &Job, ui: &dyn JobUi) -> Result<JobResult, CommandError> {
    let mut out = Out::new(OutputSettings::resolve(common, &host()));
    let (mut project, source) = open(common, job, &mut out)?;
    let prompter = EditorPrompter { ui, trust: project.trust.clone() };
    project.offer_to_allow(common, &prompter)?;
    match &job.task {
        Task::Send { cell: name, needs } => {
            let cell = named(&project, source, name)?;
            let needs = if *needs { Needs::Send } else { Needs::Ask };
            send(job, &mut project, cell, needs, &prompter, &mut out)
        }
        Task::Judge { cell: name } => {
            let cell = named(&project, source, name)?;
            judge(job, &mut project, cell, &mut out)
        }
        Task::Replay => replay(job, &mut project, source, &prompter, ui, &mut out),
    }
}

fn send(
    job: &Job,
    project: &mut Project,
    cell: CellId,
    needs: Needs,
    prompter: &EditorPrompter<'_>,
    out: &mut Out,
) -> Result<JobResult, CommandError> {
    let prelude = SendPlan::of(project, cell, needs, prompter, out)?;
    guard(project, &prelude.plan.unsafe_requests(&project.workspace), false, prompter)?;
    let project = &*project;
    let done = RunService::new(project, prompter).send_one(prelude, cell, SendParams::default(), false, None)?;
    if done.run.summary().interrupted && done.report.is_none() && done.before.is_empty() {
        return Err(CommandError::Interrupted);
    }
    let text = result_document::of_sent(project, cell, &done);
    let name = project.workspace.cell(cell).name.to_string();
    let document = result_document::write(&job.root, &job.file, &name, &text)?;
    let report = done.report.as_ref();
    let summary = result_document::summary(report);
    let findings = done.before.iter().chain(report).flat_map(|report| findings(&project.workspace, report)).collect();
    let success = report.is_some_and(|report| report.outcome == Outcome::Passed);
    let judged =
        done.before.iter().map(|report| path(&project.workspace, report.cell.source)).chain([job.file.clone()]);
    let judged = judged.collect();
    done.keep(out)?;
    Ok(JobResult { document: Some(document), summary, success, findings, judged })
}

/// Judges the current checks on the last logged response.
fn judge(job: &Job, project: &mut Project, cell: CellId, out: &mut Out) -> Result<JobResult, CommandError> {
    let store = state::open_or_set_aside(project, out)?;
    let name = project.workspace.cell(cell).name.to_string();
    let nothing = || CommandError::refused(format!("the log has no response to `{name}`: send it first"));
    let store = store.ok_or_else(nothing)?;
    let file = project.workspace.shown_path(cell.source);
    let last = store.last_answers(state::environment(&project.settings))?;
    let newest =
        last.iter().filter(|((own, cell, _), _)| *own == file && *cell == name).map(|(_, number)| *number).max();
    let number = newest.ok_or_else(nothing)?;
    let (listed, payload) = store.exchange(number)?.ok_or_else(nothing)?;
    let logged = LoggedResponse::read(&listed, payload).map_err(|_| nothing())?;
    let answer = logged.exchange.exchange().ok_or_else(nothing)?;
    let response = SingleResponse(Rc::new(logged));
    let plan = Plan::new(&mut project.workspace, &[cell], false);
    let tray = state::tray(&store, &project.workspace, state::environment(&project.settings))?;
    let project = &*project;
    let options = RunOptions { tray, first_row_only: true, ..RunOptions::default() };
    let mut first = FirstReport(None);
    let run = RunService::new(project, &DefaultAnswers).judge_logged(plan, options, &response, &mut first)?;
    let report = first.0.ok_or_else(nothing)?;
    let old = age((clock::now_millis() - listed.summary.at) / 1_000);
    let text = result_document::of_judged(project, &run, &report, &answer, &old);
    let document = result_document::write(&job.root, &job.file, &name, &text)?;
    let summary = format!("{} · nothing was sent; response from {old}", result_document::summary(Some(&report)));
    let findings = findings(&project.workspace, &report);
    let success = report.outcome == Outcome::Passed;
    Ok(JobResult { document: Some(document), summary, success, findings, judged: vec![job.file.clone()] })
}

/// The first report of a run.
struct FirstReport(Option<CellReport>);

impl RunObserver for FirstReport {
    fn on_event(&mut self, _run: &Run<'_>, event: Event) -> io::Result<()> {
        if let (Event::CellFinished(report), None) = (event, &self.0) {
            self.0 = Some(*report);
        }
        Ok(())
    }
}

fn replay(
    job: &Job,
    project: &mut Project,
    source: SourceId,
    prompter: &EditorPrompter<'_>,
    ui: &dyn JobUi,
    out: &mut Out,
) -> Result<JobResult, CommandError> {
    let cells: Vec<CellId> = project.workspace.cells(source).collect();
    let plan = Plan::new(&mut project.workspace, &cells, true);
    guard(project, &plan.unsafe_requests(&project.workspace), false, prompter)?;
    let project = &*project;
    let heading = project.heading();
    let logbook = LogRecorder::begin(project, plan.steps.iter().map(|step| step.cell), true);
    let all = plan.steps.len();
    let capture_limit = logbook.is_some().then_some(MAX_REPORTED_BODY);
    let options = RunOptions { capture_limit, ..RunOptions::default() };
    let params = ReplayParams { plan, options, jobs: 1, time_connecting: false };
    let sinks = RecordSinks { logbook, reports: None };
    let observer = Recording::new(ReplayCollector { ui, all, reports: Vec::new() }, sinks);
    let ReplayResult { run, observer, elapsed, outcome, saved: _ } =
        RunService::new(project, prompter).replay(params, observer)?;
    let (collector, sinks) = observer.end(&run);
    let reports = collector.reports;
    sinks.logbook.map(|log| log.end(out)).transpose()?;
    outcome?;
    let workspace = &project.workspace;
    let columns = Columns::new(
        reports.iter().map(|report| {
            (shown_name(workspace, report.cell, report.played_by), report.method.as_str(), report.url.as_str())
        }),
        None,
    );
    let lines = CellLines { workspace, columns, styles: Styles::new(false), base: heading.base.clone() };
    let mut text = format!("{}\n", heading.text(Styles::new(false)));
    let mut file = None;
    for report in &reports {
        if file.replace(report.cell.source) != Some(report.cell.source) {
            text.push_str(&format!("{}\n", workspace.shown_path(report.cell.source)));
        }
        lines.cell(report).iter().for_each(|line| text.push_str(&format!("{line}\n")));
        for problem in &report.problems {
            text.push_str(&crate::output::problems::snippet(workspace, problem, Styles::new(false)));
        }
    }
    let last = summary(run.summary(), elapsed, Styles::new(false));
    text.push_str(&format!("{last}\n"));
    let document = result_document::write(&job.root, &job.file, "", &text)?;
    let findings = reports.iter().flat_map(|report| findings(workspace, report)).collect();
    let mut judged: Vec<PathBuf> = reports.iter().map(|report| path(workspace, report.cell.source)).collect();
    judged.dedup();
    Ok(JobResult {
        document: Some(document),
        summary: last,
        success: run.summary().exit_code() == ExitCode::Success,
        findings,
        judged,
    })
}

/// Collects the report of each cell, and reports progress.
struct ReplayCollector<'t> {
    ui: &'t dyn JobUi,
    all: usize,
    reports: Vec<CellReport>,
}

impl RunObserver for ReplayCollector<'_> {
    fn on_event(&mut self, run: &Run<'_>, event: Event) -> io::Result<()> {
        if let Event::CellFinished(mut report) = event {
            // The exchange is in the log by now.
            report.captured = None;
            let name = shown_name(run.workspace(), report.cell, report.played_by).into_owned();
            self.reports.push(*report);
            self.ui.progress(&format!("{} of {}: {name}", self.reports.len(), self.all));
        }
        Ok(())
    }
}

fn path(workspace: &Workspace, source: SourceId) -> PathBuf {
    workspace.source(source).path.clone()
}

/// The checks and yields of a cell that failed, at their lines.
fn findings(workspace: &Workspace, report: &CellReport) -> Vec<Finding> {
    let place = |source: SourceId, span: Span| {
        let text = workspace.source(source);
        (path(workspace, source), text.place(span.start()).line, span.of(&text.text).to_owned())
    };
    let checks = report.failures.iter().map(|failure| {
        let (file, line, text) = place(failure.source, failure.span);
        let parts = failure.parts.iter().map(|CheckPart { text, value, .. }| match value {
            Ok(value) => format!("{text} is {value}"),
            Err(why) => format!("{text} has no value: {why}"),
        });
        let notes = failure.notes.iter().chain(&failure.hint).cloned();
        // Many editors show the first line alone, so it has the reason.
        let why = parts.chain(notes).collect::<Vec<_>>().join("\n");
        Finding { file, line, text, message: format!("failed for `{}`: {why}", workspace.cell(report.cell).name) }
    });
    let yields = report.yields.iter().filter_map(|taken| {
        let why = taken.value.as_ref().err()?;
        let (file, line, text) = place(taken.source, taken.span);
        Some(Finding { file, line, text, message: format!("`{}` was not yielded: {why}", taken.name) })
    });
    checks.chain(yields).collect()
}
