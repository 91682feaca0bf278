//! Why an expression has no value.

use thiserror::Error;
use yieldtray_source::Span;

/// Why an expression has no value, in one line. The text may have parts of the values, so secrets too, until it is
/// masked.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{text}")]
pub struct EvalError {
    text: String,
    span: Option<Span>,
}

impl EvalError {
    /// The error with this text.
    pub fn new(text: impl Into<String>) -> Self {
        Self { text: text.into(), span: None }
    }

    /// The error with this text at a part of the expression.
    pub fn at(span: Span, text: impl Into<String>) -> Self {
        Self { text: text.into(), span: Some(span) }
    }

    /// Its text.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Its text, to mask secrets in it.
    pub fn text_mut(&mut self) -> &mut String {
        &mut self.text
    }

    /// The part of the expression that it is about, in bytes from the start of the expression.
    pub fn span(&self) -> Option<Span> {
        self.span
    }
}
