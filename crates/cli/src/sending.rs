//! Drives a run of core over the network.

use crate::ask;
use crate::download::Download;
use crate::failure::Stop;
use anyhow::Context;
use std::io;
use std::path::{Path, PathBuf};
use yieldtray_core::replay::{Event, Next, Ready, Run};
use yieldtray_core::response::{Exchange, Failure, FailureKind};
use yieldtray_core::workspace::CellId;
use yieldtray_transport::Client;

/// Where bodies are written, beside what `% save` says.
pub(crate) struct Saving<'s> {
    /// The workspace's folder, which `% save` counts from.
    pub(crate) root: &'s Path,
    /// A file for the body of one cell's answer, and whether the body is held all the same.
    pub(crate) out: Option<(CellId, PathBuf, bool)>,
    /// Whether a long download shows how far it is.
    pub(crate) bar: bool,
}

/// Sends what `run` has ready, one after another, and hands on what happens. `answered` gets each
/// answer before the events about it.
pub(crate) fn drive(
    run: &mut Run<'_>,
    client: &Client,
    saving: &Saving<'_>,
    mut answered: impl FnMut(CellId, &Exchange),
    mut happened: impl FnMut(&Run<'_>, Event) -> io::Result<()>,
) -> Result<(), Stop> {
    let one_thread = tokio::runtime::Builder::new_current_thread().enable_all().build().context("cannot start")?;
    // All in one go: entering the runtime anew for each request costs as much as a small request.
    one_thread.block_on(async {
        let mut events = Vec::new();
        let mut spent = None;
        loop {
            let next = run.next();
            events.extend(run.events());
            let ready = match next {
                Some(Next::Send(ready)) => ready,
                Some(Next::Ask(question)) => {
                    // Who is asked sees first what happened so far.
                    events.drain(..).try_for_each(|event| happened(run, event))?;
                    let value = ask::question(&question)?;
                    run.answer(&question, value);
                    continue;
                }
                Some(Next::Pause(pause)) => {
                    events.drain(..).try_for_each(|event| happened(run, event))?;
                    tokio::time::sleep(pause).await;
                    continue;
                }
                Some(Next::Authorize(request)) => {
                    let answer = client.send(&request.prepared).await;
                    run.authorize(&request, answer.as_ref());
                    continue;
                }
                None => break,
            };
            let saves = ready.save.is_some() || saving.out.as_ref().is_some_and(|(cell, ..)| *cell == ready.cell);
            let (answer, told) = if saves {
                events.drain(..).try_for_each(|event| happened(run, event))?;
                (save(client, &ready, saving).await?, Ok(()))
            } else {
                // Pinned where it stands: to move it into the pair copies kilobytes a request.
                let sending = std::pin::pin!(client.send(&ready.prepared));
                // What happened before is told while the server works on the next request.
                tokio::join!(sending, async {
                    tokio::task::yield_now().await;
                    let told = events.drain(..).try_for_each(|event| happened(run, event));
                    run.look_ahead();
                    // To take a large answer apart takes time, which is to spare now.
                    drop(spent.take());
                    told
                })
            };
            told?;
            if let Ok(exchange) = &answer {
                answered(ready.cell, exchange);
            }
            run.complete(ready, answer.as_ref());
            spent = Some(answer);
        }
        Ok(events.drain(..).try_for_each(|event| happened(run, event))?)
    })
}

/// Sends a request whose answer goes to a file. An interrupt leaves no half of one.
async fn save(client: &Client, ready: &Ready<'_>, saving: &Saving<'_>) -> Result<Result<Exchange, Failure>, Stop> {
    let not_saved = |error: io::Error| Failure {
        kind: FailureKind::NotSaved,
        message: format!("the body cannot be written: {error}"),
        hint: None,
        elapsed: std::time::Duration::ZERO,
    };
    let out = saving.out.as_ref().filter(|(cell, ..)| *cell == ready.cell);
    let mut download = Download::new(saving.bar);
    if let Some((_, file, _)) = out {
        let refused = |error| Stop::refused(format!("cannot write `{}`: {error}", file.display()));
        download = download.into_file(file).map_err(refused)?;
    }
    if let Some(file) = &ready.save {
        // A request whose answer could not be kept is not sent at all.
        download = match download.into_workspace(saving.root, file) {
            Ok(download) => download,
            Err(error) => return Ok(Err(not_saved(error))),
        };
    }
    let hold = ready.reads_body() || out.is_none_or(|(.., hold)| *hold);
    let answer = tokio::select! {
        answer = client.send_to(&ready.prepared, &mut download, hold) => answer,
        _ = tokio::signal::ctrl_c() => return Err(Stop::Interrupted),
    };
    Ok(match answer {
        Ok(exchange) => download.finish().map(|()| exchange).map_err(not_saved),
        Err(failure) => Err(failure),
    })
}
