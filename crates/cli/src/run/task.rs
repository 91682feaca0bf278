//! A task in flight: a request, a token request, or a pause.

use super::ResponseFiles;
use super::authorization::{Advance, Authorization};
use super::cancel::or_cancelled;
use super::converse::{Conversing, typed_lines};
use crate::error::CommandError;
use crate::prompt::SignIn;
use crate::run::download::Download;
use std::io;
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use yieldtray_engine::{ConversationStep, ObtainedToken, Pause, ReadyRequest};
use yieldtray_http::{Exchange, Failure, FailureKind, PreparedRequest, StreamEnd, StreamEvent};
use yieldtray_transport::{Client, EventStream, NextEvents, Received};

/// A task of a run.
pub(super) enum Task<'w> {
    Send(Box<ReadyRequest<'w>>, Arc<Client>),
    /// Waits for more of a stream of events.
    Receive(Box<ReadyRequest<'w>>, Box<EventStream>, Arc<Client>),
    /// Takes a step of a conversation.
    Converse(Box<Conversing<'w>>, ConversationStep),
    /// Ends a conversation.
    Close(Box<Conversing<'w>>),
    /// Obtains a token; somebody can sign in if the second is true.
    Authorize(Box<Authorization>, bool),
    Rest(Pause),
}

/// Its result.
#[allow(clippy::large_enum_variant)] // nearly always a response, which a box would only slow down
pub(super) enum TaskResult<'w> {
    Answered(Box<ReadyRequest<'w>>, Result<Exchange, Failure>),
    /// Events of a stream; without an end, more may come.
    Streamed(Box<Streamed<'w>>),
    /// Something happened in a conversation.
    Conversed(Box<Conversing<'w>>),
    /// Somebody must see this, before it goes on.
    SignIn(Box<Authorization>, SignIn),
    Authorized(Box<Authorization>, Result<ObtainedToken, Failure>),
    Rested(Pause),
    Stopped(CommandError),
}

/// What arrived of a stream.
pub(super) struct Streamed<'w> {
    pub(super) ready: Box<ReadyRequest<'w>>,
    pub(super) stream: Box<EventStream>,
    pub(super) client: Arc<Client>,
    pub(super) events: Vec<StreamEvent>,
    pub(super) end: Option<StreamEnd>,
}

impl<'w> Task<'w> {
    /// Does it, until it is done or cut off; `run_began` is when the run did.
    pub(super) async fn run(
        self,
        run_began: Instant,
        saving: &ResponseFiles<'_>,
        cut_off: Arc<Notify>,
    ) -> TaskResult<'w> {
        match self {
            Task::Send(mut ready, client) => {
                ready.sent_at = run_began.elapsed();
                let answer = match saves(&ready, saving) {
                    true => match or_cancelled(cut_off, Box::pin(save(&client, &ready, saving))).await {
                        Ok(Err(error)) => return TaskResult::Stopped(error),
                        Ok(Ok(answer)) => answer,
                        Err(failure) => Err(failure),
                    },
                    false => {
                        // Boxed: its state is kilobytes, which would be moved with all of this.
                        let (most, streamed) = (ready.largest_body(), ready.largest_stream());
                        let sending = Box::pin(client.receive_or_stream(&ready.prepared, most, streamed));
                        match or_cancelled(Arc::clone(&cut_off), sending).await.and_then(|answer| answer) {
                            Ok(Received::Whole(exchange)) => Ok(exchange),
                            Ok(Received::Conversation(conversation)) => {
                                let typed = saving.speaks.filter(|cell| *cell == ready.cell && !ready.has_script());
                                let typed = typed.map(|_| typed_lines());
                                return TaskResult::Conversed(Box::new(Conversing::begin(ready, conversation, typed)));
                            }
                            Ok(Received::Events(stream)) => return receive(ready, stream, client, &cut_off).await,
                            Err(failure) => Err(failure),
                        }
                    }
                };
                TaskResult::Answered(ready, answer)
            }
            Task::Converse(conversing, step) => match conversing.step(step, &cut_off).await {
                Ok(conversing) => TaskResult::Conversed(conversing),
                Err(ended) => TaskResult::Answered(ended.0, Err(ended.1)),
            },
            Task::Close(conversing) => {
                let Conversing { ready, conversation, .. } = *conversing;
                TaskResult::Answered(ready, Ok(conversation.finish().await))
            }
            Task::Receive(ready, stream, client) => receive(ready, stream, client, &cut_off).await,
            Task::Authorize(mut authorization, anybody) => {
                let outcome = match or_cancelled(cut_off, Box::pin(authorization.advance(anybody))).await {
                    Ok(Advance::Show(sign_in)) => return TaskResult::SignIn(authorization, sign_in),
                    Ok(Advance::Done(outcome)) => outcome,
                    Err(failure) => Err(failure),
                };
                TaskResult::Authorized(authorization, outcome)
            }
            Task::Rest(pause) => {
                let _ = or_cancelled(cut_off, tokio::time::sleep(pause.time)).await;
                TaskResult::Rested(pause)
            }
        }
    }
}

/// Waits for the next events of a stream. What arrived before it is cut off is kept.
async fn receive<'w>(
    ready: Box<ReadyRequest<'w>>,
    mut stream: Box<EventStream>,
    client: Arc<Client>,
    cut_off: &Arc<Notify>,
) -> TaskResult<'w> {
    let next = or_cancelled(Arc::clone(cut_off), stream.next()).await;
    let (events, end) = match next {
        Ok(Ok(NextEvents::Arrived(events))) => (events, None),
        Ok(Ok(NextEvents::Ended(events))) if stream.reconnected() < ready.reconnects() => {
            match or_cancelled(Arc::clone(cut_off), reconnect(&mut stream, &ready, &client)).await {
                Ok(Ok(end)) => (events, end),
                Ok(Err(failure)) => return TaskResult::Answered(ready, Err(failure)),
                Err(_) => (events, Some(StreamEnd::Interrupted)),
            }
        }
        Ok(Ok(NextEvents::Ended(events))) => (events, Some(StreamEnd::Server)),
        // A connection that breaks is what connecting again is for.
        Ok(Err(failure)) if failure.kind == FailureKind::BrokenOff && stream.reconnected() < ready.reconnects() => {
            match or_cancelled(Arc::clone(cut_off), reconnect(&mut stream, &ready, &client)).await {
                Ok(Ok(end)) => (Vec::new(), end),
                Ok(Err(failure)) => return TaskResult::Answered(ready, Err(failure)),
                Err(_) => (Vec::new(), Some(StreamEnd::Interrupted)),
            }
        }
        Ok(Ok(NextEvents::TimeLimit)) => (Vec::new(), Some(StreamEnd::TimeLimit)),
        Ok(Err(failure)) => return TaskResult::Answered(ready, Err(failure)),
        Err(_) => (Vec::new(), Some(StreamEnd::Interrupted)),
    };
    TaskResult::Streamed(Box::new(Streamed { ready, stream, client, events, end }))
}

/// How long is waited before a stream is connected again, if the server says nothing.
const RECONNECT_WAIT: Duration = Duration::from_secs(1);

/// Connects a stream again after its last event, within its time limit. Returns its end if there is nothing more.
async fn reconnect(
    stream: &mut EventStream,
    ready: &ReadyRequest<'_>,
    client: &Client,
) -> Result<Option<StreamEnd>, Failure> {
    let (request, wait) = stream.reconnection(RECONNECT_WAIT);
    // A server that wants a longer wait than there is time is asked no more.
    tokio::time::sleep(wait.min(stream.time_left())).await;
    let mut request = PreparedRequest::clone(&request);
    request.sending.timeout = stream.time_left();
    if request.sending.timeout.is_zero() {
        return Ok(Some(StreamEnd::TimeLimit));
    }
    match client.receive_or_stream(&Arc::new(request), 0, ready.largest_stream()).await {
        Ok(Received::Events(next)) => {
            stream.resume(*next);
            Ok(None)
        }
        // 204, for one, says that it is over (WHATWG HTML 9.2.2).
        Ok(_) => Ok(Some(StreamEnd::Server)),
        Err(failure) if failure.kind == FailureKind::TimedOut => Ok(Some(StreamEnd::TimeLimit)),
        Err(failure) => Err(failure),
    }
}

/// True if the response to a request goes to a file.
pub(super) fn saves(ready: &ReadyRequest<'_>, saving: &ResponseFiles<'_>) -> bool {
    ready.save.is_some() || saving.out.as_ref().is_some_and(|(cell, ..)| *cell == ready.cell)
}

/// Sends a request whose response goes to a file. Dropped before its end, it leaves no partial file.
async fn save(
    client: &Client,
    ready: &ReadyRequest<'_>,
    saving: &ResponseFiles<'_>,
) -> Result<Result<Exchange, Failure>, CommandError> {
    let not_saved = |error: io::Error| Failure {
        kind: FailureKind::NotSaved,
        message: format!("the body cannot be written: {error}"),
        hint: None,
        elapsed: Duration::ZERO,
    };
    let out = saving.out.as_ref().filter(|(cell, ..)| *cell == ready.cell);
    let mut download = Download::new(saving.bar);
    if let Some((_, file, _)) = out {
        let refused = |error| CommandError::refused(format!("cannot write `{}`: {error}", file.display()));
        download = download.into_file(file).map_err(refused)?;
    }
    if let Some(file) = &ready.save {
        // A request whose response could not be saved is not sent at all.
        download = match download.into_workspace(saving.root, file, saving.save_limit) {
            Ok(download) => download,
            Err(error) => return Ok(Err(not_saved(error))),
        };
        saving.saved.lock().unwrap_or_else(PoisonError::into_inner).push(file.clone());
    }
    let hold = ready.reads_body() || out.is_none_or(|(.., hold)| *hold);
    Ok(match client.send_to(&ready.prepared, &mut download, hold).await {
        Ok(exchange) => {
            let through = download.finish().map_err(not_saved);
            through.map(|through| match through.small {
                _ if exchange.is_body_complete() => exchange,
                // Nobody reads it but the log.
                Some(body) if !hold => Exchange { body: body.into(), ..exchange },
                _ => Exchange { digest: Some(through.digest), ..exchange },
            })
        }
        Err(failure) => Err(failure),
    })
}
