//! Values as text.

use super::Value;
use chrono::SecondsFormat;
use std::borrow::Cow;

impl Value {
    /// The text of a value that has one way to be written, as `string(x)` returns it: of numbers the digits, of a
    /// timestamp RFC 3339, of a duration its seconds with an `s`, of bytes what they are in UTF-8.
    pub fn to_text(&self) -> Option<Cow<'_, str>> {
        Some(match self {
            Value::String(text) => Cow::Borrowed(&**text),
            Value::Bytes(bytes) => Cow::Borrowed(std::str::from_utf8(bytes).ok()?),
            Value::Bool(truth) => Cow::Borrowed(if *truth { "true" } else { "false" }),
            Value::Int(number) => Cow::Owned(number.to_string()),
            Value::Uint(number) => Cow::Owned(number.to_string()),
            Value::Double(number) => Cow::Owned(double_text(*number)),
            Value::Decimal(number) => Cow::Borrowed(number.as_str()),
            Value::Timestamp(time) => Cow::Owned(time.to_rfc3339_opts(SecondsFormat::AutoSi, true)),
            Value::Duration(length) => Cow::Owned(duration_text(length)),
            Value::Type(name) => Cow::Borrowed(name),
            Value::Object(object) => Cow::Owned(object.text()),
            Value::Null | Value::List(_) | Value::Map(_) | Value::Optional(_) => return None,
        })
    }
}

/// The shortest digits that are read as the same double.
fn double_text(number: f64) -> String {
    if number.is_infinite() {
        return if number > 0.0 { "Infinity".to_owned() } else { "-Infinity".to_owned() };
    }
    number.to_string()
}

/// Seconds with as many digits after the point as there are.
fn duration_text(length: &chrono::TimeDelta) -> String {
    let nanos = super::duration_nanos(length);
    let (sign, nanos) = (if nanos < 0 { "-" } else { "" }, nanos.unsigned_abs());
    let (seconds, fraction) = (nanos / 1_000_000_000, nanos % 1_000_000_000);
    if fraction == 0 {
        return format!("{sign}{seconds}s");
    }
    format!("{sign}{seconds}.{}s", format!("{fraction:09}").trim_end_matches('0'))
}
