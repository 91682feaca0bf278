//! Why an expression has no value.

use thiserror::Error;

/// Why an expression has no value, in one line. The text may have parts of the values, so secrets too, until it is
/// masked.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct EvalError(String);

impl EvalError {
    /// The error with this text.
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// Its text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Its text, to mask secrets in it.
    pub fn text_mut(&mut self) -> &mut String {
        &mut self.0
    }
}
