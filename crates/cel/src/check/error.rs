//! Errors of names, functions and types.

use crate::types::Type;
use thiserror::Error;
use yieldtray_source::Span;

/// A name, function or type that does not fit.
#[derive(Clone, Debug, Error)]
pub enum CheckErrorKind {
    /// A name that nobody gives.
    #[error("there is no `{name}`")]
    UnknownName {
        /// The name.
        name: String,
        /// A name that is similar.
        suggestion: Option<String>,
    },
    /// A function that does not exist.
    #[error("there is no function `{name}`")]
    UnknownFunction {
        /// The name.
        name: String,
        /// A name that is similar.
        suggestion: Option<String>,
    },
    /// A function that takes another number of arguments, or is called as a method and is none, or the other way round.
    #[error("`{name}` does not take {found} arguments here")]
    ArgumentCount {
        /// The name of the function.
        name: String,
        /// How many arguments it is called with, the value before the dot included.
        found: usize,
        /// How many it takes, the value before the dot included, in order.
        takes: Vec<usize>,
        /// True if it is called as a method.
        is_method: bool,
    },
    /// A function or operator that does not take values of these types.
    #[error("`{function}` does not take {}", display(arguments))]
    NoOverload {
        /// The function or operator.
        function: String,
        /// The types.
        arguments: Vec<Type>,
    },
    /// A comparison of values that are never equal.
    #[error("{left} never equals {right}")]
    NeverEqual {
        /// The type of the left side.
        left: Type,
        /// The type of the right side.
        right: Type,
    },
    /// A member that a map cannot have.
    #[error("there is no `{member}`")]
    NoMember {
        /// The map in the text.
        operand: Span,
        /// The member.
        member: String,
        /// The members that there are.
        known: Vec<String>,
    },
    /// A member of what has no members.
    #[error("{operand_type} has no member `{member}`")]
    NoMembers {
        /// The value in the text.
        operand: Span,
        /// The type of the value.
        operand_type: Type,
        /// The member.
        member: String,
    },
    /// A condition that is neither true nor false.
    #[error("a condition must be true or false, not {0}")]
    Condition(Type),
    /// A loop over what is neither a list nor a map.
    #[error("{0} has no elements to go through")]
    NotIterable(Type),
    /// A value after `?`, or before `optMap`, that is not an optional.
    #[error("this must be an optional, not {0}")]
    NotOptional(Type),
    /// A key that is not a text, an integer or a truth value.
    #[error("{0} cannot be the key of a map")]
    KeyType(Type),
    /// Messages, which are types of protocol buffers.
    #[error("there is no type `{0}`")]
    UnknownType(String),
    /// More levels, those of the functions that are called included, than are evaluated.
    #[error("nesting is deeper than {0} levels, counting called functions")]
    Levels(usize),
}

fn display(types: &[Type]) -> String {
    types.iter().map(Type::to_string).collect::<Vec<_>>().join(", ")
}
