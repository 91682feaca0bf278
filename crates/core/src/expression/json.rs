//! JSON to values and back.

use super::digits::Digits;
use super::value::scalar_text;
use super::{Kind, Value};
use base64::Engine as _;
use cel::common::types::{
    CelBool, CelBytes, CelDouble, CelInt, CelList, CelMap, CelMapKey, CelNull, CelString, CelUInt,
};
use cel::common::value::Val;
use serde_json::Value as Json;
use std::collections::HashMap;

impl Value {
    /// Reads a JSON text (RFC 8259). The error says what is wrong and where, in lines and columns of
    /// the text. More than 128 levels are refused.
    pub fn parse_json(text: &[u8]) -> Result<Self, serde_json::Error> {
        serde_json::from_slice::<Json>(text).map(Self::from_json)
    }

    /// The value of a JSON document: integers that fit 64 bits are integers, longer ones keep their
    /// digits.
    pub fn from_json(json: Json) -> Self {
        Self(boxed(json).into())
    }

    /// The value as JSON, keys sorted. Bytes become base64, times become text.
    pub fn to_json(&self) -> Json {
        json(&*self.0)
    }
}

fn boxed(json: Json) -> Box<dyn Val> {
    match json {
        Json::Null => Box::new(CelNull),
        Json::Bool(truth) => Box::new(CelBool::from(truth)),
        Json::String(text) => Box::new(CelString::from(text)),
        Json::Number(number) => {
            if let Some(number) = number.as_i64() {
                Box::new(CelInt::from(number))
            } else if let Some(number) = number.as_u64() {
                Box::new(CelUInt::from(number))
            } else {
                let digits = number.as_str();
                let whole = !digits.contains(['.', 'e', 'E']);
                match number.as_f64() {
                    Some(double) if !whole && double.is_finite() => Box::new(CelDouble::from(double)),
                    _ => Box::new(Digits(digits.into())),
                }
            }
        }
        Json::Array(members) => Box::new(CelList::from(members.into_iter().map(boxed).collect::<Vec<_>>())),
        Json::Object(entries) => {
            let entries: HashMap<CelMapKey<'static>, Box<dyn Val>> =
                entries.into_iter().map(|(key, value)| (CelMapKey::from(key), boxed(value))).collect();
            Box::new(CelMap::from(entries))
        }
    }
}

fn json(val: &dyn Val) -> Json {
    match super::value::kind(val) {
        Kind::Null => Json::Null,
        Kind::Bool => Json::Bool(val.downcast_ref::<CelBool>().is_some_and(|truth| *truth.inner())),
        Kind::Text => Json::String(val.downcast_ref::<CelString<'_>>().map_or("", |text| text.inner()).to_owned()),
        Kind::Bytes => {
            let bytes = val.downcast_ref::<CelBytes<'_>>().map_or(&[][..], |bytes| bytes.inner());
            Json::String(base64::engine::general_purpose::STANDARD.encode(bytes))
        }
        Kind::Integer | Kind::LongNumber => {
            scalar_text(val).and_then(|digits| serde_json::from_str(&digits).ok()).unwrap_or(Json::Null)
        }
        Kind::Double => {
            let double = val.downcast_ref::<CelDouble>().map_or(0.0, |double| *double.inner());
            // JSON has no infinity and no NaN (RFC 8259 6).
            serde_json::Number::from_f64(double).map_or_else(|| Json::String(double.to_string()), Json::Number)
        }
        Kind::List => Json::Array(
            val.downcast_ref::<CelList<'_>>().map_or(&[][..], |list| list.inner()).iter().map(|v| json(&**v)).collect(),
        ),
        Kind::Map => {
            let mut entries: Vec<(String, Json)> = val
                .downcast_ref::<CelMap<'_>>()
                .into_iter()
                .flat_map(|map| map.inner())
                .map(|(key, value)| (key_text(key), json(&**value)))
                .collect();
            entries.sort_by(|a, b| a.0.cmp(&b.0));
            Json::Object(entries.into_iter().collect())
        }
        Kind::Timestamp | Kind::Duration | Kind::Other => {
            Json::String(scalar_text(val).unwrap_or_else(|| val.get_type().name().to_owned()))
        }
    }
}

/// A map's key as text.
pub(super) fn key_text(key: &CelMapKey<'_>) -> String {
    match key {
        CelMapKey::String(text) => text.inner().to_owned(),
        other => scalar_text(other.inner()).unwrap_or_default(),
    }
}
