//! Another JSON value of the same type and form.

use serde_json::Value;

/// Whether there is another value of the same type and form.
pub(super) fn has_other_value(text: &str) -> bool {
    serde_json::from_str(text).is_ok_and(|value: Value| other(&value) != value)
}

/// Another value of the same type, as like the first as can be: what only looks at its form is not to notice.
pub(super) fn other_value(text: &str) -> String {
    serde_json::from_str(text).map_or_else(|_| "1".to_owned(), |value: Value| other(&value).to_string())
}

/// The same of a value: lists and objects keep their members, which have other values.
fn other(value: &Value) -> Value {
    match value {
        Value::String(text) => Value::from(other_text(text)),
        Value::Bool(truth) => Value::from(!truth),
        Value::Array(members) => members.iter().map(other).collect(),
        Value::Object(members) => members.iter().map(|(name, value)| (name.clone(), other(value))).collect(),
        Value::Number(number) => match (number.as_i64(), number.as_f64()) {
            (Some(whole), _) => Value::from(whole.checked_add(1).unwrap_or_default()),
            (None, Some(double)) if double.abs() < 1e15 => Value::from(double + 1.0),
            _ => Value::from(1),
        },
        Value::Null => Value::Null,
    }
}

/// The text with its last digit, or else its last letter, exchanged for the next one.
fn other_text(text: &str) -> String {
    let digit = text.rfind(|c: char| c.is_ascii_digit());
    let Some(at) = digit.or_else(|| text.rfind(|c: char| c.is_ascii_alphabetic())) else {
        return format!("{text}x");
    };
    let next = match text.as_bytes()[at] {
        b'9' => b'0',
        b'z' => b'a',
        b'Z' => b'A',
        other => other + 1,
    };
    format!("{}{}{}", &text[..at], char::from(next), &text[at + 1..])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn another_value_keeps_the_type_and_the_form() {
        for (value, other) in [
            ("\"L-2039\"", "\"L-2030\""),
            ("\"open\"", "\"opeo\""),
            ("\"Fizz\"", "\"Fiza\""),
            ("\"…\"", "\"…x\""),
            ("\"\"", "\"x\""),
            ("17", "18"),
            ("9223372036854775807", "0"),
            ("11.5", "12.5"),
            ("1e400", "1"),
            ("true", "false"),
            ("[1, 2]", "[2,3]"),
            ("[\"a\"]", "[\"b\"]"),
            ("{\"kg\": 4, \"note\": null}", "{\"kg\":5,\"note\":null}"),
        ] {
            assert_eq!(other_value(value), other, "{value}");
        }
        assert!(["[]", "{}", "null", "[{}, null]"].iter().all(|value| !has_other_value(value)));
    }
}
