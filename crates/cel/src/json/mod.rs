//! JSON (RFC 8259): read in place, and written.

mod document;
mod scan;
mod validate;
mod write;

#[cfg(test)]
mod tests;

pub use validate::{JsonError, JsonErrorKind, MAX_JSON_DEPTH};

use crate::value::Value;
use bytes::Bytes;
use document::Document;
use std::sync::Arc;

impl Value {
    /// The value of a JSON text. The text is checked as a whole, but of lists and objects only that is read which is
    /// asked for, when it is asked for. Numbers keep their digits; of members with the same name the last one counts.
    ///
    /// # Errors
    /// If the text is not JSON, has more than [`MAX_JSON_DEPTH`] levels, or more than 4 GiB.
    pub fn parse_json(text: impl Into<Bytes>) -> Result<Self, JsonError> {
        let text = text.into();
        let valid = validate::validate(&text)?;
        Ok(Document::value_at(&Arc::new(Document::new(text, valid.ends)), valid.start))
    }

    /// The same value without the text that it is read from: a member of a large text keeps only its own part of it.
    #[must_use]
    pub fn detached(&self) -> Self {
        let copy = |json: &[u8]| Value::parse_json(Bytes::copy_from_slice(json)).unwrap_or_else(|_| self.clone());
        match self {
            Value::List(list) => match list.json() {
                Some(json) => copy(json),
                None => Value::List(list.iter().map(|member| member.detached()).collect()),
            },
            Value::Map(map) => match map.json() {
                Some(json) => copy(json),
                None => Value::Map(map.iter().map(|(key, value)| (key, value.detached())).collect()),
            },
            Value::Optional(Some(value)) => Value::some(value.detached()),
            other => other.clone(),
        }
    }
}
