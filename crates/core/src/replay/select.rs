use crate::workspace::{CellId, Workspace};

/// Which cells of some files are chosen. An empty list chooses all.
#[derive(Clone, Debug, Default)]
pub struct Selection {
    /// Names or patterns with `*`.
    pub only: Vec<String>,
    /// Names or patterns of cells that are left out.
    pub except: Vec<String>,
    /// Tags, of which a cell must have one.
    pub tags: Vec<String>,
}

impl Selection {
    /// Whether `cell` is chosen.
    pub fn takes(&self, workspace: &Workspace, cell: CellId) -> bool {
        let name = &workspace.cell(cell).name;
        let named = self.only.is_empty() || self.only.iter().any(|pattern| matches(pattern, name));
        let left_out = self.except.iter().any(|pattern| matches(pattern, name));
        named
            && !left_out
            && (self.tags.is_empty() || {
                let tags = workspace.tags(cell);
                self.tags.iter().any(|tag| tags.contains(&tag.as_str()))
            })
    }
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
