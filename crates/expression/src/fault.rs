//! The interpreter's errors in plain words. They name kinds, never values: a value can be a secret.

use super::tree;
use cel::ExecutionError;

/// The message, in a line.
pub(super) fn describe(error: &ExecutionError) -> String {
    match error {
        ExecutionError::NoSuchKey(key) => format!("there is no `{key}`"),
        ExecutionError::UndeclaredReference(name) => format!("there is no `{name}`"),
        ExecutionError::NoSuchOverload(overload) => {
            let kinds: Vec<&str> = overload.argument_types().iter().map(|kind| describe_kind(kind)).collect();
            cannot_take(overload.function(), &kinds)
        }
        ExecutionError::UnsupportedBinaryOperator(operator, left, right) => {
            let sign = match *operator {
                "add" => "_+_",
                "sub" => "_-_",
                "mul" => "_*_",
                "div" => "_/_",
                "rem" => "_%_",
                other => other,
            };
            let kinds = [left.type_of().to_string(), right.type_of().to_string()];
            cannot_take(sign, &[describe_kind(&kinds[0]), describe_kind(&kinds[1])])
        }
        ExecutionError::ValuesNotComparable(left, right) => format!(
            "{} cannot be compared with {}",
            describe_kind(&left.type_of().to_string()),
            describe_kind(&right.type_of().to_string())
        ),
        ExecutionError::UnexpectedType { got, want } if want == "iterable" => {
            format!("expected a list or a map but found {}", describe_kind(got))
        }
        ExecutionError::UnexpectedType { got, want } => {
            format!("expected {} but found {}", describe_kind(want), describe_kind(got))
        }
        ExecutionError::FunctionError { function, message } if function.is_empty() => message.clone(),
        ExecutionError::FunctionError { function, message } => format!("`{function}` {message}"),
        ExecutionError::DivisionByZero(_) | ExecutionError::RemainderByZero(_) => "division by zero".to_owned(),
        ExecutionError::Overflow(..) => "the result does not fit 64 bits".to_owned(),
        ExecutionError::IndexOutOfBounds(index) => match index {
            cel::Value::Int(index) => format!("the list has no element {index}"),
            _ => "the list has no such element".to_owned(),
        },
        ExecutionError::DuplicateKey(_) => "a key stands twice in a map".to_owned(),
        ExecutionError::InvalidArgumentCount { expected, actual } => {
            format!("expected {expected} arguments but got {actual}")
        }
        _ => "it cannot be worked out".to_owned(),
    }
}

fn cannot_take(function: &str, kinds: &[&str]) -> String {
    let name = sign(function);
    match kinds {
        [left, right] if tree::is_operator(function) && left != right && number(left) && number(right) => {
            format!("`{name}` cannot take {left} and {right}: convert one, as in `double(x)` or `int(x)`")
        }
        [left, right] if tree::is_operator(function) => format!("`{name}` cannot take {left} and {right}"),
        [only] => format!("`{name}` cannot take {only}"),
        [] => format!("`{name}` cannot be called without arguments"),
        many => format!("`{name}` cannot take {}", many.join(", ")),
    }
}

fn number(kind: &str) -> bool {
    matches!(kind, "an integer" | "a double")
}

/// An operator as it is written.
pub(super) fn sign(function: &str) -> &str {
    match function {
        "@in" => "in",
        "_[_]" => "[ ]",
        "_._" => ".",
        "_?_:_" => "? :",
        other if tree::is_operator(other) => other.trim_matches('_').trim_matches('@'),
        other => other,
    }
}

/// A kind of value as the interpreter names it, in our words.
fn describe_kind(kind: &str) -> &str {
    match kind {
        "string" => "text",
        "int" | "uint" => "an integer",
        "double" | "float" => "a double",
        "bool" => "a truth value",
        "null_type" | "null" => "null",
        "list" => "a list",
        "map" => "a map",
        "bytes" => "bytes",
        "google.protobuf.Timestamp" | "timestamp" => "a timestamp",
        "google.protobuf.Duration" | "duration" => "a duration",
        "long_number" => "a long number",
        other => other,
    }
}
