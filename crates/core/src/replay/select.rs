use crate::workspace::{CellId, Workspace};
use sha2::{Digest, Sha256};

/// Which cells of some files are chosen. An empty list chooses all.
#[derive(Clone, Debug, Default)]
pub struct Selection {
    /// Names or patterns with `*`.
    pub only: Vec<String>,
    /// Names or patterns of cells that are left out.
    pub except: Vec<String>,
    /// Tags, of which a cell must have one.
    pub tags: Vec<String>,
    /// One share of the cells: which, from 1, and of how many. A cell is always in the same one.
    pub shard: Option<(u32, u32)>,
}

impl Selection {
    /// Whether `cell` is chosen.
    pub fn takes(&self, workspace: &Workspace, cell: CellId) -> bool {
        let name = &workspace.cell(cell).name;
        let named = self.only.is_empty() || self.only.iter().any(|pattern| matches(pattern, name));
        let left_out = self.except.iter().any(|pattern| matches(pattern, name));
        let share = self.shard.is_none_or(|(own, all)| share_of(workspace, cell, all) == own);
        named
            && !left_out
            && share
            && (self.tags.is_empty() || {
                let tags = workspace.tags(cell);
                self.tags.iter().any(|tag| tags.contains(&tag.as_str()))
            })
    }
}

/// The share of a cell: by its file and name alone, so that it stays where it is while others come and go.
fn share_of(workspace: &Workspace, cell: CellId, all: u32) -> u32 {
    let name = format!("{}#{}", workspace.shown_path(cell.source), workspace.cell(cell).name);
    let digest = Sha256::digest(name);
    let number = digest.iter().take(8).fold(0u64, |number, byte| number << 8 | u64::from(*byte));
    (number % u64::from(all.max(1))) as u32 + 1
}

/// Whether `name` fits `pattern`, in which `*` stands for any run of characters.
pub fn matches(pattern: &str, name: &str) -> bool {
    let mut pieces = pattern.split('*');
    let first = pieces.next().unwrap_or_default();
    let Some(mut rest) = name.strip_prefix(first) else { return false };
    let mut pieces = pieces.peekable();
    if pieces.peek().is_none() {
        return rest.is_empty();
    }
    while let Some(piece) = pieces.next() {
        if pieces.peek().is_none() {
            return rest.ends_with(piece);
        }
        match rest.find(piece) {
            Some(at) => rest = &rest[at + piece.len()..],
            None => return false,
        }
    }
    true
}
