//! A JSON text as it was read, for functions that take JSON: no values are made of what they do not select.

use super::Value;
use super::json::Key;
use super::opaque::opaque;
use serde::de::{Deserialize, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Value as Json};
use std::fmt;
use std::sync::Arc;

/// A JSON document.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Document(pub(super) Arc<Json>);

opaque!(Document, "document", same);

impl Value {
    /// Reads a JSON text as a document.
    pub fn parse_document(text: &[u8]) -> Result<Self, serde_json::Error> {
        let Tight(json) = serde_json::from_slice(text)?;
        let document = Document(Arc::new(json));
        Ok(Self(Box::<dyn cel::common::value::Val>::from(Box::new(document)).into()))
    }
}

/// JSON whose lists and objects have no room to grow: in a body of many small objects that room would be a third of
/// all memory.
struct Tight(Json);

impl<'de> Deserialize<'de> for Tight {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(TightVisitor).map(Self)
    }
}

struct TightVisitor;

impl<'de> Visitor<'de> for TightVisitor {
    type Value = Json;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_unit<E>(self) -> Result<Json, E> {
        Ok(Json::Null)
    }

    fn visit_bool<E>(self, truth: bool) -> Result<Json, E> {
        Ok(Json::Bool(truth))
    }

    fn visit_i64<E>(self, number: i64) -> Result<Json, E> {
        Ok(number.into())
    }

    fn visit_u64<E>(self, number: u64) -> Result<Json, E> {
        Ok(number.into())
    }

    fn visit_f64<E>(self, number: f64) -> Result<Json, E> {
        Ok(number.into())
    }

    fn visit_str<E>(self, text: &str) -> Result<Json, E> {
        Ok(Json::String(text.to_owned()))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Json, A::Error> {
        let mut members = Vec::new();
        while let Some(Tight(member)) = seq.next_element()? {
            members.push(member);
        }
        members.shrink_to_fit();
        Ok(Json::Array(members))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Json, A::Error> {
        let mut members: Vec<(String, Json)> = Vec::new();
        while let Some(key) = map.next_key()? {
            match key {
                Key::Number => return map.next_value::<String>()?.parse().map(Json::Number).map_err(A::Error::custom),
                Key::Name(name) => {
                    let Tight(value) = map.next_value()?;
                    members.push((name, value));
                }
            }
        }
        let mut object = Map::with_capacity(members.len());
        object.extend(members);
        Ok(Json::Object(object))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_document_is_what_the_text_says() {
        let text = r#"{"b": [1, -2.50, 1e400, 123456789012345678901234567890, true, null, "é\n"], "a": {}, "b2": 1, "a": [[]]}"#;
        let Tight(read) = serde_json::from_str(text).expect("JSON");
        assert_eq!(read, serde_json::from_str::<Json>(text).expect("JSON"));
        assert_eq!(
            read.to_string(),
            r#"{"b":[1,-2.50,1e+400,123456789012345678901234567890,true,null,"é\n"],"a":[[]],"b2":1}"#
        );
        assert!(Value::parse_document(b"{\"a\": 1}}").is_err());
        let deep = "[".repeat(200) + &"]".repeat(200);
        assert!(Value::parse_document(deep.as_bytes()).is_err(), "more than 128 levels are refused");
    }
}
