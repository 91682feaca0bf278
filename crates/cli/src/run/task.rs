//! A task in flight: a request, a token request, or a pause.

use super::ResponseFiles;
use super::authorization::{Advance, Authorization};
use super::cancel::or_cancelled;
use super::converse::{Conversing, typed_lines};
use super::receiving::Receiving;
use crate::error::CommandError;
use crate::prompt::SignIn;
use crate::run::download::{Download, not_saved};
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use yieldtray_engine::{ConversationStep, ObtainedToken, Pause, ReadyRequest};
use yieldtray_http::{Exchange, Failure, FailureKind};
use yieldtray_transport::{Client, EventStream, Received, Streaming};

/// A task of a run.
pub(super) enum Task<'w> {
    Send(Box<ReadyRequest<'w>>, Arc<Client>),
    /// Waits for more of a stream of events.
    Receive(Box<Receiving<'w>>),
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
    Streamed(Box<Receiving<'w>>),
    /// Something happened in a conversation.
    Conversed(Box<Conversing<'w>>),
    /// Somebody must see this, before it goes on.
    SignIn(Box<Authorization>, SignIn),
    Authorized(Box<Authorization>, Result<ObtainedToken, Failure>),
    Rested(Pause),
    Stopped(CommandError),
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
                    true => match or_cancelled(Arc::clone(&cut_off), Box::pin(save(&client, &ready, saving))).await {
                        Ok(Err(error)) => return TaskResult::Stopped(error),
                        Ok(Ok(Ok(SavedResponse::Events(stream, file)))) => {
                            let receiving = Box::new(Receiving::begin(ready, stream, client, Some(*file)));
                            return received(receiving.next(&cut_off).await);
                        }
                        Ok(Ok(Ok(SavedResponse::Whole(exchange)))) => Ok(*exchange),
                        Ok(Ok(Err(failure))) => Err(failure),
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
                            Ok(Received::Events(stream)) => {
                                let receiving = Box::new(Receiving::begin(ready, stream, client, None));
                                return received(receiving.next(&cut_off).await);
                            }
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
            Task::Receive(receiving) => received(receiving.next(&cut_off).await),
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

/// The result of a step of a stream.
fn received<'w>(step: Result<Box<Receiving<'w>>, (Box<ReadyRequest<'w>>, Failure)>) -> TaskResult<'w> {
    match step {
        Ok(receiving) => TaskResult::Streamed(receiving),
        Err((ready, failure)) => TaskResult::Answered(ready, Err(failure)),
    }
}

/// The result of a response that goes to a file.
enum SavedResponse {
    /// The file is there.
    Whole(Box<Exchange>),
    /// It is a stream, whose bytes are written as they arrive.
    Events(Box<EventStream>, Box<Download>),
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
) -> Result<Result<SavedResponse, Failure>, CommandError> {
    if ready.prepared.conversation {
        let hint = "omit it: `--json` prints each message as a line, and the log keeps them";
        let message = "a conversation has no body to write to a file".to_owned();
        let (kind, elapsed) = (FailureKind::NotSaved, Duration::ZERO);
        return Ok(Err(Failure { kind, message, hint: Some(hint.to_owned()), elapsed }));
    }
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
    let streaming = Streaming { most: ready.largest_stream(), json: ready.has_stream_lines() };
    Ok(match client.send_to(&ready.prepared, &mut download, hold, streaming).await {
        Ok(Received::Events(stream)) => Ok(SavedResponse::Events(stream, Box::new(download))),
        Ok(other) => {
            let exchange = other.into_exchange();
            let through = download.finish().map_err(not_saved);
            through.map(|through| {
                SavedResponse::Whole(Box::new(match through.small {
                    _ if exchange.is_body_complete() => exchange,
                    // Only the log reads it.
                    Some(body) if !hold => Exchange { body: body.into(), ..exchange },
                    _ => Exchange { digest: Some(through.digest), ..exchange },
                }))
            })
        }
        Err(failure) => Err(failure),
    })
}
