//! A JSON text as it was read, for functions that take JSON: no values are made of what they do not select.

use super::Value;
use super::opaque::opaque;
use serde_json::Value as Json;
use std::sync::Arc;

/// A JSON document.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Document(pub(super) Arc<Json>);

opaque!(Document, "document", same);

impl Value {
    /// Reads a JSON text as a document.
    pub(crate) fn parse_document(text: &[u8]) -> Result<Self, serde_json::Error> {
        let document = Document(Arc::new(serde_json::from_slice(text)?));
        Ok(Self(Box::<dyn cel::common::value::Val>::from(Box::new(document)).into()))
    }
}
