//! Answers for editors: what is at a position, its meaning and value, completions, references, fixes and refactorings.
//! Positions are bytes; there is no protocol and no screen here.
//!
//! All of it is based on one list, the [`Occurrence`]s of a text: each name in it with its referent.

mod actions;
mod complete;
mod described_definition;
mod docs;
mod fixes;
mod graphql_cursor;
mod hover;
mod inlay_hints;
mod occurrence;
mod outline;
mod refactorings;
mod references;
mod signature;
mod tokens;

#[cfg(test)]
mod tests;

pub use actions::{Action, Change};
pub use complete::{CompletionKind, Suggestion, Suggestions, complete};
pub use described_definition::{DescriptionPlace, described_definition};
pub use fixes::{ImportError, fixes, import_commands};
pub use hover::{HoverInfo, hover};
pub use inlay_hints::{Hint, hints};
pub use occurrence::{Occurrence, Referent, in_configuration, in_requests};
pub use outline::{Fold, Symbol, folds, links, selections, symbols, workspace_symbols};
pub use refactorings::actions;
pub use references::{Rename, RenameError, definition, occurrence_at, references, rename};
pub use signature::{Signature, signature};
pub use tokens::{Token, TokenKind, tokens};

use yieldtray_http::Exchange;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::scope::EvalContext;
use yieldtray_workspace::{CellId, Workspace};

/// Answers from before.
pub trait LastResponses {
    /// The last response to a cell, in the chosen environment.
    fn last(&self, cell: CellId) -> Option<Exchange>;
}

/// Nothing was ever answered.
impl LastResponses for () {
    fn last(&self, _cell: CellId) -> Option<Exchange> {
        None
    }
}

/// Where somebody looks from.
#[derive(Clone, Copy)]
pub struct IdeContext<'a> {
    /// Where values are looked for.
    pub context: EvalContext<'a>,
    /// Answers from before.
    pub past: &'a dyn LastResponses,
}

impl<'a> IdeContext<'a> {
    fn workspace(&self) -> &'a Workspace {
        self.context.workspace
    }

    fn text(&self, source: SourceId) -> &'a str {
        &self.context.workspace.source(source).text
    }
}

/// The cell that contains byte `at` of a text.
pub fn cell_at(workspace: &Workspace, source: SourceId, at: usize) -> Option<CellId> {
    let cells = &workspace.source(source).file.cells;
    let before = cells.partition_point(|cell| cell.span.start() <= at);
    let index = before.checked_sub(1)?;
    let end = workspace.source(source).text.len();
    let own = cells[index].span;
    (at < own.end() || own.end() == end).then_some(CellId { source, index: index as u32 })
}

/// The cell that contains byte `at`; for the lines before the first cell, the first, since they apply to it.
fn nearest_cell(workspace: &Workspace, source: SourceId, at: usize) -> Option<CellId> {
    cell_at(workspace, source, at).or_else(|| workspace.cells(source).next())
}

/// The cells that a cell directly needs, as far as they are loaded.
pub(crate) fn needs(workspace: &Workspace, cell: CellId) -> Vec<CellId> {
    let text = &workspace.source(cell.source).text;
    let lists = workspace.cell(cell).instructions().filter_map(|line| match line.kind {
        InstructionKind::Needs(list) => Some(list),
        _ => None,
    });
    let named = lists
        .flat_map(|list| InstructionKind::list(list, text))
        .filter_map(|name| named_cell(workspace, cell.source, name.of(text)));
    named.collect()
}

/// The cell that `name` or `file.http#name` names in a file, as far as that is loaded.
fn named_cell(workspace: &Workspace, from: SourceId, name: &str) -> Option<CellId> {
    match name.rsplit_once('#') {
        None => workspace.cell_named(from, name),
        Some((path, name)) => workspace.cell_named(workspace.loaded_relative(from, path)?, name),
    }
}

/// The line of `at` without its end.
fn line_at(text: &str, at: usize) -> Span {
    let at = at.min(text.len());
    let start = text[..at].rfind('\n').map_or(0, |end| end + 1);
    let end = text[at..].find('\n').map_or(text.len(), |end| at + end);
    let end = if text[start..end].ends_with('\r') { end - 1 } else { end };
    Span::new(start, end.max(start))
}
