//! A task in flight: a request, a token request, or a pause.

use super::ResponseFiles;
use super::authorization::{Advance, Authorization};
use crate::error::CommandError;
use crate::prompt::SignIn;
use crate::run::download::Download;
use std::io;
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use yieldtray_engine::{ObtainedToken, Pause, ReadyRequest};
use yieldtray_http::{Exchange, Failure, FailureKind};
use yieldtray_transport::Client;

/// A task of a run.
pub(super) enum Task<'w> {
    Send(Box<ReadyRequest<'w>>, Arc<Client>),
    /// Obtains a token; somebody can sign in if the second is true.
    Authorize(Box<Authorization>, bool),
    Rest(Pause),
}

/// Its result.
pub(super) enum TaskResult<'w> {
    Answered(Box<ReadyRequest<'w>>, Result<Exchange, Failure>),
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
                    true => match or_cancelled(cut_off, Box::pin(save(&client, &ready, saving))).await {
                        Ok(Err(error)) => return TaskResult::Stopped(error),
                        Ok(Ok(answer)) => answer,
                        Err(failure) => Err(failure),
                    },
                    false => {
                        // Boxed: its state is kilobytes, which would be moved with all of this.
                        let most = ready.largest_body();
                        let sending = Box::pin(async {
                            match most {
                                u64::MAX => client.send(&ready.prepared).await,
                                most => client.send_holding(&ready.prepared, most).await,
                            }
                        });
                        or_cancelled(cut_off, sending).await.and_then(|answer| answer)
                    }
                };
                TaskResult::Answered(ready, answer)
            }
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

/// The result of `work`, unless it is canceled before.
async fn or_cancelled<T>(cut_off: Arc<Notify>, work: impl Future<Output = T>) -> Result<T, Failure> {
    let start = Instant::now();
    tokio::select! {
        biased;
        done = work => Ok(done),
        () = cut_off.notified() => Err(Failure::interrupted(start.elapsed())),
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
