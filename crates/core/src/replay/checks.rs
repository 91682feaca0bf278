//! Which checks are judged for a cell, and in which order its answer is used.

use crate::problem::SourceId;
use crate::syntax::{Kind, Span};
use crate::workspace::{CellId, Workspace};

/// What is done with an answer.
#[derive(Clone, Copy, Debug)]
pub(super) enum Use<'w> {
    /// A check is judged.
    Check { source: SourceId, label: Option<&'w str>, expression: Span, hint: Option<Span> },
    /// A value is put on the tray.
    Yield { source: SourceId, name: &'w str, expression: Span, secret: bool },
}

/// The shared checks that hold for `cell`, outermost first, then its own checks and yields as they
/// stand. A shared check is left out where the cell waives its label or has a check of that label.
pub(super) fn uses(workspace: &Workspace, cell: CellId) -> Vec<Use<'_>> {
    let text = &workspace.source(cell.source).text;
    let mut left_out: Vec<&str> = Vec::new();
    let mut own = Vec::new();
    for instruction in workspace.cell(cell).instructions() {
        match instruction.kind {
            Kind::Waive(list) => left_out.extend(Kind::list(list, text).map(|label| label.of(text))),
            Kind::Check { label, expression, hint } => {
                let label = label.map(|label| label.of(text));
                left_out.extend(label);
                own.push(Use::Check { source: cell.source, label, expression, hint });
            }
            Kind::Yield { name, expression, secret } => {
                own.push(Use::Yield { source: cell.source, name: name.of(text), expression, secret });
            }
            _ => {}
        }
    }
    let shared = workspace.preambles(cell.source).filter_map(|(source, instruction)| match instruction.kind {
        Kind::Check { label, expression, hint } => {
            let label = label.map(|label| label.of(&workspace.source(source).text));
            let kept = label.is_none_or(|label| !left_out.contains(&label));
            kept.then_some(Use::Check { source, label, expression, hint })
        }
        _ => None,
    });
    shared.chain(own).collect()
}

/// The labels of the checks in the preambles over a file.
pub(super) fn shared_labels(workspace: &Workspace, source: SourceId) -> Vec<&str> {
    workspace
        .preambles(source)
        .filter_map(|(home, instruction)| match instruction.kind {
            Kind::Check { label, .. } => Some(label?.of(&workspace.source(home).text)),
            _ => None,
        })
        .collect()
}
