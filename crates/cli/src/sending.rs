//! Drives a run of core over the network.

use anyhow::Context;
use std::io;
use yieldtray_core::replay::{Event, Run};
use yieldtray_core::response::Exchange;
use yieldtray_core::workspace::CellId;
use yieldtray_transport::Client;

/// Sends what `run` has ready, one after another, and hands on what happens. `answered` gets each
/// answer before the events about it.
pub(crate) fn drive(
    run: &mut Run<'_>,
    mut answered: impl FnMut(CellId, &Exchange),
    mut happened: impl FnMut(&Run<'_>, Event) -> io::Result<()>,
) -> anyhow::Result<()> {
    let mut client = None;
    let mut runtime = None;
    loop {
        let ready = run.next();
        for event in run.events().collect::<Vec<_>>() {
            happened(run, event)?;
        }
        let Some(ready) = ready else { return Ok(()) };
        if runtime.is_none() {
            let one_thread = tokio::runtime::Builder::new_current_thread().enable_all().build();
            runtime = Some(one_thread.context("cannot start")?);
        }
        let (Some(runtime), client) = (&runtime, client.get_or_insert_with(Client::default)) else { continue };
        let cell = ready.cell;
        let answer = runtime.block_on(client.send(&ready.prepared));
        if let Ok(exchange) = &answer {
            answered(cell, exchange);
        }
        run.complete(ready, answer.as_ref());
    }
}
