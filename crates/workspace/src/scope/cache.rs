//! Values that were evaluated for one cell.

use crate::secret::UsedSecret;
use rustc_hash::FxHashMap;
use yieldtray_expression::Value;
use yieldtray_source::{SourceId, Span};

/// Values that were evaluated for one cell: a `let` has one value from the request to the last check.
#[derive(Default)]
pub struct EvalCache {
    lets: FxHashMap<(SourceId, Span), Value>,
    /// The row of `% each` that the cell is sent for.
    pub row: Option<Value>,
    /// The arguments of `% play … with`.
    pub with: Vec<(String, Value)>,
    /// Secrets that were looked up.
    pub secrets: Vec<UsedSecret>,
    /// How many of them were taken by [`Self::new_secrets`].
    masked: usize,
    /// The place of the request in the plan of its run.
    place: Option<usize>,
}

impl std::fmt::Debug for EvalCache {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The values may be secrets.
        write!(f, "EvalCache({} lets, {} secrets)", self.lets.len(), self.secrets.len())
    }
}

impl EvalCache {
    /// A memo of a cell that is sent for this row, if for one, and that a sequence gives these values.
    pub fn given(row: Option<Value>, with: Vec<(String, Value)>) -> Self {
        Self { row, with, ..Self::default() }
    }

    /// The same of a request at this place in the plan of its run: of the values of other files' cells it sees those
    /// that were captured by steps before it.
    #[must_use]
    pub fn at(mut self, place: usize) -> Self {
        self.place = Some(place);
        self
    }

    /// The place of the request in the plan of its run.
    pub(super) fn place(&self) -> Option<usize> {
        self.place
    }

    /// The value of a `let` that was evaluated before.
    pub(super) fn let_value(&self, source: SourceId, line: Span) -> Option<&Value> {
        self.lets.get(&(source, line))
    }

    /// Stores the value of a `let`.
    pub(super) fn store_let(&mut self, source: SourceId, line: Span, value: Value) {
        self.lets.insert((source, line), value);
    }

    /// The values of the secrets that were looked up since this was last called, to be masked from now on.
    pub fn new_secrets(&mut self) -> impl Iterator<Item = Value> + '_ {
        let from = std::mem::replace(&mut self.masked, self.secrets.len());
        self.secrets[from..].iter().map(|secret| secret.value.clone())
    }
}
