//! Values of expressions.

use super::digits::BigNumber;
use cel::common::types::{
    CelBool, CelBytes, CelDouble, CelDuration, CelInt, CelList, CelMap, CelMapKey, CelNull, CelString, CelTimestamp,
    CelType, CelUInt,
};
use cel::common::value::Val;
use chrono::{DateTime, FixedOffset, SecondsFormat};
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;

/// A value of an expression. Cloning shares it.
///
/// Integers that 64 bits hold are integers; longer ones keep their digits, and so does a number no
/// double can hold. Maps have no order; whoever shows one sorts its keys.
#[derive(Clone)]
pub struct Value(pub(super) Arc<dyn Val>);

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
    /// A type, as `type(x)` returns it, or any other result of an expression.
    Other,
}

impl ValueKind {
    /// The kind in a sentence, with its article.
    pub fn describe(self) -> &'static str {
        match self {
            ValueKind::Null => "null",
            ValueKind::Bool => "a truth value",
            ValueKind::Integer => "an integer",
            ValueKind::Double => "a double",
            ValueKind::LongNumber => "a long number",
            ValueKind::Text => "text",
            ValueKind::Bytes => "bytes",
            ValueKind::List => "a list",
            ValueKind::Map => "a map",
            ValueKind::Timestamp => "a timestamp",
            ValueKind::Duration => "a duration",
            ValueKind::Other => "a type",
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
    pub(super) fn new(val: impl Val + 'static) -> Self {
        Self(Arc::new(val))
    }

    /// A copy that borrows nothing.
    pub(super) fn copy_of(val: &dyn Val) -> Self {
        Self(Arc::from(owned(val)))
    }

    /// Null.
    pub fn null() -> Self {
        Self::new(CelNull)
    }

    /// Text.
    pub fn text(text: impl Into<String>) -> Self {
        Self::new(CelString::from(text.into()))
    }

    /// Bytes.
    pub fn bytes(bytes: Vec<u8>) -> Self {
        Self::new(CelBytes::from(bytes))
    }

    /// A length of time, cut to what 64 bits of nanoseconds hold (292 years).
    pub fn duration(duration: std::time::Duration) -> Self {
        let nanos = i64::try_from(duration.as_nanos()).unwrap_or(i64::MAX);
        Self::new(CelDuration::from(chrono::Duration::nanoseconds(nanos)))
    }

    /// A point in time.
    pub fn timestamp(time: DateTime<FixedOffset>) -> Self {
        Self::new(CelTimestamp::from(time))
    }

    /// A list.
    pub fn list(members: impl IntoIterator<Item = Value>) -> Self {
        let members: Vec<Box<dyn Val>> = members.into_iter().map(|member| owned(&*member.0)).collect();
        Self::new(CelList::from(members))
    }

    /// A map by names.
    pub fn map<K: Into<String>>(entries: impl IntoIterator<Item = (K, Value)>) -> Self {
        let entries: HashMap<CelMapKey<'static>, Box<dyn Val>> =
            entries.into_iter().map(|(key, value)| (CelMapKey::from(key.into()), owned(&*value.0))).collect();
        Self::new(CelMap::from(entries))
    }

    /// The kind of the value.
    pub fn kind(&self) -> ValueKind {
        kind(&*self.0)
    }

    /// The text, if it is text.
    pub fn as_text(&self) -> Option<&str> {
        self.0.downcast_ref::<CelString<'_>>().map(|text| text.inner())
    }

    /// The truth value, if it is one.
    pub fn as_bool(&self) -> Option<bool> {
        self.0.downcast_ref::<CelBool>().map(|truth| *truth.inner())
    }

    /// The value of a typed text: a number, a boolean, null, a list or a map by its JSON, anything else as text.
    pub fn infer(text: &str) -> Self {
        Self::parse_json(text.as_bytes()).unwrap_or_else(|_| Self::text(text))
    }

    /// The members, if it is a list.
    pub fn members(&self) -> Option<Vec<Value>> {
        let list = self.0.downcast_ref::<CelList<'_>>()?;
        Some(list.inner().iter().map(|member| Self::copy_of(&**member)).collect())
    }

    /// The member of that name, if it is a map that has one.
    pub fn member(&self, name: &str) -> Option<Value> {
        let map = self.0.downcast_ref::<CelMap<'_>>()?;
        map.inner().get(&CelMapKey::from(name.to_owned())).map(|member| Self::copy_of(&**member))
    }

    /// The value as text for a place that takes text: numbers in digits, timestamps by RFC 3339,
    /// durations in seconds with an `s`.
    pub fn to_text(&self) -> Result<Cow<'_, str>, NotRepresentable> {
        let val = &*self.0;
        Ok(match self.kind() {
            ValueKind::Text => Cow::Borrowed(self.as_text().unwrap_or_default()),
            ValueKind::Null => return Err(NotRepresentable::Null),
            ValueKind::Bytes => {
                let bytes = val.downcast_ref::<CelBytes<'_>>().map_or(&[][..], |bytes| bytes.inner());
                Cow::Borrowed(std::str::from_utf8(bytes).map_err(|_| NotRepresentable::NotText)?)
            }
            kind @ (ValueKind::List | ValueKind::Map) => return Err(NotRepresentable::Structure(kind)),
            kind => Cow::Owned(scalar_text(val).ok_or(NotRepresentable::Structure(kind))?),
        })
    }

    /// The value as it is shown to a person: text in quotes, the rest as JSON, keys sorted.
    pub fn show(&self) -> String {
        self.to_json().to_string()
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
        Self::new(CelInt::from(number))
    }
}

impl From<u64> for Value {
    /// An integer; one too large for a signed one becomes an unsigned one.
    fn from(number: u64) -> Self {
        i64::try_from(number).map_or_else(|_| Self::new(CelUInt::from(number)), Self::from)
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Self::new(CelDouble::from(number))
    }
}

impl From<bool> for Value {
    fn from(truth: bool) -> Self {
        Self::new(CelBool::from(truth))
    }
}

impl PartialEq for Value {
    fn eq(&self, other: &Self) -> bool {
        self.0.equals(&*other.0)
    }
}

impl std::fmt::Debug for Value {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.show())
    }
}

/// Takes the bytes of a value from `left`, about; `false` where there are too few. It goes no further than that.
pub(super) fn fits(val: &dyn Val, left: &mut u64) -> bool {
    // The overhead of a value beside its text: its box, and its slot in a list or map.
    const BYTES_PER_VALUE: u64 = 64;
    let own = if let Some(text) = val.downcast_ref::<CelString<'_>>() {
        text.inner().len() as u64
    } else if let Some(bytes) = val.downcast_ref::<CelBytes<'_>>() {
        bytes.inner().len() as u64
    } else {
        0
    };
    match left.checked_sub(own + BYTES_PER_VALUE) {
        Some(rest) => *left = rest,
        None => return false,
    }
    if let Some(list) = val.downcast_ref::<CelList<'_>>() {
        return list.inner().iter().all(|member| fits(&**member, left));
    }
    if let Some(map) = val.downcast_ref::<CelMap<'_>>() {
        return map.inner().iter().all(|(key, value)| fits(key.inner(), left) && fits(&**value, left));
    }
    true
}

pub(super) fn kind(val: &dyn Val) -> ValueKind {
    use cel::common::types::Kind as Cel;
    match val.get_type().kind() {
        Cel::NullType => ValueKind::Null,
        Cel::Boolean => ValueKind::Bool,
        Cel::Int | Cel::UInt => ValueKind::Integer,
        Cel::Double => ValueKind::Double,
        Cel::String => ValueKind::Text,
        Cel::Bytes => ValueKind::Bytes,
        Cel::List => ValueKind::List,
        Cel::Map => ValueKind::Map,
        Cel::Timestamp => ValueKind::Timestamp,
        Cel::Duration => ValueKind::Duration,
        _ if val.downcast_ref::<BigNumber>().is_some() => ValueKind::LongNumber,
        _ => ValueKind::Other,
    }
}

/// Numbers, truth values, times: what has one way to be written.
pub(super) fn scalar_text(val: &dyn Val) -> Option<String> {
    Some(if let Some(number) = val.downcast_ref::<CelInt>() {
        number.inner().to_string()
    } else if let Some(number) = val.downcast_ref::<CelUInt>() {
        number.inner().to_string()
    } else if let Some(number) = val.downcast_ref::<CelDouble>() {
        number.inner().to_string()
    } else if let Some(truth) = val.downcast_ref::<CelBool>() {
        truth.inner().to_string()
    } else if let Some(digits) = val.downcast_ref::<BigNumber>() {
        digits.0.to_string()
    } else if let Some(time) = val.downcast_ref::<CelTimestamp>() {
        time.inner().to_rfc3339_opts(SecondsFormat::AutoSi, true)
    } else if let Some(length) = val.downcast_ref::<CelDuration>() {
        let nanos = length.inner().num_nanoseconds().unwrap_or(i64::MAX);
        format!("{}s", nanos as f64 / 1e9)
    } else {
        val.downcast_ref::<CelType>()?.name().to_string()
    })
}

/// A deep copy that borrows nothing.
fn owned(val: &dyn Val) -> Box<dyn Val> {
    if let Some(text) = val.downcast_ref::<CelString<'_>>() {
        return Box::new(CelString::from(text.inner().to_owned()));
    }
    if let Some(bytes) = val.downcast_ref::<CelBytes<'_>>() {
        return Box::new(CelBytes::from(bytes.inner().to_vec()));
    }
    if let Some(list) = val.downcast_ref::<CelList<'_>>() {
        return Box::new(CelList::from(list.inner().iter().map(|member| owned(&**member)).collect::<Vec<_>>()));
    }
    if let Some(map) = val.downcast_ref::<CelMap<'_>>() {
        let entries: HashMap<CelMapKey<'static>, Box<dyn Val>> =
            map.inner().iter().map(|(key, value)| (key.clone().into_static(), owned(&**value))).collect();
        return Box::new(CelMap::from(entries));
    }
    if let Some(number) = val.downcast_ref::<CelInt>() {
        return Box::new(*number);
    }
    if let Some(number) = val.downcast_ref::<CelUInt>() {
        return Box::new(*number);
    }
    if let Some(number) = val.downcast_ref::<CelDouble>() {
        return Box::new(*number);
    }
    if let Some(truth) = val.downcast_ref::<CelBool>() {
        return Box::new(*truth);
    }
    if let Some(time) = val.downcast_ref::<CelTimestamp>() {
        return Box::new(time.clone());
    }
    if let Some(length) = val.downcast_ref::<CelDuration>() {
        return Box::new(*length);
    }
    if let Some(digits) = val.downcast_ref::<BigNumber>() {
        return Box::new(digits.clone());
    }
    match val.get_type().kind() {
        cel::common::types::Kind::NullType => Box::new(CelNull),
        // A type, as `type(x)` gives it, is only ever shown: its name will do.
        _ => Box::new(CelString::from(scalar_text(val).unwrap_or_else(|| val.get_type().name().to_owned()))),
    }
}
