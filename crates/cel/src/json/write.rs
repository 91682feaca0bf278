//! Values as JSON.

use crate::value::Value;
use base64::Engine as _;
use serde::ser::{Serialize, SerializeMap, SerializeSeq, Serializer};

impl Serialize for Value {
    /// As JSON: bytes in base64 (RFC 4648 4), times and types as text, a double that JSON does not have (RFC 8259 6) as
    /// text, an optional as its value or null.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Value::Null | Value::Optional(None) => serializer.serialize_unit(),
            Value::Bool(truth) => serializer.serialize_bool(*truth),
            Value::Int(number) => serializer.serialize_i64(*number),
            Value::Uint(number) => serializer.serialize_u64(*number),
            Value::Double(number) if number.is_finite() => serializer.serialize_f64(*number),
            Value::Decimal(number) => match number.as_str().parse::<serde_json::Number>() {
                Ok(number) => number.serialize(serializer),
                Err(_) => serializer.serialize_str(number.as_str()),
            },
            Value::String(text) => serializer.serialize_str(text),
            Value::Bytes(bytes) => serializer.serialize_str(&base64::engine::general_purpose::STANDARD.encode(bytes)),
            Value::List(list) => {
                let mut members = serializer.serialize_seq(Some(list.len()))?;
                for member in list.iter() {
                    members.serialize_element(&member)?;
                }
                members.end()
            }
            Value::Map(map) => {
                let mut entries = serializer.serialize_map(Some(map.len()))?;
                for (key, value) in map.iter() {
                    match key.as_str() {
                        Some(name) => entries.serialize_entry(name, &value)?,
                        None => entries.serialize_entry(&key.text(), &value)?,
                    }
                }
                entries.end()
            }
            Value::Optional(Some(value)) => value.serialize(serializer),
            Value::Double(_) | Value::Timestamp(_) | Value::Duration(_) | Value::Type(_) | Value::Object(_) => {
                serializer.serialize_str(&self.to_text().unwrap_or_default())
            }
        }
    }
}

impl Value {
    /// The value as JSON text, without white space.
    pub fn to_json_text(&self) -> String {
        // Only keys that are not text could fail.
        serde_json::to_string(self).unwrap_or_default()
    }

    /// The value as a JSON document.
    pub fn to_json(&self) -> serde_json::Value {
        serde_json::to_value(self).unwrap_or_default()
    }

    /// The value of a JSON document, all of it converted.
    pub fn from_json(json: &serde_json::Value) -> Self {
        match json {
            serde_json::Value::Null => Value::Null,
            serde_json::Value::Bool(truth) => Value::Bool(*truth),
            serde_json::Value::Number(number) => Value::from_digits(&number.to_string()),
            serde_json::Value::String(text) => Value::string(text.as_str()),
            serde_json::Value::Array(members) => Value::List(members.iter().map(Value::from_json).collect()),
            serde_json::Value::Object(members) => {
                Value::map(members.iter().map(|(name, value)| (name.as_str(), Value::from_json(value))))
            }
        }
    }
}
