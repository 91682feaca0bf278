//! Selects cells by name, tag and pattern.

use crate::{CellId, Workspace};
use yieldtray_source::glob::glob_match;

/// Which cells of some files are chosen. An empty list chooses all.
#[derive(Clone, Debug, Default)]
pub struct Selection {
    /// Names or patterns with `*`.
    pub only: Vec<String>,
    /// Names or patterns of cells that are left out.
    pub exclude: Vec<String>,
    /// Tags, of which a cell must have one.
    pub tags: Vec<String>,
}

impl Selection {
    /// Whether `cell` is chosen.
    pub fn includes(&self, workspace: &Workspace, cell: CellId) -> bool {
        let name = &workspace.cell(cell).name;
        let named = self.only.is_empty() || self.only.iter().any(|pattern| glob_match(pattern, name));
        let left_out = self.exclude.iter().any(|pattern| glob_match(pattern, name));
        named
            && !left_out
            && (self.tags.is_empty() || {
                let tags = workspace.tags(cell);
                self.tags.iter().any(|tag| tags.contains(&tag.as_str()))
            })
    }
}
