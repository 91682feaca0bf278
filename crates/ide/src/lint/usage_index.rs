//! An index of the names that files use of each other.

use super::names::Uses;
use rustc_hash::{FxHashMap, FxHashSet};
use yieldtray_source::SourceId;
use yieldtray_workspace::{CellId, Workspace};

/// An index of the names that files use of each other: whether a value is unused is known only after all of them were
/// linted.
#[derive(Debug, Default)]
pub struct UsageIndex(FxHashMap<SourceId, FileUsage>);

/// The names that one file uses of others.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileUsage {
    /// The names that the cells of the file use.
    names: FxHashSet<Box<str>>,
    /// The cells that they need, by file and name: numbers change when a file does.
    needs: FxHashSet<(SourceId, Box<str>)>,
}

impl UsageIndex {
    /// The names that a file uses of others, as far as known.
    pub fn of(&self, source: SourceId) -> Option<FileUsage> {
        self.0.get(&source).cloned()
    }

    /// Forgets a file that is gone.
    pub fn forget(&mut self, source: SourceId) {
        self.0.remove(&source);
    }

    /// Takes what the cells of some files use, in place of what was known of those files.
    pub(super) fn take(&mut self, workspace: &Workspace, uses: &[Uses<'_>]) {
        let mut fresh: FxHashMap<SourceId, FileUsage> = FxHashMap::default();
        for Uses { step, names } in uses {
            let tie = fresh.entry(step.cell.source).or_default();
            tie.names.extend(names.iter().map(|used| Box::from(used.name.as_str())));
            let need = |need: &CellId| (need.source, workspace.cell(*need).name.clone());
            tie.needs.extend(step.needs.iter().map(need));
        }
        self.0.extend(fresh);
    }

    /// Whether a cell of the file itself uses a value of that name.
    pub(super) fn uses(&self, source: SourceId, name: &str) -> bool {
        self.0.get(&source).is_some_and(|tie| tie.names.contains(name))
    }

    /// Whether another file needs the cell and uses the name.
    pub(super) fn is_needed(&self, cell: (SourceId, &str), name: &str) -> bool {
        let cell = (cell.0, Box::from(cell.1));
        self.0.values().any(|tie| tie.needs.contains(&cell) && tie.names.contains(name))
    }

    /// Whether any file uses a value of that name.
    pub(super) fn uses_anywhere(&self, name: &str) -> bool {
        self.0.values().any(|tie| tie.names.contains(name))
    }
}
