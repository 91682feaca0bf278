//! Values of expressions.

use bytes::Bytes;
use chrono::{DateTime, FixedOffset, TimeDelta};
use std::borrow::Cow;
use yieldtray_cel as cel;

/// A value of an expression. Cloning shares it.
///
/// Numbers of any length keep their digits, and maps the order of their members. Of a JSON text only what is asked for
/// becomes values.
#[derive(Clone, PartialEq)]
pub struct Value(pub(crate) cel::Value);

/// The kind of a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ValueKind {
    /// Nothing.
    Null,
    /// True or false.
    Bool,
    /// A whole number.
    Integer,
    /// A number with a fraction.
    Double,
    /// A number of more digits than a machine number has.
    LongNumber,
    /// Text.
    Text,
    /// Bytes that need not be text.
    Bytes,
    /// Values in a row.
    List,
    /// Values by name.
    Map,
    /// A point in time.
    Timestamp,
    /// A length of time.
    Duration,
    /// A type, as `type(x)` returns it.
    Type,
    /// A value that may be missing.
    Optional,
    /// A network address or a range of them.
    Network,
}

impl ValueKind {
    /// The kind in a sentence, with its article.
    pub fn describe(self) -> &'static str {
        match self {
            ValueKind::Null => "null",
            ValueKind::Bool => "a boolean",
            ValueKind::Integer => "an integer",
            ValueKind::Double => "a double",
            ValueKind::LongNumber => "a long number",
            ValueKind::Text => "a string",
            ValueKind::Bytes => "bytes",
            ValueKind::List => "a list",
            ValueKind::Map => "a map",
            ValueKind::Timestamp => "a timestamp",
            ValueKind::Duration => "a duration",
            ValueKind::Type => "a type",
            ValueKind::Optional => "an optional",
            ValueKind::Network => "an IP address",
        }
    }

    /// The kind of a value.
    pub(crate) fn of(value: &cel::Value) -> Self {
        match value {
            cel::Value::Null => ValueKind::Null,
            cel::Value::Bool(_) => ValueKind::Bool,
            cel::Value::Int(_) | cel::Value::Uint(_) => ValueKind::Integer,
            cel::Value::Double(_) => ValueKind::Double,
            cel::Value::Decimal(_) => ValueKind::LongNumber,
            cel::Value::String(_) => ValueKind::Text,
            cel::Value::Bytes(_) => ValueKind::Bytes,
            cel::Value::List(_) => ValueKind::List,
            cel::Value::Map(_) => ValueKind::Map,
            cel::Value::Timestamp(_) => ValueKind::Timestamp,
            cel::Value::Duration(_) => ValueKind::Duration,
            cel::Value::Type(_) => ValueKind::Type,
            cel::Value::Optional(_) => ValueKind::Optional,
            cel::Value::Object(_) => ValueKind::Network,
        }
    }
}

/// Why a value cannot be written as text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotRepresentable {
    /// It is null.
    Null,
    /// It is a list or a map, or something else with no one way to write it.
    Structure(ValueKind),
    /// It is bytes that are not UTF-8.
    NotText,
}

impl Value {
    /// Null.
    pub fn null() -> Self {
        Self(cel::Value::Null)
    }

    /// Text.
    pub fn text(text: impl Into<String>) -> Self {
        Self(cel::Value::string(text.into()))
    }

    /// Bytes.
    pub fn bytes(bytes: Vec<u8>) -> Self {
        Self(cel::Value::bytes(bytes))
    }

    /// A length of time, cut to what 64 bits of nanoseconds hold (292 years).
    pub fn duration(duration: std::time::Duration) -> Self {
        let nanos = i64::try_from(duration.as_nanos()).unwrap_or(i64::MAX);
        Self(cel::Value::Duration(TimeDelta::nanoseconds(nanos)))
    }

    /// A point in time.
    pub fn timestamp(time: DateTime<FixedOffset>) -> Self {
        Self(cel::Value::Timestamp(time.to_utc()))
    }

    /// A list.
    pub fn list(members: impl IntoIterator<Item = Value>) -> Self {
        Self(cel::Value::List(members.into_iter().map(|member| member.0).collect()))
    }

    /// A map by names, in the order given.
    pub fn map<K: Into<String>>(entries: impl IntoIterator<Item = (K, Value)>) -> Self {
        Self(cel::Value::map(entries.into_iter().map(|(name, value)| (name.into(), value.0))))
    }

    /// Reads a JSON text (RFC 8259). More than 128 levels are refused.
    ///
    /// # Errors
    /// The kind of error, with line and column of the text.
    pub fn parse_json(text: &[u8]) -> Result<Self, cel::JsonError> {
        Self::parse_json_bytes(Bytes::copy_from_slice(text))
    }

    /// Reads a JSON text that is shared and not copied.
    ///
    /// # Errors
    /// As for [`Value::parse_json`].
    pub fn parse_json_bytes(text: Bytes) -> Result<Self, cel::JsonError> {
        cel::Value::parse_json(text).map(Self)
    }

    /// The value of a JSON document.
    pub fn from_json(json: &serde_json::Value) -> Self {
        Self(cel::Value::from_json(json))
    }

    /// The value as JSON. Bytes become base64, times become text.
    pub fn to_json(&self) -> serde_json::Value {
        self.0.to_json()
    }

    /// The same value without the response that it is read from, to be kept longer than that.
    #[must_use]
    pub fn detached(&self) -> Self {
        Self(self.0.detached())
    }

    /// The kind of the value.
    pub fn kind(&self) -> ValueKind {
        ValueKind::of(&self.0)
    }

    /// The text, if it is text.
    pub fn as_text(&self) -> Option<&str> {
        self.0.as_str()
    }

    /// The truth value, if it is one.
    pub fn as_bool(&self) -> Option<bool> {
        self.0.as_bool()
    }

    /// The value of a typed text: a number, a boolean, null, a list or a map by its JSON, anything else as text.
    pub fn infer(text: &str) -> Self {
        Self::parse_json(text.as_bytes()).unwrap_or_else(|_| Self::text(text))
    }

    /// The members, if it is a list.
    pub fn members(&self) -> Option<Vec<Value>> {
        self.0.as_list().map(|list| list.iter().map(Value).collect())
    }

    /// The member of that name, if it is a map that has one.
    pub fn member(&self, name: &str) -> Option<Value> {
        self.0.as_map()?.member(name).map(Value)
    }

    /// The value as text for a place that takes text: numbers in digits, timestamps by RFC 3339,
    /// durations in seconds with an `s`.
    pub fn to_text(&self) -> Result<Cow<'_, str>, NotRepresentable> {
        self.0.to_text().ok_or_else(|| match self.kind() {
            ValueKind::Null => NotRepresentable::Null,
            ValueKind::Bytes => NotRepresentable::NotText,
            kind => NotRepresentable::Structure(kind),
        })
    }

    /// The value as it is shown to a person: text in quotes, the rest as JSON.
    pub fn show(&self) -> String {
        self.0.to_json_text()
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::text(text)
    }
}

impl From<String> for Value {
    fn from(text: String) -> Self {
        Self::text(text)
    }
}

impl From<i64> for Value {
    fn from(number: i64) -> Self {
        Self(cel::Value::Int(number))
    }
}

impl From<u64> for Value {
    /// An integer; one too large for a signed one becomes an unsigned one.
    fn from(number: u64) -> Self {
        i64::try_from(number).map_or(Self(cel::Value::Uint(number)), Self::from)
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Self(cel::Value::Double(number))
    }
}

impl From<bool> for Value {
    fn from(truth: bool) -> Self {
        Self(cel::Value::Bool(truth))
    }
}

impl std::fmt::Debug for Value {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.show())
    }
}
