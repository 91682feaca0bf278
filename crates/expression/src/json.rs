//! JSON to values and back.

use super::digits::BigNumber;
use super::value::scalar_text;
use super::{Value, ValueKind};
use base64::Engine as _;
use cel::common::types::{
    CelBool, CelBytes, CelDouble, CelInt, CelList, CelMap, CelMapKey, CelNull, CelString, CelUInt,
};
use cel::common::value::Val;
use serde::de::{Deserialize, DeserializeSeed, Deserializer, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::Value as Json;
use std::collections::HashMap;
use std::fmt;

impl Value {
    /// Reads a JSON text (RFC 8259): integers that fit 64 bits are integers, longer ones keep their
    /// digits. The error says what is wrong and where, in lines and columns of the text. More than 128
    /// levels are refused.
    pub fn parse_json(text: &[u8]) -> Result<Self, serde_json::Error> {
        serde_json::from_slice::<OwnedVal>(text).map(|held| Self(held.0.into()))
    }

    /// Reads a JSON object, but makes values only of these members; what else it holds is checked to be
    /// JSON and passed over.
    pub fn parse_json_members(text: &[u8], members: &[String]) -> Result<Self, serde_json::Error> {
        let mut deserializer = serde_json::Deserializer::from_slice(text);
        let held = Members(members).deserialize(&mut deserializer)?;
        deserializer.end()?;
        Ok(Self(held.0.into()))
    }

    /// The value of a JSON document.
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
        Json::Number(digits) => number(digits.as_str()),
        Json::Array(members) => Box::new(CelList::from(members.into_iter().map(boxed).collect::<Vec<_>>())),
        Json::Object(entries) => {
            let entries: HashMap<CelMapKey<'static>, Box<dyn Val>> =
                entries.into_iter().map(|(key, value)| (CelMapKey::from(key), boxed(value))).collect();
            Box::new(CelMap::from(entries))
        }
    }
}

/// A number by its digits.
fn number(digits: &str) -> Box<dyn Val> {
    if let Ok(number) = digits.parse::<i64>() {
        return Box::new(CelInt::from(number));
    }
    if let Ok(number) = digits.parse::<u64>() {
        return Box::new(CelUInt::from(number));
    }
    let whole = !digits.contains(['.', 'e', 'E']);
    match digits.parse::<f64>() {
        Ok(double) if !whole && double.is_finite() => Box::new(CelDouble::from(double)),
        _ => Box::new(BigNumber(digits.into())),
    }
}

/// A value on its way out of a JSON text, without a document in between: a body is read for every
/// request of a long replay.
struct OwnedVal(Box<dyn Val>);

/// A member's name, or the sign that a number follows: so serde_json hands on numbers whose digits are
/// all kept. A test of long numbers notices if that changes.
pub(super) enum Key {
    Name(String),
    Number,
}

impl<'de> Deserialize<'de> for Key {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct KeyVisitor;
        impl Visitor<'_> for KeyVisitor {
            type Value = Key;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a name")
            }

            fn visit_str<E>(self, name: &str) -> Result<Key, E> {
                Ok(if name == "$serde_json::private::Number" { Key::Number } else { Key::Name(name.to_owned()) })
            }
        }
        deserializer.deserialize_str(KeyVisitor)
    }
}

impl<'de> Deserialize<'de> for OwnedVal {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(HeldVisitor)
    }
}

struct HeldVisitor;

impl<'de> Visitor<'de> for HeldVisitor {
    type Value = OwnedVal;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_unit<E>(self) -> Result<OwnedVal, E> {
        Ok(OwnedVal(Box::new(CelNull)))
    }

    fn visit_bool<E>(self, truth: bool) -> Result<OwnedVal, E> {
        Ok(OwnedVal(Box::new(CelBool::from(truth))))
    }

    fn visit_i64<E>(self, number: i64) -> Result<OwnedVal, E> {
        Ok(OwnedVal(Box::new(CelInt::from(number))))
    }

    fn visit_u64<E>(self, number: u64) -> Result<OwnedVal, E> {
        Ok(OwnedVal(match i64::try_from(number) {
            Ok(number) => Box::new(CelInt::from(number)),
            Err(_) => Box::new(CelUInt::from(number)),
        }))
    }

    fn visit_f64<E>(self, double: f64) -> Result<OwnedVal, E> {
        Ok(OwnedVal(Box::new(CelDouble::from(double))))
    }

    fn visit_str<E>(self, text: &str) -> Result<OwnedVal, E> {
        Ok(OwnedVal(Box::new(CelString::from(text.to_owned()))))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<OwnedVal, A::Error> {
        let mut members = Vec::new();
        while let Some(OwnedVal(member)) = seq.next_element()? {
            members.push(member);
        }
        Ok(OwnedVal(Box::new(CelList::from(members))))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<OwnedVal, A::Error> {
        let mut entries: HashMap<CelMapKey<'static>, Box<dyn Val>> = HashMap::new();
        while let Some(key) = map.next_key()? {
            match key {
                Key::Number => return Ok(OwnedVal(number(&map.next_value::<String>()?))),
                Key::Name(name) => {
                    let OwnedVal(value) = map.next_value()?;
                    entries.insert(CelMapKey::from(name), value);
                }
            }
        }
        Ok(OwnedVal(Box::new(CelMap::from(entries))))
    }
}

/// An object of which only some members are wanted.
struct Members<'m>(&'m [String]);

impl<'de> DeserializeSeed<'de> for Members<'_> {
    type Value = OwnedVal;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<OwnedVal, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for Members<'_> {
    type Value = OwnedVal;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a JSON object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<OwnedVal, A::Error> {
        let mut entries: HashMap<CelMapKey<'static>, Box<dyn Val>> = HashMap::new();
        while let Some(index) = map.next_key_seed(Wanted(self.0))? {
            match self.0.get(index) {
                Some(name) => {
                    let OwnedVal(value) = map.next_value()?;
                    entries.insert(CelMapKey::from(name.clone()), value);
                }
                None => drop(map.next_value::<IgnoredAny>()?),
            }
        }
        Ok(OwnedVal(Box::new(CelMap::from(entries))))
    }
}

/// Which of the wanted members a key names; one past the last for any other.
struct Wanted<'m>(&'m [String]);

impl<'de> DeserializeSeed<'de> for Wanted<'_> {
    type Value = usize;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<usize, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl Visitor<'_> for Wanted<'_> {
    type Value = usize;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a name")
    }

    fn visit_str<E>(self, key: &str) -> Result<usize, E> {
        Ok(self.0.iter().position(|name| name == key).unwrap_or(self.0.len()))
    }
}

fn json(val: &dyn Val) -> Json {
    match super::value::kind(val) {
        ValueKind::Null => Json::Null,
        ValueKind::Bool => Json::Bool(val.downcast_ref::<CelBool>().is_some_and(|truth| *truth.inner())),
        ValueKind::Text => Json::String(val.downcast_ref::<CelString<'_>>().map_or("", |text| text.inner()).to_owned()),
        ValueKind::Bytes => {
            let bytes = val.downcast_ref::<CelBytes<'_>>().map_or(&[][..], |bytes| bytes.inner());
            Json::String(base64::engine::general_purpose::STANDARD.encode(bytes))
        }
        ValueKind::Integer | ValueKind::LongNumber => {
            scalar_text(val).and_then(|digits| serde_json::from_str(&digits).ok()).unwrap_or(Json::Null)
        }
        ValueKind::Double => {
            let double = val.downcast_ref::<CelDouble>().map_or(0.0, |double| *double.inner());
            // JSON has no infinity and no NaN (RFC 8259 6).
            serde_json::Number::from_f64(double).map_or_else(|| Json::String(double.to_string()), Json::Number)
        }
        ValueKind::List => Json::Array(
            val.downcast_ref::<CelList<'_>>().map_or(&[][..], |list| list.inner()).iter().map(|v| json(&**v)).collect(),
        ),
        ValueKind::Map => {
            let mut entries: Vec<(String, Json)> = val
                .downcast_ref::<CelMap<'_>>()
                .into_iter()
                .flat_map(|map| map.inner())
                .map(|(key, value)| (key_text(key), json(&**value)))
                .collect();
            entries.sort_by(|a, b| a.0.cmp(&b.0));
            Json::Object(entries.into_iter().collect())
        }
        ValueKind::Timestamp | ValueKind::Duration | ValueKind::Other => {
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
