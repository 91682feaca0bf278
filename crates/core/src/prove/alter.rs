use super::change::{Change, Field};
use super::outline::{Member, Members, Outline};
use crate::response::Exchange;
use bytes::Bytes;
use serde_json::Value;
use serde_json::value::RawValue;
use std::fmt::Write;
use std::time::Duration;

/// A copy of an answer with one change.
pub(crate) fn alter(exchange: &Exchange, outline: &Outline<'_>, change: &Change) -> Exchange {
    let mut copy = exchange.clone();
    let mut body = |text: String| {
        copy.size = text.len() as u64;
        copy.body = Bytes::from(text);
    };
    match change {
        Change::Status(status) => {
            copy.status = *status;
            let known = [(200, "OK"), (404, "Not Found"), (500, "Internal Server Error")];
            let reason = known.iter().find(|(known, _)| known == status);
            copy.reason = reason.map_or("", |(_, reason)| reason).to_owned();
        }
        Change::EmptyBody => body(String::new()),
        Change::NotJson => body("<html><body>The packing line is closed for repairs.</body></html>".to_owned()),
        Change::OtherBody => body("The packing line is closed for repairs.".to_owned()),
        Change::EmptyList => body("[]".to_owned()),
        Change::Field { name, how, .. } => body(with_field(outline, name, *how)),
        Change::ContentType => {
            let other = if exchange.media_type() == "text/html" { "text/plain" } else { "text/html" };
            for (name, value) in &mut copy.headers {
                if name.eq_ignore_ascii_case("content-type") {
                    *value = other.as_bytes().to_vec();
                }
            }
        }
        Change::Header(name) => copy.headers.retain(|(own, _)| !own.eq_ignore_ascii_case(name)),
        Change::Slow(time) => {
            let more = time.saturating_sub(exchange.timings.total);
            copy.timings.total += more.max(Duration::ZERO);
            copy.timings.wait += more;
        }
    }
    copy
}

/// The body's text with one field altered.
fn with_field(outline: &Outline<'_>, name: &str, how: Field) -> String {
    let mut text = String::new();
    match outline {
        Outline::Object(members) => object(&mut text, members, name, how),
        Outline::List(members) => {
            text.push('[');
            for (at, member) in members.iter().enumerate() {
                if at > 0 {
                    text.push(',');
                }
                match member {
                    Member::Object(members) => object(&mut text, members, name, how),
                    Member::Other(value) => text.push_str(value.get()),
                }
            }
            text.push(']');
        }
        Outline::Nothing | Outline::Json | Outline::Other => {}
    }
    text
}

fn object(text: &mut String, members: &Members<'_>, altered: &str, how: Field) {
    text.push('{');
    let mut first = true;
    for (name, value) in &members.0 {
        let own = name == altered;
        if own && how == Field::Missing {
            continue;
        }
        if !std::mem::take(&mut first) {
            text.push(',');
        }
        let _ = write!(text, "{}:", Value::from(name.as_str()));
        match own {
            true => text.push_str(&value_of(value, how)),
            false => text.push_str(value.get()),
        }
    }
    text.push('}');
}

fn value_of(value: &RawValue, how: Field) -> String {
    let text = value.get();
    match how {
        Field::Missing | Field::Null => "null".to_owned(),
        Field::Empty => "[]".to_owned(),
        Field::OtherType => match text.as_bytes().first() {
            Some(b'"') => "7",
            Some(b'[') => "{}",
            Some(b'{') => "[]",
            _ => "\"other\"",
        }
        .to_owned(),
        Field::OtherValue => other_value(text),
    }
}

/// Another value of the same type, as like the first as can be: what only looks at its form is not to notice.
fn other_value(text: &str) -> String {
    match serde_json::from_str(text) {
        Ok(Value::String(text)) => Value::from(other_text(&text)).to_string(),
        Ok(Value::Bool(truth)) => (!truth).to_string(),
        Ok(Value::Array(mut members)) => {
            match members.pop() {
                Some(only) if members.is_empty() => members.extend([only.clone(), only]),
                Some(_) => {}
                None => members.push(Value::from(1)),
            }
            Value::from(members).to_string()
        }
        Ok(Value::Object(members)) => match members.is_empty() {
            true => "{\"other\":1}".to_owned(),
            false => "{}".to_owned(),
        },
        Ok(Value::Number(number)) => match (number.as_i64(), number.as_f64()) {
            (Some(whole), _) => whole.checked_add(1).unwrap_or_default().to_string(),
            (None, Some(double)) if double.abs() < 1e15 => (double + 1.0).to_string(),
            _ => "1".to_owned(),
        },
        Ok(Value::Null) | Err(_) => "1".to_owned(),
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
            ("[1, 2]", "[1]"),
            ("[\"a\"]", "[\"a\",\"a\"]"),
            ("[]", "[1]"),
            ("{\"kg\": 4}", "{}"),
            ("{}", "{\"other\":1}"),
        ] {
            assert_eq!(other_value(value), other, "{value}");
        }
    }
}
