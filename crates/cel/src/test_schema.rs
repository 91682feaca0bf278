//! The type of a lot, for tests.

use crate::{Schema, Type};
use std::sync::Arc;

/// A lot: `id` and `bins`, and a note that may be null.
pub(crate) struct Lot;

impl Schema for Lot {
    fn member(&self, name: &str) -> Option<Type> {
        match name {
            "id" => Some(Type::String),
            "bins" => Some(Type::Int),
            "note" => Some(Type::Nullable(Arc::new(Type::String))),
            _ => None,
        }
    }

    fn members(&self) -> Vec<String> {
        ["id", "bins", "note"].map(str::to_owned).to_vec()
    }
}
