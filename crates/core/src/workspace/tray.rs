use super::CellId;
use crate::expression::Value;
use crate::problem::SourceId;
use rustc_hash::{FxHashMap, FxHashSet};

/// What responses yielded. A value is seen in the file of the cell that yielded it, and elsewhere
/// by a cell that needs that cell: so files can run side by side with the same result.
#[derive(Clone, Debug, Default)]
pub struct Tray {
    values: FxHashMap<Box<str>, Vec<Yielded>>,
    /// Cells that cells of other files need: what they yield stays, whatever comes later.
    shared: FxHashSet<CellId>,
}

/// A value and where it came from.
#[derive(Clone)]
pub struct Yielded {
    /// The value.
    pub value: Value,
    /// The file whose cell yielded it.
    pub source: SourceId,
    /// That cell; `None` for a kept value whose cell is no longer there.
    pub cell: Option<CellId>,
    /// Whether it is a secret.
    pub secret: bool,
    /// The origin of the response that it was captured from, for a secret.
    pub origin: Option<String>,
    /// Seconds since 1970 at which it was put here, for a value kept from an earlier process.
    pub kept_at: Option<i64>,
}

impl std::fmt::Debug for Yielded {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.secret {
            true => f.write_str("Yielded([secret])"),
            false => write!(f, "Yielded({})", self.value.show()),
        }
    }
}

impl Tray {
    /// The tray of a run in which cells of other files need `shared`.
    #[must_use]
    pub(crate) fn shared(self, shared: FxHashSet<CellId>) -> Self {
        Self { shared, ..self }
    }

    /// Puts a value on the tray; in one file the later one stays.
    pub fn put(&mut self, name: &str, yielded: Yielded) {
        let same_name = self.values.entry(name.into()).or_default();
        let is_shared = |cell: Option<CellId>| cell.is_some_and(|cell| self.shared.contains(&cell));
        same_name.retain(|old| old.source != yielded.source || (old.cell != yielded.cell && is_shared(old.cell)));
        same_name.push(yielded);
    }

    /// Puts a value on the tray beside others of its name and file.
    pub(crate) fn put_beside(&mut self, name: &str, yielded: Yielded) {
        self.values.entry(name.into()).or_default().push(yielded);
    }

    /// The value a cell of `file` sees under `name`, if that cell directly needs `needs`.
    pub fn get(&self, name: &str, file: SourceId, needs: &[CellId]) -> Option<&Yielded> {
        let same_name = self.values.get(name)?;
        let own = same_name.iter().rev().find(|yielded| yielded.source == file);
        own.or_else(|| same_name.iter().find(|yielded| yielded.cell.is_some_and(|cell| needs.contains(&cell))))
    }

    /// Everything on it, in no order.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Yielded)> {
        self.values.iter().flat_map(|(name, values)| values.iter().map(move |yielded| (&**name, yielded)))
    }
}
