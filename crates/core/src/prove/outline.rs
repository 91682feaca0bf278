use crate::response::Exchange;
use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;
use std::fmt;

/// A body as far as it is altered: its parts as they are written, so that a copy is made of pieces of the text.
pub(crate) enum Outline<'x> {
    /// There is none, or it is not held.
    Nothing,
    /// A JSON object.
    Object(Members<'x>),
    /// A JSON list; of each member that is an object its own members.
    List(Vec<Member<'x>>),
    /// Other JSON.
    Json,
    /// Anything else.
    Other,
}

/// The members of a JSON object in order, each as it is written.
pub(crate) struct Members<'x>(pub(super) Vec<(String, &'x RawValue)>);

/// A member of a list.
pub(crate) enum Member<'x> {
    Object(Members<'x>),
    Other(&'x RawValue),
}

impl<'x> Outline<'x> {
    /// The outline of an answer's body, which is JSON where `body` is for the checks.
    pub(crate) fn of(exchange: &'x Exchange) -> Self {
        let body = if exchange.holds_body() { &exchange.body[..] } else { &[] };
        Self::of_body(&exchange.media_type(), body)
    }

    /// The same, of a body of that media type.
    pub(crate) fn of_body(media: &str, body: &'x [u8]) -> Self {
        if body.is_empty() {
            return Outline::Nothing;
        }
        let first = body.trim_ascii_start().first().copied();
        let says_json = media == "application/json" || media.ends_with("+json");
        if !says_json && !matches!(first, Some(b'{' | b'[')) {
            return Outline::Other;
        }
        let whole = match first {
            Some(b'{') => serde_json::from_slice(body).map(Outline::Object),
            Some(b'[') => serde_json::from_slice::<Vec<&RawValue>>(body)
                .map(|members| Outline::List(members.into_iter().map(Member::of).collect())),
            _ => serde_json::from_slice::<&RawValue>(body).map(|_| Outline::Json),
        };
        whole.unwrap_or(Outline::Other)
    }

    /// The names of the fields that are altered, each with a value it has.
    pub(super) fn fields(&self) -> Vec<(&str, &'x RawValue)> {
        let mut fields: Vec<(&str, &'x RawValue)> = Vec::new();
        match self {
            Outline::Object(members) => fields.extend(members.0.iter().map(|(name, value)| (name.as_str(), *value))),
            Outline::List(members) => {
                for member in members {
                    let Member::Object(members) = member else { continue };
                    for (name, value) in &members.0 {
                        if !fields.iter().any(|(known, _)| known == name) {
                            fields.push((name, *value));
                        }
                    }
                }
            }
            Outline::Nothing | Outline::Json | Outline::Other => {}
        }
        fields
    }
}

impl<'x> Member<'x> {
    fn of(text: &'x RawValue) -> Self {
        serde_json::from_str(text.get()).map_or(Member::Other(text), Member::Object)
    }
}

impl<'x> Deserialize<'x> for Members<'x> {
    fn deserialize<D: Deserializer<'x>>(from: D) -> Result<Self, D::Error> {
        struct InOrder;
        impl<'x> Visitor<'x> for InOrder {
            type Value = Members<'x>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'x>>(self, mut map: A) -> Result<Members<'x>, A::Error> {
                let mut members: Vec<(String, &'x RawValue)> = Vec::new();
                while let Some((name, value)) = map.next_entry::<String, &'x RawValue>()? {
                    // Of two of a name the last one counts (RFC 8259 4).
                    members.retain(|(known, _)| *known != name);
                    members.push((name, value));
                }
                Ok(Members(members))
            }
        }
        from.deserialize_map(InOrder)
    }
}
