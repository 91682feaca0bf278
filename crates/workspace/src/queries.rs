//! Questions about the cells of a workspace: places, titles, tags, and what the lines over a cell say with its own.

use super::{CellId, Workspace};
use crate::file_set::shown;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax as syntax;
use yieldtray_syntax::{Auth, Instruction, InstructionKind};

impl Workspace {
    /// The file's name as it is shown: relative to the root, with `/`.
    pub fn shown_path(&self, id: SourceId) -> String {
        shown(&self.source(id).path)
    }

    /// `file:line` of a byte.
    pub fn shown_line(&self, id: SourceId, offset: usize) -> String {
        format!("{}:{}", self.shown_path(id), self.source(id).lines().line_of(offset))
    }

    /// `file:line` of a cell.
    pub fn shown_cell(&self, id: CellId) -> String {
        self.shown_line(id.source, self.cell(id).span.start())
    }

    /// `file:line:column` of a byte.
    pub fn shown_place(&self, id: SourceId, offset: usize) -> String {
        let place = self.source(id).place(offset);
        format!("{}:{}:{}", self.shown_path(id), place.line, place.column)
    }

    /// The line a cell starts at, from 1.
    pub fn line_of(&self, id: CellId) -> usize {
        self.source(id.source).lines().line_of(self.cell(id).span.start())
    }

    /// A cell's title, or its name where it has none.
    pub fn title(&self, id: CellId) -> &str {
        let cell = self.cell(id);
        let title = cell.title.of(&self.source(id.source).text);
        if title.is_empty() { &cell.name } else { title }
    }

    /// The instructions of the preambles above a file: `_common.http`, the outermost first, then the file's own. Each
    /// with its text.
    pub fn preambles(&self, source: SourceId) -> impl Iterator<Item = (SourceId, &Instruction)> + '_ {
        let over = self.source(source).inherited.iter().copied().chain([source]);
        over.flat_map(|id| syntax::instructions(&self.source(id).file.preamble).map(move |item| (id, item)))
    }

    /// The tags of a cell: its own and those of the preambles over it.
    pub fn tags(&self, id: CellId) -> Vec<&str> {
        let own = self.cell(id).instructions().map(|instruction| (id.source, instruction));
        let mut tags: Vec<&str> = self
            .preambles(id.source)
            .chain(own)
            .filter_map(|(source, instruction)| match instruction.kind {
                InstructionKind::Tag(list) => Some((&self.source(source).text, list)),
                _ => None,
            })
            .flat_map(|(text, list)| InstructionKind::list(list, text).map(move |tag| tag.of(text)))
            .collect();
        tags.sort_unstable();
        tags.dedup();
        tags
    }
}

/// The instructions that hold for a cell, the outermost first, its own last.
pub(crate) fn effective_instructions(
    workspace: &Workspace,
    cell: CellId,
) -> impl Iterator<Item = (SourceId, &Instruction)> {
    let own = workspace.cell(cell).instructions().map(move |line| (cell.source, line));
    workspace.preambles(cell.source).chain(own)
}

/// Whether a cell, or a preamble over it, says `% insecure`.
pub fn says_insecure(workspace: &Workspace, cell: CellId) -> bool {
    let lines = effective_instructions(workspace, cell).filter_map(|(_, line)| match line.kind {
        InstructionKind::Insecure(insecure) => Some(insecure),
        _ => None,
    });
    lines.last() == Some(true)
}

/// The `% auth` line by which a cell goes out.
pub(crate) struct AuthLine<'w> {
    /// The text it is in.
    pub(crate) origin: SourceId,
    /// The line itself.
    pub(crate) line: &'w Instruction,
    /// The kind of authorization.
    pub(crate) auth: Auth,
    /// True if it is in the cell itself.
    pub(crate) is_local: bool,
}

/// The line that says by which credentials a cell goes out: the nearest.
pub(crate) fn auth_of(workspace: &Workspace, cell: CellId) -> Option<AuthLine<'_>> {
    let lines = effective_instructions(workspace, cell).filter_map(|(origin, line)| match line.kind {
        InstructionKind::Auth(auth) => Some((origin, line, auth)),
        _ => None,
    });
    let (origin, line, auth) = lines.last()?;
    let is_local = origin == cell.source && workspace.cell(cell).span.contains(line.span);
    Some(AuthLine { origin, line, auth, is_local })
}

/// The nearest line that says how a cell is signed.
pub(crate) fn sign_line(workspace: &Workspace, cell: CellId) -> Option<(SourceId, Span)> {
    let lines = effective_instructions(workspace, cell).filter_map(|(origin, line)| match line.kind {
        InstructionKind::Sign(profile) => Some(profile.map(|span| (origin, span))),
        _ => None,
    });
    lines.last()?
}

/// Whether a cell goes out with a token of an OAuth 2.0 profile.
pub fn uses_oauth2(workspace: &Workspace, cell: CellId) -> bool {
    auth_of(workspace, cell).is_some_and(|line| matches!(line.auth, Auth::OAuth2(_)))
}

/// The labels of the checks in the preambles over a file.
pub(crate) fn shared_labels(workspace: &Workspace, source: SourceId) -> Vec<&str> {
    workspace
        .preambles(source)
        .filter_map(|(origin, instruction)| match instruction.kind {
            InstructionKind::Check { label, .. } => Some(label?.of(&workspace.source(origin).text)),
            _ => None,
        })
        .collect()
}
