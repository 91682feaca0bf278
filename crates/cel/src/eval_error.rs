//! Errors of an evaluation.

use crate::budget::LimitExceeded;
use std::fmt;
use std::sync::Arc;
use yieldtray_source::Span;

/// Why an expression has no value. Cloning shares it.
#[derive(Clone)]
pub struct EvalError(Arc<Inner>);

struct Inner {
    span: Span,
    kind: EvalErrorKind,
}

impl EvalError {
    /// An error at a part of the text.
    pub fn new(span: Span, kind: EvalErrorKind) -> Self {
        Self(Arc::new(Inner { span, kind }))
    }

    /// The part of the text that it is about, in bytes.
    pub fn span(&self) -> Span {
        self.0.span
    }

    /// The kind of error.
    pub fn kind(&self) -> &EvalErrorKind {
        &self.0.kind
    }
}

impl fmt::Debug for EvalError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}: {:?}", self.0.span, self.0.kind)
    }
}

impl fmt::Display for EvalError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(&self.0.kind, f)
    }
}

impl std::error::Error for EvalError {}

/// The kind of an error of an evaluation.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum EvalErrorKind {
    /// A part that could not be read.
    #[error("the expression has a syntax error")]
    Syntax,
    /// A name without a value.
    #[error("there is no `{0}`")]
    UnknownName(String),
    /// A call of a function that does not exist, or not with so many arguments.
    #[error("there is no function `{0}` with these arguments")]
    UnknownFunction(String),
    /// A function or operator that does not take values of these types.
    #[error("`{function}` does not take {}", arguments.join(", "))]
    NoOverload {
        /// The function or operator.
        function: String,
        /// The types of the values.
        arguments: Vec<&'static str>,
    },
    /// A map without that member.
    #[error("there is no `{member}`")]
    NoMember {
        /// The map in the text.
        operand: Span,
        /// The member.
        member: String,
        /// The members that there are, at most [`SHOWN_MEMBERS`].
        known: Vec<String>,
        /// How many there are.
        count: usize,
    },
    /// A member of a value that has no members.
    #[error("{type_name} has no member `{member}`")]
    NoMembers {
        /// The value in the text.
        operand: Span,
        /// The type of the value.
        type_name: &'static str,
        /// The member.
        member: String,
    },
    /// An index outside of a list.
    #[error("there is no element {index}, but {length}")]
    NoElement {
        /// The list in the text.
        operand: Span,
        /// The index.
        index: i64,
        /// How many elements there are.
        length: usize,
    },
    /// The index of a list that is not a whole number.
    #[error("a list index must be an integer, not {type_name}")]
    IndexType {
        /// The type of the index.
        type_name: &'static str,
    },
    /// A division by zero, or the remainder of one.
    #[error("division by zero")]
    DivisionByZero,
    /// A number or time outside of the range of its type.
    #[error("the result is out of the range of {0}")]
    Range(&'static str),
    /// A text that is not one of the type it is read as.
    #[error("`{text}` is not {expected}")]
    Text {
        /// The text.
        text: String,
        /// The description of what it should be, with its article.
        expected: &'static str,
    },
    /// Bytes that are not UTF-8.
    #[error("the bytes are not UTF-8")]
    NotUtf8,
    /// Two entries of a map with the same key.
    #[error("the key `{0}` appears twice")]
    DuplicateKey(String),
    /// A key that is not a text, an integer or a truth value.
    #[error("{0} cannot be the key of a map")]
    KeyType(&'static str),
    /// A loop over what is neither a list nor a map.
    #[error("{0} has no elements to go through")]
    NotIterable(&'static str),
    /// A condition that is neither true nor false.
    #[error("a condition must be true or false, not {0}")]
    Condition(&'static str),
    /// The value of an optional without one.
    #[error("the optional is empty")]
    EmptyOptional,
    /// A value after `?` that is not an optional.
    #[error("a value after `?` must be an optional, not {0}")]
    NotOptional(&'static str),
    /// Messages, which are types of protocol buffers.
    #[error("there is no type `{0}`")]
    UnknownType(String),
    /// An error of a function.
    #[error("`{function}`: {message}")]
    Function {
        /// The name of the function.
        function: String,
        /// The message.
        message: String,
    },
    /// An error in a function that is itself an expression.
    #[error("in `{}`: {}", .0.function, .0.error)]
    InFunction(Box<FunctionError>),
    /// A value with more levels than values may have.
    #[error("lists and maps are nested deeper than {0} levels")]
    Depth(usize),
    /// More steps than one evaluation may take.
    #[error("the expression exceeds {0} steps")]
    Steps(u64),
    /// More bytes than the values of one evaluation may have.
    #[error("the value is larger than {0} bytes")]
    Bytes(u64),
}

/// An error in a function that is itself an expression.
#[derive(Clone, Debug)]
pub struct FunctionError {
    /// The name of the function.
    pub function: Box<str>,
    /// The text of the function.
    pub text: Arc<str>,
    /// The error, whose places are in that text.
    pub error: EvalError,
}

impl PartialEq for FunctionError {
    fn eq(&self, other: &Self) -> bool {
        self.function == other.function
            && self.error.span() == other.error.span()
            && self.error.kind() == other.error.kind()
    }
}

impl Eq for FunctionError {}

/// Names that are listed in an error.
pub const SHOWN_MEMBERS: usize = 32;

impl From<LimitExceeded> for EvalErrorKind {
    fn from(exceeded: LimitExceeded) -> Self {
        match exceeded {
            LimitExceeded::Steps(limit) => EvalErrorKind::Steps(limit),
            LimitExceeded::Bytes(limit) => EvalErrorKind::Bytes(limit),
        }
    }
}
