//! JSON documents for libraries that take them as a whole.

use serde::de::{Deserialize, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Value as Json};
use std::fmt;

/// JSON whose lists and objects have no room to grow: in a body of many small objects that room would be a third of
/// all memory.
pub(crate) struct Tight(pub(crate) Json);

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

/// A member's name, or the sign that a number follows: so serde_json hands on numbers whose digits are all kept. A test of
/// long numbers notices if that changes.
enum Key {
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
    }
}
