//! What the lines over a cell and its own lines say together.

use super::{CellId, Workspace};
use yieldtray_source::SourceId;
use yieldtray_syntax::{Auth, Instruction, InstructionKind};

/// The instructions that hold for a cell, the outermost first, its own last.
pub(crate) fn lines_over(workspace: &Workspace, cell: CellId) -> impl Iterator<Item = (SourceId, &Instruction)> {
    let own = workspace.cell(cell).instructions().map(move |line| (cell.source, line));
    workspace.preambles(cell.source).chain(own)
}

/// Whether a cell, or a preamble over it, says `% insecure`.
pub fn says_insecure(workspace: &Workspace, cell: CellId) -> bool {
    let lines = lines_over(workspace, cell).filter_map(|(_, line)| match line.kind {
        InstructionKind::Insecure(insecure) => Some(insecure),
        _ => None,
    });
    lines.last() == Some(true)
}

/// The `% auth` line by which a cell goes out.
pub(crate) struct AuthLine<'w> {
    /// The text it stands in.
    pub(crate) home: SourceId,
    /// The line itself.
    pub(crate) line: &'w Instruction,
    /// What it asks for.
    pub(crate) auth: Auth,
    /// Whether it is the cell's own.
    pub(crate) own: bool,
}

/// The line that says by which credentials a cell goes out: the nearest.
pub(crate) fn auth_of(workspace: &Workspace, cell: CellId) -> Option<AuthLine<'_>> {
    let lines = lines_over(workspace, cell).filter_map(|(home, line)| match line.kind {
        InstructionKind::Auth(auth) => Some((home, line, auth)),
        _ => None,
    });
    let (home, line, auth) = lines.last()?;
    let own = home == cell.source && workspace.cell(cell).span.contains(line.span);
    Some(AuthLine { home, line, auth, own })
}

/// Whether a cell goes out with a token of an OAuth 2.0 profile.
pub fn uses_oauth2(workspace: &Workspace, cell: CellId) -> bool {
    auth_of(workspace, cell).is_some_and(|line| matches!(line.auth, Auth::OAuth2(_)))
}

/// The labels of the checks in the preambles over a file.
pub(crate) fn shared_labels(workspace: &Workspace, source: SourceId) -> Vec<&str> {
    workspace
        .preambles(source)
        .filter_map(|(home, instruction)| match instruction.kind {
            InstructionKind::Check { label, .. } => Some(label?.of(&workspace.source(home).text)),
            _ => None,
        })
        .collect()
}
