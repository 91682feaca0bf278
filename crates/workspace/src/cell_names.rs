//! An index of the names of a file's cells and of their captures, built once: in a long file a search for each name
//! would take longer than everything else.

use rustc_hash::FxHashMap;
use yieldtray_syntax::{InstructionKind, RequestFile};

/// The cells of one file, by their places in it.
pub(super) struct CellNames {
    named: FxHashMap<Box<str>, u32>,
    yielding: FxHashMap<Box<str>, Vec<u32>>,
}

impl CellNames {
    pub(super) fn of(text: &str, file: &RequestFile) -> Self {
        let (mut named, mut yielding) = (FxHashMap::default(), FxHashMap::<Box<str>, Vec<u32>>::default());
        for (index, cell) in (0..).zip(&file.cells) {
            // Duplicate names are an error; the first cell has the name.
            named.entry(Box::from(&*cell.name)).or_insert(index);
            for line in cell.instructions() {
                if let InstructionKind::Yield { name, .. } = line.kind {
                    yielding.entry(name.of(text).into()).or_default().push(index);
                }
            }
        }
        Self { named, yielding }
    }

    pub(super) fn named(&self, name: &str) -> Option<u32> {
        self.named.get(name).copied()
    }

    /// The cells that yield a name, in order.
    pub(super) fn yielding(&self, name: &str) -> &[u32] {
        self.yielding.get(name).map_or(&[], Vec::as_slice)
    }
}
