//! The errors of an evaluation in words. They name kinds, names and keys, never values: a value can be a secret.

use crate::EvalError;
use yieldtray_cel as cel;
use yieldtray_cel::{EvalErrorKind, Program, SHOWN_MEMBERS};
use yieldtray_source::{Span, closest, join_words};

/// Members that are listed; of more, only some.
const LISTED_MEMBERS: usize = 12;
const LISTED_OF_MANY: usize = 10;

impl EvalError {
    /// The error of an evaluation, in words.
    pub(crate) fn of(program: &Program, error: &cel::EvalError) -> Self {
        Self::at(error.span(), describe(program.text(), error))
    }
}

/// The message, in a line.
fn describe(text: &str, error: &cel::EvalError) -> String {
    let source = |span: Span| span.of(text);
    match error.kind() {
        EvalErrorKind::NoMember { operand, member, known, count } => {
            let of = source(*operand);
            let there = match (*count, known.len()) {
                (0, _) => ": it is empty".to_owned(),
                (1..=LISTED_MEMBERS, _) => format!("; available: {}", join_words(known)),
                (count, _) => {
                    format!("; available: {} and {} more", join_words(&known[..LISTED_OF_MANY]), count - LISTED_OF_MANY)
                }
            };
            let meant = closest(member, known.iter().take(SHOWN_MEMBERS).map(String::as_str));
            let meant = meant.map(|meant| format!("; did you mean `{meant}`?")).unwrap_or_default();
            format!("`{of}` has no member `{member}`{there}{meant}")
        }
        EvalErrorKind::NoMembers { operand, type_name, member } => {
            format!("`{}` is {}, so it has no `{member}`", source(*operand), kind(type_name))
        }
        EvalErrorKind::NoElement { operand, index, length } => {
            format!("the list has no element {index}: `{}` has {length}", source(*operand))
        }
        EvalErrorKind::IndexType { type_name } => {
            format!("a list index must be an integer, not {}", kind(type_name))
        }
        EvalErrorKind::NoOverload { function, arguments } => cannot_take(function, arguments),
        EvalErrorKind::Range("int" | "uint") => "the result does not fit in 64 bits".to_owned(),
        EvalErrorKind::Range(name) => format!("the result is out of the range of {}", kind(name)),
        EvalErrorKind::Text { text: _, expected } => format!("the string is not {expected}"),
        EvalErrorKind::KeyType(name) => format!("{} cannot be the key of a map", kind(name)),
        EvalErrorKind::NotIterable(name) => format!("expected a list or a map but found {}", kind(name)),
        EvalErrorKind::Condition(name) => format!("a condition must be true or false, but this is {}", kind(name)),
        EvalErrorKind::NotOptional(name) => format!("expected an optional but found {}", kind(name)),
        EvalErrorKind::Function { function, message } => format!("`{function}` {message}"),
        EvalErrorKind::InFunction(inner) => {
            format!("in `{}`: {}", inner.function, describe(&inner.text, &inner.error))
        }
        EvalErrorKind::Steps(_) => {
            "the expression exceeds the limit of 1,000,000 steps: nested or very long loops".to_owned()
        }
        EvalErrorKind::Bytes(limit) => format!("the value is larger than the limit of {} MiB", limit >> 20),
        other => other.to_string(),
    }
}

/// A function or operator that cannot take values of these types.
pub(crate) fn cannot_take<N: AsRef<str>>(function: &str, types: &[N]) -> String {
    let is_operator = !function.starts_with(|c: char| c.is_ascii_alphabetic()) || function == "in";
    let kinds: Vec<&str> = types.iter().map(|name| kind(name.as_ref())).collect();
    let is_number = |kind: &str| matches!(kind, "an integer" | "a double" | "an unsigned integer");
    match &kinds[..] {
        [left, right] if is_operator && left != right && is_number(left) && is_number(right) => {
            format!("`{function}` cannot take {left} and {right}: convert one, as in `double(x)` or `int(x)`")
        }
        [left, right] if is_operator => format!("`{function}` cannot take {left} and {right}"),
        [] => format!("`{function}` cannot be called without arguments"),
        kinds => format!("`{function}` cannot take {}", kinds.join(", ")),
    }
}

/// A type in a sentence, with its article.
pub(crate) fn kind(type_name: &str) -> &str {
    match type_name {
        "string" => "a string",
        "int" => "an integer",
        "uint" => "an unsigned integer",
        "double" => "a double",
        "bool" => "a boolean",
        "null_type" => "null",
        "list" => "a list",
        "map" => "a map",
        "bytes" => "bytes",
        "google.protobuf.Timestamp" | "timestamp" => "a timestamp",
        "google.protobuf.Duration" | "duration" => "a duration",
        "type" => "a type",
        "optional_type" => "an optional",
        "net.IP" => "an IP address",
        "net.CIDR" => "an address range",
        "dyn" => "a value",
        other if other.starts_with("list(") => "a list",
        other if other.starts_with("map(") => "a map",
        other if other.starts_with("optional(") => "an optional",
        other => other,
    }
}
