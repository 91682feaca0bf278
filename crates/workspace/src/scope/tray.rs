//! The tray: the store for captured values.

use crate::CellId;
use rustc_hash::{FxHashMap, FxHashSet};
use yieldtray_expression::Value;
use yieldtray_source::SourceId;

/// Captured values. A value is visible in the file of the cell that captured it, and elsewhere to a cell that needs
/// that cell: so files can run in parallel with the same result.
#[derive(Clone, Debug, Default)]
pub struct Tray {
    values: FxHashMap<Box<str>, Vec<Item>>,
    /// Steps of the plan that cells of other files rely on: what they captured stays, whatever comes later.
    shared: FxHashSet<usize>,
}

/// One value on the tray.
#[derive(Clone, Debug)]
struct Item {
    /// The place in the plan of the step that captured it; `None` for what was there before.
    place: Option<usize>,
    yielded: CapturedValue,
}

/// A value and its origin.
#[derive(Clone)]
pub struct CapturedValue {
    /// The value.
    pub value: Value,
    /// The file whose cell yielded it.
    pub source: SourceId,
    /// That cell; `None` for a saved value whose cell no longer exists.
    pub cell: Option<CellId>,
    /// True if it is a secret.
    pub secret: bool,
    /// The origin of the response that it was captured from, for a secret.
    pub origin: Option<String>,
    /// Seconds since 1970 at which it was put here, for a value kept from an earlier process.
    pub kept_at: Option<i64>,
}

impl std::fmt::Debug for CapturedValue {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.secret {
            true => f.write_str("Yielded([secret])"),
            false => write!(f, "Yielded({})", self.value.show()),
        }
    }
}

impl Tray {
    /// The tray of a run in which cells of other files rely on these steps of the plan.
    #[must_use]
    pub fn shared(self, shared: FxHashSet<usize>) -> Self {
        Self { shared, ..self }
    }

    /// Puts a value on the tray that was there before any run; in one file the later one stays.
    pub fn put(&mut self, name: &str, yielded: CapturedValue) {
        self.put_item(name, Item { place: None, yielded });
    }

    /// Puts a value on the tray that was captured by the step at `place` of a plan.
    pub fn put_at(&mut self, name: &str, yielded: CapturedValue, place: usize) {
        self.put_item(name, Item { place: Some(place), yielded });
    }

    fn put_item(&mut self, name: &str, item: Item) {
        let same_name = self.values.entry(name.into()).or_default();
        let stays = |old: &Item| old.place != item.place && old.place.is_some_and(|place| self.shared.contains(&place));
        same_name.retain(|old| old.yielded.source != item.yielded.source || stays(old));
        same_name.push(item);
    }

    /// Puts a value on the tray beside others of its name and file.
    pub fn put_relative(&mut self, name: &str, yielded: CapturedValue) {
        self.values.entry(name.into()).or_default().push(Item { place: None, yielded });
    }

    /// The value a cell of `file` sees under `name`, if that cell directly needs `needs`.
    pub fn get(&self, name: &str, file: SourceId, needs: &[CellId]) -> Option<&CapturedValue> {
        self.get_at(name, file, needs, None)
    }

    /// The same for a cell at `place` of a plan: what cells of other files captured counts as it was before that.
    pub(crate) fn get_at(
        &self,
        name: &str,
        file: SourceId,
        needs: &[CellId],
        place: Option<usize>,
    ) -> Option<&CapturedValue> {
        let same_name = self.values.get(name)?;
        let own = same_name.iter().rev().find(|item| item.yielded.source == file);
        let is_before = |item: &&Item| place.is_none() || item.place < place;
        let needed = |need: &CellId| {
            let of_need = same_name.iter().filter(|item| item.yielded.cell == Some(*need)).filter(is_before);
            of_need.max_by_key(|item| item.place)
        };
        own.or_else(|| needs.iter().find_map(needed)).map(|item| &item.yielded)
    }

    /// Everything on it, in no order.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &CapturedValue)> {
        self.values.iter().flat_map(|(name, items)| items.iter().map(move |item| (&**name, &item.yielded)))
    }
}
