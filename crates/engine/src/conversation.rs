//! Conversations over a WebSocket: what a cell says and waits for, in order.

use crate::event::CheckFailure;
use crate::response_exprs::{self, ResponseExpr};
use std::time::Duration;
use yieldtray_expression::Engine;
use yieldtray_http::{ConversationMessage, MessageData};
use yieldtray_source::Span;
use yieldtray_syntax::{Instruction, InstructionKind};
use yieldtray_workspace::{CellId, Workspace};

/// One line of a conversation.
#[derive(Clone, Debug)]
pub(crate) enum Turn<'w> {
    /// `% say TEXT`
    Say(Span, &'w Instruction),
    /// `% say from PATH`
    SayFrom(Span, &'w Instruction),
    /// `% expect EXPR within D [as NAME]`
    Expect { until: ResponseExpr<'w>, within: Duration, name: Option<&'w str>, line: &'w Instruction },
}

/// The lines of a cell, and how far they are.
#[derive(Debug, Default)]
pub(crate) struct ConversationWork<'w> {
    pub(crate) turns: Vec<Turn<'w>>,
    /// The line that is next, or is waited for.
    pub(crate) at: usize,
    /// Until when the present line waits, after the exchange began.
    pub(crate) deadline: Option<Duration>,
    /// How many lines that wait were fulfilled.
    pub(crate) fulfilled: usize,
    /// The failure of one that was not.
    pub(crate) failure: Option<CheckFailure>,
    /// The last message that arrived.
    pub(crate) last: Option<ConversationMessage>,
    /// How many messages arrived since the line began to wait.
    pub(crate) passed: usize,
}

/// An event of a conversation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ConversationEvent {
    /// It began, or a message was sent.
    Ready,
    /// A message arrived.
    Received(ConversationMessage),
    /// The time to wait is over.
    TimeLimit,
    /// The server ended it.
    Closed {
        /// The code (RFC 6455 7.4).
        code: u16,
        /// The reason.
        reason: String,
    },
}

/// The next step of a conversation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ConversationStep {
    /// Send this message.
    Say(MessageData),
    /// Wait for a message, until so long after the exchange began.
    Listen(Duration),
    /// End it.
    End,
}

/// The lines of a cell.
pub(crate) fn conversation_work<'w>(workspace: &'w Workspace, engine: &Engine, cell: CellId) -> ConversationWork<'w> {
    let text = &workspace.source(cell.source).text;
    let turns = workspace.cell(cell).instructions().filter_map(|line| match line.kind {
        InstructionKind::Say(span) => Some(Turn::Say(span, line)),
        InstructionKind::SayFrom(path) => Some(Turn::SayFrom(path, line)),
        InstructionKind::Expect { condition, within, name } => {
            let until = response_exprs::condition(workspace, engine, cell.source, condition)?;
            Some(Turn::Expect { until, within, name: name.map(|name| name.of(text)), line })
        }
        _ => None,
    });
    ConversationWork { turns: turns.collect(), ..ConversationWork::default() }
}

/// The failure of a conversation that never began.
pub(crate) fn not_switched(workspace: &Workspace, cell: CellId, status: u16) -> Option<CheckFailure> {
    let request = workspace.cell(cell).request.as_ref()?;
    let note = format!("the server answered {status} instead of switching to WebSocket (101, RFC 6455 4.2.2)");
    Some(CheckFailure::at(workspace, cell.source, request.span, vec![note]))
}

/// The failure of a line, with a note.
pub(crate) fn failure(workspace: &Workspace, cell: CellId, line: &Instruction, note: String) -> CheckFailure {
    CheckFailure::at(workspace, cell.source, line.span, vec![note])
}
