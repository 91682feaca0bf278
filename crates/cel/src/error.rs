//! Errors of the syntax.

use thiserror::Error;
use yieldtray_source::Span;

/// A part of a text that does not follow the grammar.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{kind}")]
pub struct SyntaxError {
    /// The part, in bytes.
    pub span: Span,
    /// The kind of error.
    pub kind: SyntaxErrorKind,
}

/// The kind of a syntax error.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum SyntaxErrorKind {
    /// Something else is expected.
    #[error("expected {expected}, found {found}")]
    Expected {
        /// A description of what could be here.
        expected: &'static str,
        /// The token that is here, or `the end`.
        found: String,
    },
    /// A character that begins no token.
    #[error("`{0}` is not part of an expression")]
    Character(char),
    /// A string or bytes literal without its closing quotes.
    #[error("the string is not closed")]
    UnclosedString,
    /// A line end in a literal of one line.
    #[error("a string in single quotes cannot span lines: use three quotes")]
    LineEnd,
    /// An escape that is not defined.
    #[error("`{0}` is not an escape sequence")]
    Escape(String),
    /// An escape whose number is not that of a character, or is not a byte.
    #[error("`{0}` is not a character code")]
    CodePoint(String),
    /// An integer outside of the range of its type.
    #[error("`{0}` does not fit into 64 bits")]
    IntegerRange(String),
    /// Digits that are not a number.
    #[error("`{0}` is not a number")]
    Number(String),
    /// A word that is reserved and cannot be a name.
    #[error("`{0}` is a reserved word")]
    Reserved(String),
    /// `has` of something without a member.
    #[error("`has` needs a member, as in `has(a.b)`")]
    HasWithoutMember,
    /// A variable of a macro that is not a plain name.
    #[error("the variable of `{0}` must be a name")]
    MacroVariable(String),
    /// Both variables of a macro have the same name.
    #[error("the two variables of `{0}` have the same name")]
    SameVariable(String),
    /// The map of a macro that makes entries is not written as `{key: value}`.
    #[error("`transformMapEntry` needs an entry, as in `{{key: value}}`")]
    MacroEntry,
    /// More levels than are read.
    #[error("nesting is deeper than {0} levels")]
    Depth(usize),
}
