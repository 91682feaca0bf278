//! Values.

mod collection;
mod compare;
mod decimal;
mod number;
mod text;
mod time;

#[cfg(test)]
mod tests;

pub use collection::{Key, KeyRef, List, ListSource, Map, MapSource};
pub use decimal::Decimal;
pub(crate) use time::{
    duration_in_range, duration_nanos, parse_duration, parse_timestamp, timestamp, timestamp_in_range,
};

use chrono::{DateTime, TimeDelta, Utc};
use std::any::Any;
use std::fmt;
use std::sync::Arc;

/// A value. Cloning one shares what is not a machine number.
#[derive(Clone)]
pub enum Value {
    /// `null`
    Null,
    /// `true` or `false`
    Bool(bool),
    /// An integer of 64 bits.
    Int(i64),
    /// An unsigned integer of 64 bits.
    Uint(u64),
    /// A floating-point number (IEEE 754, binary64).
    Double(f64),
    /// A number that none of these is exactly: it keeps its digits.
    Decimal(Decimal),
    /// A text.
    String(Arc<str>),
    /// Bytes.
    Bytes(Arc<[u8]>),
    /// Values in a row.
    List(List),
    /// Values by key, in the order in which they were added.
    Map(Map),
    /// A point in time, from year 1 to year 9999.
    Timestamp(DateTime<Utc>),
    /// A length of time.
    Duration(TimeDelta),
    /// A type, by its name.
    Type(&'static str),
    /// A value that may be missing.
    Optional(Option<Arc<Value>>),
    /// A value of a type that the standard library does not have.
    Object(Arc<dyn Object>),
}

/// A value of a type of its own.
pub trait Object: fmt::Debug + Send + Sync {
    /// The name of the type.
    fn type_name(&self) -> &'static str;

    /// True if it equals another value of the same type.
    fn equals(&self, other: &dyn Object) -> bool;

    /// Its text, as `string(x)` returns it.
    fn text(&self) -> String;

    /// For a downcast.
    fn as_any(&self) -> &dyn Any;
}

impl Value {
    /// A text.
    pub fn string(text: impl Into<Arc<str>>) -> Self {
        Value::String(text.into())
    }

    /// Bytes.
    pub fn bytes(bytes: impl Into<Arc<[u8]>>) -> Self {
        Value::Bytes(bytes.into())
    }

    /// A list of values.
    pub fn list(values: Vec<Value>) -> Self {
        Value::List(values.into())
    }

    /// A map from texts to values; of two entries with the same name the second one counts.
    pub fn map<N: Into<Arc<str>>>(entries: impl IntoIterator<Item = (N, Value)>) -> Self {
        Value::Map(entries.into_iter().map(|(name, value)| (Key::String(name.into()), value)).collect())
    }

    /// An optional with a value.
    pub fn some(value: Value) -> Self {
        Value::Optional(Some(Arc::new(value)))
    }

    /// The empty optional.
    pub fn none() -> Self {
        Value::Optional(None)
    }

    /// The name of its type, as `type(x)` is shown.
    pub fn type_name(&self) -> &'static str {
        match self {
            Value::Null => "null_type",
            Value::Bool(_) => "bool",
            Value::Int(_) => "int",
            Value::Uint(_) => "uint",
            Value::Double(_) | Value::Decimal(_) => "double",
            Value::String(_) => "string",
            Value::Bytes(_) => "bytes",
            Value::List(_) => "list",
            Value::Map(_) => "map",
            Value::Timestamp(_) => "google.protobuf.Timestamp",
            Value::Duration(_) => "google.protobuf.Duration",
            Value::Type(_) => "type",
            Value::Optional(_) => "optional_type",
            Value::Object(object) => object.type_name(),
        }
    }

    /// The text, if it is one.
    pub fn as_str(&self) -> Option<&str> {
        match self {
            Value::String(text) => Some(text),
            _ => None,
        }
    }

    /// The truth value, if it is one.
    pub fn as_bool(&self) -> Option<bool> {
        match self {
            Value::Bool(truth) => Some(*truth),
            _ => None,
        }
    }

    /// The list, if it is one.
    pub fn as_list(&self) -> Option<&List> {
        match self {
            Value::List(list) => Some(list),
            _ => None,
        }
    }

    /// The map, if it is one.
    pub fn as_map(&self) -> Option<&Map> {
        match self {
            Value::Map(map) => Some(map),
            _ => None,
        }
    }

    /// The object of this Rust type, if it is one.
    pub fn as_object<T: 'static>(&self) -> Option<&T> {
        match self {
            Value::Object(object) => object.as_any().downcast_ref(),
            _ => None,
        }
    }

    /// True if it is the default value of its type: zero, empty, false, null, no value, or 1970.
    pub(crate) fn is_zero(&self) -> bool {
        match self {
            Value::Null | Value::Optional(None) => true,
            Value::Bool(truth) => !truth,
            Value::Int(number) => *number == 0,
            Value::Uint(number) => *number == 0,
            Value::Double(number) => *number == 0.0,
            Value::String(text) => text.is_empty(),
            Value::Bytes(bytes) => bytes.is_empty(),
            Value::List(list) => list.is_empty(),
            Value::Map(map) => map.is_empty(),
            Value::Timestamp(time) => *time == DateTime::UNIX_EPOCH,
            Value::Duration(length) => length.is_zero(),
            Value::Decimal(_) | Value::Type(_) | Value::Optional(Some(_)) | Value::Object(_) => false,
        }
    }

    /// How many lists, maps and optionals are inside each other. What is read in place counts as one.
    pub(crate) fn depth(&self) -> u32 {
        match self {
            Value::List(list) => list.depth(),
            Value::Map(map) => map.depth(),
            Value::Optional(Some(value)) => value.depth().saturating_add(1),
            _ => 0,
        }
    }

    /// About how many bytes of memory it takes, but at most `limit`: what is beyond is not counted.
    pub fn size_in_bytes(&self, limit: u64) -> u64 {
        /// A value beside its text: its slot in a list or map.
        const SLOT: u64 = 32;
        // A value that is read in place takes its text and no more.
        let in_place = match self {
            Value::List(list) => list.json(),
            Value::Map(map) => map.json(),
            _ => None,
        };
        if let Some(in_place) = in_place {
            return (in_place.len() as u64).min(limit);
        }
        let own = match self {
            Value::String(text) => text.len(),
            Value::Bytes(bytes) => bytes.len(),
            Value::Decimal(number) => number.as_str().len(),
            _ => 0,
        };
        let mut size = SLOT + own as u64;
        match self {
            Value::List(list) => {
                for value in list.iter() {
                    if size >= limit {
                        break;
                    }
                    size += value.size_in_bytes(limit - size);
                }
            }
            Value::Map(map) => {
                for (key, value) in map.iter() {
                    if size >= limit {
                        break;
                    }
                    size += SLOT + value.size_in_bytes(limit - size) + key.as_str().map_or(0, str::len) as u64;
                }
            }
            Value::Optional(Some(value)) => size += value.size_in_bytes(limit.saturating_sub(size)),
            _ => {}
        }
        size.min(limit)
    }
}

impl From<bool> for Value {
    fn from(truth: bool) -> Self {
        Value::Bool(truth)
    }
}

impl From<i64> for Value {
    fn from(number: i64) -> Self {
        Value::Int(number)
    }
}

impl From<u64> for Value {
    fn from(number: u64) -> Self {
        Value::Uint(number)
    }
}

impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Value::Double(number)
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Value::string(text)
    }
}

impl From<String> for Value {
    fn from(text: String) -> Self {
        Value::string(text)
    }
}

impl fmt::Debug for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Null => f.write_str("null"),
            Value::Bool(truth) => write!(f, "{truth}"),
            Value::Int(number) => write!(f, "{number}"),
            Value::Uint(number) => write!(f, "{number}u"),
            Value::Double(number) => write!(f, "{number:?}"),
            Value::Decimal(number) => f.write_str(number.as_str()),
            Value::String(text) => write!(f, "{text:?}"),
            Value::Bytes(bytes) => write!(f, "b\"{}\"", bytes.escape_ascii()),
            Value::List(list) => f.debug_list().entries(list.iter()).finish(),
            Value::Map(map) => f.debug_map().entries(map.iter()).finish(),
            Value::Timestamp(_) => write!(f, "timestamp({:?})", self.to_text().unwrap_or_default()),
            Value::Duration(_) => write!(f, "duration({:?})", self.to_text().unwrap_or_default()),
            Value::Type(name) => f.write_str(name),
            Value::Optional(None) => f.write_str("optional.none()"),
            Value::Optional(Some(value)) => write!(f, "optional.of({value:?})"),
            Value::Object(object) => write!(f, "{object:?}"),
        }
    }
}
