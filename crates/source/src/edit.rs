//! Edits of a text.

use super::Span;

/// A change of one text: replaces the bytes at `span` with `text`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    /// The bytes to replace; empty for an insertion.
    pub span: Span,
    /// The replacement.
    pub text: String,
}

impl Edit {
    /// An edit that replaces the bytes at `span` with `text`.
    pub fn replace(span: Span, text: impl Into<String>) -> Self {
        Self { span, text: text.into() }
    }

    /// Puts `text` in at byte `at`.
    pub fn insert(at: usize, text: impl Into<String>) -> Self {
        Self::replace(Span::empty(at), text)
    }
}

/// The text with `edits` made, which are in order and do not overlap.
pub fn edited(text: &str, edits: &[Edit]) -> String {
    let mut out = String::with_capacity(text.len() + edits.iter().map(|edit| edit.text.len()).sum::<usize>());
    let mut at = 0;
    for edit in edits {
        out.push_str(&text[at..edit.span.start()]);
        out.push_str(&edit.text);
        at = edit.span.end();
    }
    out.push_str(&text[at..]);
    out
}
