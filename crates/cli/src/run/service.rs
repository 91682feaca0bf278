//! Runs of commands and of the editor: sending one request, replaying many, preparing without sending, and judging
//! logged responses. Nothing else in the program drives a run.

use super::response_source::ResponseSource;
use super::send_one::{ReportCollector, SendParams, SendPlan, SendResult};
use super::{ClientPool, ResponseFiles, RunObserver, drive, emit};
use crate::error::CommandError;
use crate::output::Out;
use crate::output::waiting::WaitingLine;
use crate::project::Project;
use crate::project::state::PersistedState;
use crate::prompt::Prompter;
use crate::run::client_options::options;
use crate::run::recording::LogRecorder;
use std::path::PathBuf;
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};
use yieldtray_engine::{Event, Next, Run, RunOptions};
use yieldtray_http::PreparedRequest;
use yieldtray_source::Problem;
use yieldtray_transport::{Client, Options};
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::scope::Tray;

/// Why a cell without a response in the log is skipped.
const NOT_LOGGED: &str = "the log has no response to it";

/// Runs requests of a project.
pub(crate) struct RunService<'p> {
    project: &'p Project,
    prompter: &'p dyn Prompter,
}

/// The parameters of [`RunService::replay`].
pub(crate) struct ReplayParams<'p> {
    /// The cells in their order.
    pub(crate) plan: Plan,
    /// How they run.
    pub(crate) options: RunOptions<'p>,
    /// How many requests may be under way at once.
    pub(crate) jobs: usize,
    /// Whether the time that connecting takes is measured, which costs a little for each request.
    pub(crate) time_connecting: bool,
}

/// A run of many requests that is over.
pub(crate) struct ReplayResult<'p, O> {
    /// The run.
    pub(crate) run: Run<'p>,
    /// Its observer.
    pub(crate) observer: O,
    /// How long it took.
    pub(crate) elapsed: Duration,
    /// The files that response bodies were saved to, relative to the workspace's folder.
    pub(crate) saved: Vec<PathBuf>,
    /// Why it ended early, if it did.
    pub(crate) outcome: Result<(), CommandError>,
}

/// A request that was prepared and not sent.
pub(crate) struct PrepareResult<'p> {
    /// The run that prepared it.
    pub(crate) run: Run<'p>,
    /// The request with its cookies; `None` if it cannot be made.
    pub(crate) request: Option<Arc<PreparedRequest>>,
    /// Errors and warnings.
    pub(crate) problems: Vec<Problem>,
}

impl<'p> RunService<'p> {
    /// A service for this project, which asks this prompter.
    pub(crate) fn new(project: &'p Project, prompter: &'p dyn Prompter) -> Self {
        Self { project, prompter }
    }

    /// Sends a cell, and before it those of its plan. A long download shows its progress if `progress_bar`. Events of a stream are printed
    /// to `live` as they arrive.
    pub(crate) fn send_one(
        &self,
        plan: SendPlan,
        cell: CellId,
        params: SendParams,
        progress_bar: bool,
        live: Option<&mut Out>,
    ) -> Result<SendResult<'p>, CommandError> {
        let project = self.project;
        let SendPlan { plan, kept: PersistedState { tray, tokens, jar, store } } = plan;
        let log = LogRecorder::begin(project, plan.steps.iter().map(|step| step.cell), !params.no_log);
        let run_options = RunOptions {
            row_of_cell: params.row.map(|row| (cell, row)),
            headers: Some((cell, params.headers)),
            capture_limit: Some(u64::MAX),
            tokens,
            ..self.single(tray)
        };
        let mut run = project.run(plan, run_options);
        let cookies = jar.stored();
        let client = Arc::new(Client::new(options(project)?).with_jar(jar));
        let files = ResponseFiles {
            out: params.file.map(|(file, held)| (cell, file, held)),
            speaks: live.as_ref().filter(|_| self.prompter.is_there()).map(|_| cell),
            bar: progress_bar,
            instead: params.instead.map(|prepared| (cell, prepared)),
            ..ResponseFiles::of(project)
        };
        let waiting = progress_bar && files.out.is_none();
        let waiting = waiting.then(|| (WaitingLine::new(), Arc::clone(&client)));
        let mut collector = ReportCollector::new(cell, live, waiting);
        let mut clients = ClientPool::one(Arc::clone(&client));
        drive(&mut run, &mut clients, &files, 1, self.prompter, &mut collector)?;
        Ok(SendResult::new(project, run, collector, client, cookies, store, log))
    }

    /// Sends the cells of a plan.
    pub(crate) fn replay<O: RunObserver>(
        &self,
        params: ReplayParams<'p>,
        mut observer: O,
    ) -> Result<ReplayResult<'p, O>, CommandError> {
        let ReplayParams { plan, options: run_options, jobs, time_connecting } = params;
        let mut run = self.project.run(plan, run_options);
        let client = Client::new(Options { time_connecting, ..options(self.project)? });
        let files = ResponseFiles::of(self.project);
        let began = Instant::now();
        let mut clients = ClientPool::each(client);
        let outcome = drive(&mut run, &mut clients, &files, jobs, self.prompter, &mut observer);
        let elapsed = began.elapsed();
        let saved = files.saved.into_inner().unwrap_or_else(PoisonError::into_inner);
        Ok(ReplayResult { run, observer, elapsed, saved, outcome })
    }

    /// Judges the checks of the cells of a plan on responses that were received before. Nothing is sent.
    pub(crate) fn judge_logged<'r>(
        &self,
        plan: Plan,
        options: RunOptions<'r>,
        responses: &'r dyn ResponseSource,
        observer: &mut impl RunObserver,
    ) -> Result<Run<'r>, CommandError>
    where
        'p: 'r,
    {
        // A check that expects a random value holds only with the seed of that time.
        let seeds = |cell, row| responses.find(cell, row).map(|response| response.exchange.seed);
        let mut run = self.project.run(plan, RunOptions { logged_seeds: Some(Box::new(seeds)), ..options });
        loop {
            let next = run.next();
            let is_last = matches!(next, Some(Next::Wait | Next::Authorize(_) | Next::Pause(_)) | None);
            match next {
                Some(Next::Send(ready)) => {
                    let response = responses.find(ready.cell, ready.row);
                    if let Some(response) = &response {
                        responses.note_used(response);
                    }
                    match response.and_then(|response| response.exchange.exchange()) {
                        Some(exchange) => run.complete(ready, Ok(exchange)),
                        None => run.skip(ready, NOT_LOGGED),
                    }
                }
                Some(Next::Ask(question)) => {
                    observer.release_terminal()?;
                    let value = self.prompter.ask(&question)?;
                    run.answer(&question, value);
                }
                _ => {}
            }
            emit(&mut run, observer)?;
            if is_last {
                return Ok(run);
            }
        }
    }

    /// Prepares the request of a cell as it would be sent.
    pub(crate) fn prepare_only(
        &self,
        plan: SendPlan,
        cell: CellId,
        headers: Vec<(String, String)>,
    ) -> Result<PrepareResult<'p>, CommandError> {
        let SendPlan { plan, kept: PersistedState { tray, tokens, jar, store: _ } } = plan;
        let run_options = RunOptions { dry_run: true, headers: Some((cell, headers)), tokens, ..self.single(tray) };
        let mut run = self.project.run(plan, run_options);
        let ready = loop {
            match run.next() {
                Some(Next::Ask(question)) => {
                    let value = self.prompter.ask(&question)?;
                    run.answer(&question, value);
                }
                Some(Next::Send(ready)) => break Some(ready),
                Some(Next::Authorize(_) | Next::Pause(_) | Next::Wait) | None => break None,
            }
        };
        let mut problems = Vec::new();
        for event in run.events() {
            if let Event::CellFinished(report) = event {
                problems.extend(report.problems);
            }
        }
        let request = match ready {
            Some(ready) => {
                problems.extend(ready.problems().iter().cloned());
                let client = Client::new(options(self.project)?).with_jar(jar);
                Some(client.completed(&ready.prepared).map_err(|error| CommandError::refused(error.to_string()))?)
            }
            None => None,
        };
        Ok(PrepareResult { run, request, problems })
    }

    /// Whether the request of a cell can be prepared from its file and its values as they are now. Nobody is asked.
    pub(crate) fn can_prepare(&self, plan: Plan, tray: Tray) -> bool {
        let next = self.project.run(plan, RunOptions { dry_run: true, ..self.single(tray) }).next();
        next.is_some_and(|next| matches!(next, Next::Send(_) | Next::Ask(_)))
    }

    /// The options of a run that is about one cell.
    fn single(&self, tray: Tray) -> RunOptions<'p> {
        RunOptions {
            fail_fast: true,
            first_row_only: true,
            reveal_secrets: self.project.reveal,
            tray,
            ..RunOptions::default()
        }
    }
}
