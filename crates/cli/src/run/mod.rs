//! Drives a run of core over the network.

pub(crate) mod authorization;
mod cancel;
pub(crate) mod client_options;
mod client_pool;
mod converse;
mod download;
mod in_flight;
pub(crate) mod printer;
mod receiving;
pub(crate) mod recording;
pub(crate) mod response_source;
pub(crate) mod send_one;
pub(crate) mod service;
mod spin_wait;
mod task;

use crate::error::CommandError;
use crate::interrupt::Interrupts;
use crate::project::Project;
use crate::prompt::Prompter;
use anyhow::Context;
use authorization::Authorization;
use client_pool::ClientPool;
use futures_util::FutureExt;
use in_flight::{Driver, InFlight};
use spin_wait::SpinWait;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use task::{Task, TaskResult};
use tokio::sync::Notify;
use yieldtray_engine::{ConversationEvent, ConversationStep, Event, Next, Question, ReadyRequest, Run};
use yieldtray_http::{ConversationMessage, PreparedRequest, StreamEvent};
use yieldtray_report::log::restore_secrets;
use yieldtray_workspace::CellId;

/// Where bodies are written, beside what `% save` says.
struct ResponseFiles<'s> {
    /// The workspace's folder, which the files of `% save` are relative to.
    root: &'s Path,
    /// How many bytes `% save` writes at most.
    save_limit: u64,
    /// A file for the body of one cell's response, and whether the body is held in memory too.
    out: Option<(CellId, PathBuf, bool)>,
    /// The cell whose conversation a person may lead, if it has no script.
    speaks: Option<CellId>,
    /// Whether a long download shows how far it is.
    bar: bool,
    /// The files that were saved, relative to the workspace's folder.
    saved: Mutex<Vec<PathBuf>>,
    /// A request that goes out instead of that of a cell, with the secrets of that one where it is masked.
    instead: Option<(CellId, PreparedRequest)>,
}

/// How many bytes `% save` writes where nothing else is said.
const DEFAULT_SAVE_LIMIT_BYTES: u64 = 1 << 30;

impl<'s> ResponseFiles<'s> {
    /// Only what `% save` says.
    fn of(project: &'s Project) -> Self {
        let settings = project.workspace.config.send_settings(project.settings.environment.as_deref());
        let save_limit = settings.save_limit.unwrap_or(DEFAULT_SAVE_LIMIT_BYTES);
        Self {
            root: &project.root,
            save_limit,
            out: None,
            speaks: None,
            bar: false,
            saved: Mutex::default(),
            instead: None,
        }
    }
}

/// Observes a run.
pub(crate) trait RunObserver {
    /// Gets what happens, in the order of the plan.
    fn on_event(&mut self, run: &Run<'_>, event: Event) -> io::Result<()>;

    /// Gets events of a stream as they arrive.
    fn on_stream_events(&mut self, _run: &Run<'_>, _cell: CellId, _events: &[StreamEvent]) -> io::Result<()> {
        Ok(())
    }

    /// Gets a message of a conversation when it was sent or received.
    fn on_message(&mut self, _run: &Run<'_>, _cell: CellId, _message: &ConversationMessage) -> io::Result<()> {
        Ok(())
    }

    /// True if it wants ticks while nothing happens.
    fn wants_ticks(&self) -> bool {
        false
    }

    /// Shows how far a run is; said now and then.
    fn on_tick(&mut self, _run: &Run<'_>) -> io::Result<()> {
        Ok(())
    }

    /// Somebody else writes next.
    fn release_terminal(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// The interval of ticks.
const TICK: Duration = Duration::from_millis(100);

/// Polls of the runtime until the first request is sent: its connection has to be made.
const YIELDS_TO_CONNECT: usize = 4;

/// Sends what `run` has ready, at most `jobs` requests at a time, and hands on what happens. Ctrl-C ends
/// the run in good order; a second one ends it at once.
fn drive(
    run: &mut Run<'_>,
    senders: &mut ClientPool,
    saving: &ResponseFiles<'_>,
    jobs: usize,
    prompter: &dyn Prompter,
    audience: &mut impl RunObserver,
) -> Result<(), CommandError> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().context("cannot start")?;
    let in_flight = InFlight::new(runtime);
    let in_flight = &in_flight;
    let _context = in_flight.runtime().enter();
    std::thread::scope(|scope| {
        // With a single request, nothing is computed while its response may arrive.
        let mut driver = Driver::new(in_flight, scope, run.progress().all > 1);
        let mut interrupts = prompter.interrupts().context("cannot watch for Ctrl-C")?;
        let cut_off = Arc::new(Notify::new());
        let (mut spin_wait, mut turns) = (SpinWait::default(), YIELDS_TO_CONNECT);
        let began = Instant::now();
        let mut question = None;
        let mut tick = audience.wants_ticks().then(|| tokio::time::interval(TICK));
        loop {
            while driver.len() < jobs && question.is_none() {
                let work = match run.next() {
                    Some(Next::Send(mut ready)) => {
                        if let Some((_, then)) = saving.instead.as_ref().filter(|(cell, _)| *cell == ready.cell) {
                            ready.prepared = Arc::new(exactly(then, &ready, run)?);
                        }
                        let client = senders.of(&ready);
                        if saving.bar && task::saves(&ready, saving) {
                            emit(run, audience)?;
                        }
                        Task::Send(ready, client)
                    }
                    Some(Next::Authorize(flow)) => {
                        Task::Authorize(Box::new(Authorization::new(flow, senders.base())), prompter.is_there())
                    }
                    Some(Next::Pause(pause)) => Task::Rest(pause),
                    Some(Next::Ask(asked)) => {
                        question = Some(asked);
                        break;
                    }
                    Some(Next::Wait) | None => break,
                };
                driver.push(work.run(began, saving, Arc::clone(&cut_off)));
            }
            // Print all events before a prompt, so that no server waits for the answer.
            if driver.len() == 0 {
                emit(run, audience)?;
                let Some(question) = question.take() else { break };
                audience.release_terminal()?;
                match prompter.ask(&question) {
                    Ok(value) => run.answer(&question, value),
                    Err(CommandError::Interrupted) => {
                        run.interrupt();
                        // The prompt also raises the signal for the same Ctrl-C, which must not cancel anything else.
                        in_flight.runtime().block_on(interrupts.take_asked());
                    }
                    Err(error) => return Err(error),
                }
                continue;
            }
            // Poll once before printing, so that the next request is on the wire first.
            let mut worked = driver.wait(async |under_way| {
                let mut worked = under_way.next().now_or_never();
                if worked.is_none() {
                    tokio::task::yield_now().await;
                    for _ in 1..std::mem::replace(&mut turns, 1) {
                        worked = worked.or_else(|| under_way.next().now_or_never());
                        tokio::task::yield_now().await;
                    }
                }
                worked
            });
            if worked.is_none() {
                // Print earlier events while servers work on the next requests.
                emit(run, audience)?;
                run.prefetch();
                // Where each vigil pays, nothing below is reached.
                if interrupts.next().now_or_never().is_some() {
                    end(&interrupts, run, &mut question, &cut_off)?;
                }
                worked = driver.wait(async |under_way| -> Result<_, CommandError> {
                    if let Some(worked) = spin_wait.keep(|| under_way.next().now_or_never()).await {
                        return Ok(Some(worked));
                    }
                    loop {
                        tokio::select! {
                            biased;
                            worked = under_way.next() => break Ok(Some(worked)),
                            () = interrupts.next() => end(&interrupts, run, &mut question, &cut_off)?,
                            () = ticked(&mut tick) => audience.on_tick(run)?,
                        }
                    }
                })?;
            }
            match worked.flatten() {
                Some(TaskResult::Answered(ready, answer)) => {
                    if answer.is_ok() {
                        senders.answered(&ready);
                    }
                    run.complete(ready, answer);
                }
                Some(TaskResult::Streamed(mut receiving)) => {
                    let head = receiving.stream.exchange();
                    let verdict = run.stream_events(&mut receiving.ready, head, &receiving.events);
                    let used = &receiving.events[..verdict.used];
                    audience.on_stream_events(run, receiving.ready.cell, used)?;
                    let finished = match (verdict.end, receiving.end) {
                        (Some(end), _) => {
                            // Events that came in the same piece, after the last that was wanted, do not count.
                            let unused = (receiving.events.len() - used.len()) as u64;
                            let last = used.last().map_or(0, |event| event.end);
                            let count = receiving.stream.count() - unused;
                            Some(receiving.finish(end, Some((count, last))))
                        }
                        (None, Some(end)) => Some(receiving.finish(end, None)),
                        (None, None) => {
                            driver.push(Task::Receive(receiving).run(began, saving, Arc::clone(&cut_off)));
                            None
                        }
                    };
                    if let Some((ready, exchange)) = finished {
                        run.complete(ready, exchange);
                    }
                }
                Some(TaskResult::Conversed(mut conversing)) => {
                    let cell = conversing.ready.cell;
                    for message in &conversing.messages {
                        audience.on_message(run, cell, message)?;
                    }
                    let event = std::mem::replace(&mut conversing.event, ConversationEvent::Ready);
                    let (head, now) = (conversing.conversation.exchange(), conversing.conversation.elapsed());
                    let step = match conversing.is_over {
                        true => ConversationStep::End,
                        false => run.converse(&mut conversing.ready, head, event, now),
                    };
                    let task = match step {
                        ConversationStep::End => Task::Close(conversing),
                        step => Task::Converse(conversing, step),
                    };
                    driver.push(task.run(began, saving, Arc::clone(&cut_off)));
                }
                Some(TaskResult::SignIn(authorization, sign_in)) => {
                    emit(run, audience)?;
                    audience.release_terminal()?;
                    prompter.sign_in(&sign_in)?;
                    let task = Task::Authorize(authorization, true);
                    driver.push(task.run(began, saving, Arc::clone(&cut_off)));
                }
                Some(TaskResult::Authorized(authorization, outcome)) => {
                    run.authorize(authorization.profile(), outcome);
                }
                Some(TaskResult::Rested(pause)) => run.resume(&pause),
                Some(TaskResult::Stopped(error)) => return Err(error),
                None => {}
            }
        }
        Ok(())
    })
}

/// Ends the run in good order: what is under way is cut off, and nobody is asked any more. The second time it ends at once.
fn end(
    interrupts: &Interrupts,
    run: &mut Run<'_>,
    question: &mut Option<Question>,
    cut_off: &Notify,
) -> Result<(), CommandError> {
    if interrupts.is_repeated() {
        return Err(CommandError::Interrupted);
    }
    run.interrupt();
    *question = None;
    cut_off.notify_waiters();
    Ok(())
}

/// The request as it was sent then.
fn exactly(then: &PreparedRequest, now: &ReadyRequest<'_>, run: &Run<'_>) -> Result<PreparedRequest, CommandError> {
    // A request of no file has no other to take secrets from.
    let stands = run.workspace().find_loaded(&run.workspace().shown_path(now.cell.source)).is_some();
    let now = stands.then_some(&*now.prepared);
    restore_secrets(then.clone(), now, run.masker()).map_err(|why| {
        let hint = "omit `--exactly` to send the request as its file is now";
        CommandError::refused_with(format!("cannot send this exactly: {why}"), hint)
    })
}

fn emit(run: &mut Run<'_>, audience: &mut impl RunObserver) -> io::Result<()> {
    let events: Vec<Event> = run.events().collect();
    events.into_iter().try_for_each(|event| audience.on_event(run, event))
}

/// The next tick, if there are any.
async fn ticked(tick: &mut Option<tokio::time::Interval>) {
    match tick {
        Some(tick) => {
            tick.tick().await;
        }
        None => std::future::pending().await,
    }
}
