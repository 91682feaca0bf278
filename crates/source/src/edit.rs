use super::Span;

/// A change of one text: what stands at `span` gives way to `text`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edit {
    /// What goes; empty where something is only put in.
    pub span: Span,
    /// What comes.
    pub text: String,
}

impl Edit {
    /// Puts `text` in place of what stands at `span`.
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
