//! Drives a run of core over the network.

use crate::ask;
use crate::failure::Stop;
use anyhow::Context;
use std::io;
use yieldtray_core::replay::{Event, Next, Run};
use yieldtray_core::response::Exchange;
use yieldtray_core::workspace::CellId;
use yieldtray_transport::{Client, Options};

/// Sends what `run` has ready, one after another, and hands on what happens. `answered` gets each
/// answer before the events about it.
pub(crate) fn drive(
    run: &mut Run<'_>,
    options: Options,
    mut answered: impl FnMut(CellId, &Exchange),
    mut happened: impl FnMut(&Run<'_>, Event) -> io::Result<()>,
) -> Result<(), Stop> {
    let one_thread = tokio::runtime::Builder::new_current_thread().enable_all().build().context("cannot start")?;
    // All in one go: entering the runtime anew for each request costs as much as a small request.
    one_thread.block_on(async {
        let client = Client::new(options);
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
                None => break,
            };
            let (answer, told) = {
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
