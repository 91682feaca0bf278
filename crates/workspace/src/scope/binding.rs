//! The places that define values.

use super::CapturedValue;
use crate::Workspace;
use crate::config::{Environment, ValueEntry};
use yieldtray_expression::Value;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::{InstructionKind, Item, instructions};

/// Where a name was found.
#[derive(Clone, Copy)]
pub enum Binding<'a> {
    /// `--set`
    Set(&'a Value),
    /// `% let` of the cell or of a preamble.
    Let {
        /// The text that the line is in.
        source: SourceId,
        /// The line.
        line: Span,
        /// The name in it.
        name: Span,
        /// Its expression.
        expression: Span,
    },
    /// `% ask` of the cell.
    Ask {
        /// The text that the line is in.
        source: SourceId,
        /// The line.
        line: Span,
        /// The name in it.
        name: Span,
        /// The question.
        question: Span,
        /// True if the answer is a secret.
        secret: bool,
    },
    /// A captured value.
    Captured(&'a CapturedValue),
    /// An entry of a configuration, and the environment that it is in.
    Entry(&'a ValueEntry, Option<&'a Environment>),
}

impl Binding<'_> {
    /// The text and line of a `let` or `ask`.
    pub fn line(&self) -> Option<(SourceId, Span)> {
        match *self {
            Binding::Let { source, line, .. } | Binding::Ask { source, line, .. } => Some((source, line)),
            Binding::Set(_) | Binding::Captured(_) | Binding::Entry(..) => None,
        }
    }
}

/// The last `let` or `ask` of that name among `items`.
pub(super) fn defining_line<'a>(
    workspace: &'a Workspace,
    name: &str,
    source: SourceId,
    items: &'a [Item],
) -> Option<Binding<'a>> {
    let text = &workspace.source(source).text;
    let bindings = instructions(items).filter_map(|item| {
        let line = item.span;
        match item.kind {
            InstructionKind::Let { name: own, expression } if own.of(text) == name => {
                Some(Binding::Let { source, line, name: own, expression })
            }
            InstructionKind::Ask { name: own, question, secret, .. } if own.of(text) == name => {
                Some(Binding::Ask { source, line, name: own, question, secret })
            }
            _ => None,
        }
    });
    bindings.last()
}
