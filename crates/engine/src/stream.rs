//! Responses that come in pieces: when a stream of events has given enough (`% until`, `% take`).

use crate::event::CheckFailure;
use crate::response_exprs::{self, ResponseExpr};
use yieldtray_expression::{Engine, Value};
use yieldtray_http::{Exchange, StreamEnd};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::{CellId, Workspace};

/// How long a stream of events that nobody reads is held for the log, in bytes.
pub(crate) const MAX_HELD_BYTES: u64 = 1 << 20;

/// The instructions of a cell about its stream, and its progress.
#[derive(Debug, Default)]
pub(crate) struct StreamWork<'w> {
    /// `% until`.
    pub(crate) until: Option<ResponseExpr<'w>>,
    /// `% take`.
    pub(crate) take: Option<u64>,
    /// `% reconnect`.
    pub(crate) reconnects: u32,
    /// How many events there were.
    pub(crate) seen: u64,
    /// Those so far, if the condition reads all of them.
    pub(crate) events: Vec<Value>,
}

/// The verdict on some events of a stream.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StreamVerdict {
    /// How many of the events count.
    pub used: usize,
    /// Why the stream ends, if it does.
    pub end: Option<StreamEnd>,
}

/// The stream instructions of a cell.
pub(crate) fn stream_work<'w>(workspace: &'w Workspace, engine: &Engine, cell: CellId) -> StreamWork<'w> {
    let mut work = StreamWork::default();
    for line in workspace.cell(cell).instructions() {
        match line.kind {
            InstructionKind::Take(count) => work.take = Some(count),
            InstructionKind::Reconnect(times) => work.reconnects = times,
            InstructionKind::Until(span) => {
                work.until = response_exprs::condition(workspace, engine, cell.source, span);
            }
            _ => {}
        }
    }
    work
}

/// Whether a stream had as many events as `% take` wants, which counts as a check: `None` where there is no such line.
pub(crate) fn check_count(
    workspace: &Workspace,
    cell: CellId,
    exchange: &Exchange,
) -> Option<Result<(), CheckFailure>> {
    let (line, count) = workspace.cell(cell).instructions().find_map(|line| match line.kind {
        InstructionKind::Take(count) => Some((line, count)),
        _ => None,
    })?;
    let note = match (&exchange.stream, exchange.stream_format()) {
        (_, None) => "the response is no stream of events".to_owned(),
        (Some(stream), _) if stream.count < count => {
            format!("{} of {count} events arrived: {}", stream.count, stream.end.describe())
        }
        _ => return Some(Ok(())),
    };
    Some(Err(CheckFailure::at(workspace, cell.source, line.span, vec![note])))
}
