use super::CellId;
use crate::expression::Value;
use crate::problem::SourceId;
use rustc_hash::FxHashMap;

/// What responses yielded. A value is seen in the file of the cell that yielded it, and elsewhere
/// by a cell that needs that cell: so files can run side by side with the same result.
#[derive(Debug, Default)]
pub struct Tray {
    values: FxHashMap<Box<str>, Vec<Yielded>>,
}

/// A value and where it came from.
#[derive(Clone, Debug)]
pub struct Yielded {
    /// The value.
    pub value: Value,
    /// The cell whose response it was taken from.
    pub cell: CellId,
    /// Whether it may be shown.
    pub secret: bool,
}

impl Tray {
    /// Puts a value on the tray; in one file the later one stays.
    pub fn put(&mut self, name: &str, yielded: Yielded) {
        let same_name = self.values.entry(name.into()).or_default();
        same_name.retain(|old| old.cell.source != yielded.cell.source);
        same_name.push(yielded);
    }

    /// The value a cell of `file` sees under `name`, if that cell directly needs `needs`.
    pub fn get(&self, name: &str, file: SourceId, needs: &[CellId]) -> Option<&Yielded> {
        let same_name = self.values.get(name)?;
        let own = same_name.iter().find(|yielded| yielded.cell.source == file);
        own.or_else(|| same_name.iter().find(|yielded| needs.contains(&yielded.cell)))
    }
}
