//! The parts of sending one request: its plan, its parameters, and its result.

use super::RunObserver;
use crate::args::Needs;
use crate::error::CommandError;
use crate::output::Out;
use crate::output::waiting::WaitingLine;
use crate::project::state::{Cookies, PersistedState};
use crate::project::{Project, state};
use crate::prompt::Prompter;
use crate::run::recording::{Batch, LogRecorder, RecordEntry};
use std::borrow::Cow;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use yieldtray_engine::{CellReport, Event, ExitCode, Run, TokenReport};
use yieldtray_http::{ConversationMessage, StreamEvent};
use yieldtray_http::{Exchange, PreparedRequest};
use yieldtray_report::Entry;
use yieldtray_report::log::LoggedExchange;
use yieldtray_source::join_words;
use yieldtray_store::Store;
use yieldtray_transport::{Client, StoredCookie};
use yieldtray_workspace::plan::{Plan, Prerequisite, prerequisites};
use yieldtray_workspace::scope::Tray;
use yieldtray_workspace::{CellId, Workspace};

/// The cells to send, and the state they start from.
pub(crate) struct SendPlan {
    pub(crate) plan: Plan,
    pub(crate) kept: PersistedState,
}

impl SendPlan {
    /// Reads what is kept, and decides what goes before the cell.
    pub(crate) fn of(
        project: &mut Project,
        cell: CellId,
        needs: Needs,
        prompter: &dyn Prompter,
        out: &mut Out,
    ) -> Result<Self, CommandError> {
        // The plan with all needs loads every file that a kept value can come from.
        let all = Plan::new(&mut project.workspace, &[cell], true);
        let kept = state::read(project, out)?;
        let plan = plan(project, all, &kept.tray, cell, needs, prompter)?;
        Ok(Self { plan, kept })
    }
}

/// How one request is sent.
#[derive(Default)]
pub(crate) struct SendParams {
    /// More header fields, this time only.
    pub(crate) headers: Vec<(String, String)>,
    /// Where the body goes, and whether it is held all the same.
    pub(crate) file: Option<(PathBuf, bool)>,
    /// The request that goes out instead of the cell's, secrets masked.
    pub(crate) instead: Option<PreparedRequest>,
    /// The row it is sent for, where it has rows; else the first.
    pub(crate) row: Option<usize>,
    /// Whether the exchange is left out of the log.
    pub(crate) no_log: bool,
}

/// The result of sending a request.
pub(crate) struct SendResult<'s> {
    project: &'s Project,
    /// The run, which is over.
    pub(crate) run: Run<'s>,
    /// The response, if there is one.
    pub(crate) answer: Option<Exchange>,
    /// The report of the cell; `None` if a cell it needs did not pass.
    pub(crate) report: Option<CellReport>,
    /// The same of those that went before it.
    pub(crate) before: Vec<CellReport>,
    /// Tokens that were obtained.
    pub(crate) tokens: Vec<TokenReport>,
    /// Whether events of a stream were printed as they arrived.
    pub(crate) streamed: bool,
    client: Arc<Client>,
    cookies: Vec<StoredCookie>,
    store: Option<Store>,
    logbook: Option<LogRecorder>,
}

impl<'s> SendResult<'s> {
    /// A result from the reports that were collected.
    pub(super) fn new(
        project: &'s Project,
        run: Run<'s>,
        collector: ReportCollector<'_>,
        client: Arc<Client>,
        cookies: Vec<StoredCookie>,
        store: Option<Store>,
        logbook: Option<LogRecorder>,
    ) -> Self {
        let mut collector = collector;
        let (report, before) = (collector.report.take(), std::mem::take(&mut collector.before));
        let (tokens, streamed) = (std::mem::take(&mut collector.tokens), collector.streamed);
        drop(collector);
        let captured = report.as_ref().and_then(|report| report.captured.as_ref());
        let answer = captured.and_then(|captured| captured.answer.clone());
        Self { project, run, answer, report, before, tokens, streamed, client, cookies, store, logbook }
    }

    /// The exchange as the log keeps it.
    pub(crate) fn past(&self) -> Option<LoggedExchange<'_>> {
        let report = self.report.as_ref()?;
        let (run, seed) = (&self.run, self.project.random.seed());
        let entry = Cow::Owned(Entry::of(run.workspace(), report));
        Some(LoggedExchange::of(entry, report.captured.as_ref()?, &run.masker().hiding(), seed))
    }

    /// Keeps what was yielded and got, and logs what was sent. Gives the exit code and the number in the log.
    pub(crate) fn keep(mut self, out: &mut Out) -> io::Result<(ExitCode, Option<i64>)> {
        let cookies = Cookies { before: &self.cookies, after: &self.client.jar() };
        state::keep(self.project, &mut self.store, &self.run, Some(&cookies), out)?;
        let mut number = None;
        if let Some(logbook) = self.logbook {
            let mut logbook = logbook.with_store(self.store);
            let entries = self.before.iter().chain(&self.report).map(|report| RecordEntry::of(&self.run, report));
            logbook.write(&Batch::of(&self.run, entries.collect()));
            let last = logbook.end(out)?;
            number = last.filter(|_| self.report.is_some_and(|own| own.captured.is_some()));
        }
        Ok((self.run.summary().exit_code(), number))
    }
}

/// Collects the reports of a cell and of those before it.
pub(super) struct ReportCollector<'o> {
    cell: CellId,
    /// Where events of a stream are printed as they arrive.
    live: Option<&'o mut Out>,
    /// Whether any were.
    streamed: bool,
    /// The line while nothing happens, and what counts the bytes.
    waiting: Option<(WaitingLine, Arc<Client>)>,
    report: Option<CellReport>,
    before: Vec<CellReport>,
    tokens: Vec<TokenReport>,
}

impl<'o> ReportCollector<'o> {
    pub(super) fn new(cell: CellId, live: Option<&'o mut Out>, waiting: Option<(WaitingLine, Arc<Client>)>) -> Self {
        Self { cell, live, streamed: false, waiting, report: None, before: Vec::new(), tokens: Vec::new() }
    }

    fn clear_line(&mut self) -> io::Result<()> {
        self.waiting.as_mut().map_or(Ok(()), |(line, _)| line.clear())
    }
}

impl Drop for ReportCollector<'_> {
    fn drop(&mut self) {
        // Nothing may be left of it, whatever ended the run.
        let _ = self.clear_line();
    }
}

impl RunObserver for ReportCollector<'_> {
    fn wants_ticks(&self) -> bool {
        self.waiting.is_some()
    }

    fn on_tick(&mut self, run: &Run<'_>) -> io::Result<()> {
        let streamed = self.streamed;
        let Some((line, client)) = self.waiting.as_mut().filter(|_| !streamed) else { return Ok(()) };
        let name = run.progress().waits_for.map(|cell| &*run.workspace().cell(cell).name);
        line.draw(name.unwrap_or("the response"), client.received_bytes())
    }

    fn release_terminal(&mut self) -> io::Result<()> {
        self.clear_line()
    }

    fn on_message(&mut self, run: &Run<'_>, cell: CellId, message: &ConversationMessage) -> io::Result<()> {
        let Some(out) = self.live.as_mut().filter(|_| cell == self.cell) else { return Ok(()) };
        self.streamed = true;
        if let Some((line, _)) = &mut self.waiting {
            line.clear()?;
        }
        out.conversation_message(message, run.masker(), &run.workspace().cell(cell).name)
    }

    fn on_stream_events(&mut self, run: &Run<'_>, cell: CellId, events: &[StreamEvent]) -> io::Result<()> {
        let Some(out) = self.live.as_mut().filter(|_| cell == self.cell) else { return Ok(()) };
        self.streamed |= !events.is_empty();
        if let Some((line, _)) = &mut self.waiting {
            line.clear()?;
        }
        out.events(events, run.masker(), &run.workspace().cell(cell).name)
    }

    fn on_event(&mut self, _run: &Run<'_>, event: Event) -> io::Result<()> {
        match event {
            Event::CellFinished(own) if own.cell == self.cell => self.report = Some(*own),
            Event::CellFinished(need) => self.before.push(*need),
            Event::TokenObtained(got) => self.tokens.push(got),
            Event::RunStarted { .. } | Event::RunFinished(_) => {}
        }
        Ok(())
    }
}

/// The cells to send: this one alone, or with the prerequisites that provide its missing values.
fn plan(
    project: &mut Project,
    all: Plan,
    tray: &Tray,
    cell: CellId,
    needs: Needs,
    prompter: &dyn Prompter,
) -> Result<Plan, CommandError> {
    if needs == Needs::Never || (needs == Needs::Ask && !prompter.is_there()) {
        return Ok(Plan::new(&mut project.workspace, &[cell], false));
    }
    let Project { workspace, engine, settings, .. } = project;
    let links = prerequisites(workspace, engine, settings, tray, cell);
    if needs == Needs::Send {
        return Ok(if links.is_empty() { all } else { Plan::chained(workspace, &links, cell, true) });
    }
    if links.is_empty() || !prompter.confirm(&describe_prerequisites(workspace, &links), "Send them first", true)? {
        return Ok(Plan::new(workspace, &[cell], false));
    }
    Ok(Plan::chained(workspace, &links, cell, false))
}

/// The missing values, their providers, and the question.
fn describe_prerequisites(workspace: &Workspace, links: &[Prerequisite]) -> String {
    let name = |cell: &CellId| format!("`{}`", workspace.cell(*cell).name);
    // The cell's own missing values are sent last, but matter most.
    let reasons = links.iter().rev().map(|link| {
        format!("{} needs {}, which {} yields.", name(&link.to), join_words(&link.names), name(&link.cell))
    });
    let order = join_words(links.iter().map(|link| &*workspace.cell(link.cell).name));
    format!("{} Send {order} first?", reasons.collect::<Vec<_>>().join(" "))
}
