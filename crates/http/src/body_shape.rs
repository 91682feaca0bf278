//! A response body as far as it is altered or described: its fields, each as it is written.

use super::is_json;
use crate::Exchange;
use rustc_hash::FxHashMap;
use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};
use serde_json::Value as Json;
use serde_json::value::RawValue;
use std::fmt;
use yieldtray_source::names::is_value_name;

/// A body as far as it is altered: its parts as they are written, so that a copy is made of pieces of the text.
pub enum BodyShape<'x> {
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
pub struct Members<'x>(pub Vec<(String, &'x RawValue)>);

/// A member of a list.
pub enum Member<'x> {
    /// An object.
    Object(Members<'x>),
    /// Any other value.
    Other(&'x RawValue),
}

impl<'x> BodyShape<'x> {
    /// The shape of a response body, which is JSON if `body` is for the checks.
    pub fn of(exchange: &'x Exchange) -> Self {
        let body = if exchange.is_body_complete() { &exchange.body[..] } else { &[] };
        Self::of_body(&exchange.media_type(), body)
    }

    /// The same, of a body of that media type.
    pub fn of_body(media: &str, body: &'x [u8]) -> Self {
        if body.is_empty() {
            return BodyShape::Nothing;
        }
        let first = body.trim_ascii_start().first().copied();
        if !is_json(media) && !matches!(first, Some(b'{' | b'[')) {
            return BodyShape::Other;
        }
        let whole = match first {
            Some(b'{') => serde_json::from_slice(body).map(BodyShape::Object),
            Some(b'[') => serde_json::from_slice::<Vec<&RawValue>>(body)
                .map(|members| BodyShape::List(members.into_iter().map(Member::of).collect())),
            _ => serde_json::from_slice::<&RawValue>(body).map(|_| BodyShape::Json),
        };
        whole.unwrap_or(BodyShape::Other)
    }

    /// The fields that are altered, the outermost first: those of objects at every depth, of the objects in a list
    /// together. Of a large body not all are.
    pub fn fields(&self) -> Vec<FieldAt<'x>> {
        let mut fields = self.outer_fields();
        let mut next = 0;
        while let Some(field) = fields.get(next) {
            next += 1;
            if field.path.0.len() < MAX_DEPTH {
                let inner = field.inner();
                fields.extend(inner);
            }
            if fields.len() >= MAX_FIELDS {
                fields.truncate(MAX_FIELDS);
                break;
            }
        }
        fields
    }

    /// The fields of the body's own object, or of the objects in its list.
    pub fn outer_fields(&self) -> Vec<FieldAt<'x>> {
        match self {
            BodyShape::Object(members) => gathered(&[], members.0.iter().map(|(name, value)| (name.as_str(), *value))),
            BodyShape::List(members) => {
                let objects = members.iter().filter_map(|member| match member {
                    Member::Object(members) => Some(members),
                    Member::Other(_) => None,
                });
                let members = objects.flat_map(|members| members.0.iter());
                gathered(&[Segment::Each], members.map(|(name, value)| (name.as_str(), *value)))
            }
            BodyShape::Nothing | BodyShape::Json | BodyShape::Other => Vec::new(),
        }
    }
}

/// Fields that are altered at most.
const MAX_FIELDS: usize = 200;

/// Segments of a path at most.
const MAX_DEPTH: usize = 12;

/// Values of a field that are looked at for fields inside of them.
const MAX_SAMPLES: usize = 50;

/// Where a field is: by names, and into all members of lists.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldPath(pub Vec<Segment>);

/// A step of a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Segment {
    /// The member of an object.
    Key(String),
    /// Each member of a list.
    Each,
}

impl FieldPath {
    /// True if it applies to each member of a body that is a list.
    pub fn of_each(&self) -> bool {
        self.0.first() == Some(&Segment::Each)
    }

    /// The path in words of the language, as in `grower.name` or `lots[].id`; without the outermost list.
    pub fn shown(&self) -> String {
        shown(&self.0)
    }

    /// The same of the object that the field is in; empty for the outermost.
    pub fn shown_parent(&self) -> String {
        shown(&self.0[..self.0.len().saturating_sub(1)])
    }
}

fn shown(segments: &[Segment]) -> String {
    let inner = if segments.first() == Some(&Segment::Each) { &segments[1..] } else { segments };
    let mut shown = String::new();
    for segment in inner {
        match segment {
            Segment::Each => shown.push_str("[]"),
            Segment::Key(name) if !is_value_name(name) => shown.push_str(&format!("[{}]", Json::from(name.as_str()))),
            Segment::Key(name) if shown.is_empty() => shown.push_str(name),
            Segment::Key(name) => shown.push_str(&format!(".{name}")),
        }
    }
    shown
}

/// A field of a body.
pub struct FieldAt<'x> {
    /// Its path.
    pub path: FieldPath,
    /// A value it has.
    pub value: &'x RawValue,
    /// Values it has, as far as fields inside of them are looked for.
    samples: Vec<&'x RawValue>,
}

impl<'x> FieldAt<'x> {
    /// The fields of the objects that it holds, or that its lists hold.
    fn inner(&self) -> Vec<FieldAt<'x>> {
        let text = |sample: &&&'x RawValue| sample.get().as_bytes().first().copied();
        let objects = self.samples.iter().filter(|sample| text(sample) == Some(b'{'));
        let mut of_objects: Vec<(String, &'x RawValue)> = Vec::new();
        for object in objects {
            of_objects.extend(serde_json::from_str::<Members<'x>>(object.get()).into_iter().flat_map(|all| all.0));
        }
        let lists = self.samples.iter().filter(|sample| text(sample) == Some(b'['));
        let mut of_lists: Vec<(String, &'x RawValue)> = Vec::new();
        for list in lists {
            let members: Vec<&'x RawValue> = serde_json::from_str(list.get()).unwrap_or_default();
            for member in members.into_iter().take(MAX_SAMPLES) {
                of_lists.extend(serde_json::from_str::<Members<'x>>(member.get()).into_iter().flat_map(|all| all.0));
            }
        }
        let each: Vec<Segment> = self.path.0.iter().cloned().chain([Segment::Each]).collect();
        let named = |members: &[(String, &'x RawValue)], path: &[Segment]| {
            gathered(path, members.iter().map(|(name, value)| (name.as_str(), *value)))
        };
        let mut fields = named(&of_objects, &self.path.0);
        fields.extend(named(&of_lists, &each));
        fields
    }
}

/// The fields below a path, each with the values it has.
fn gathered<'x, 'n>(path: &[Segment], members: impl Iterator<Item = (&'n str, &'x RawValue)>) -> Vec<FieldAt<'x>> {
    let mut fields: Vec<FieldAt<'x>> = Vec::new();
    let mut places: FxHashMap<&str, usize> = FxHashMap::default();
    for (name, value) in members {
        match places.get(name) {
            Some(place) => {
                let samples = &mut fields[*place].samples;
                if samples.len() < MAX_SAMPLES {
                    samples.push(value);
                }
            }
            None if fields.len() == MAX_FIELDS => {}
            None => {
                places.insert(name, fields.len());
                let path = path.iter().cloned().chain([Segment::Key(name.to_owned())]).collect();
                fields.push(FieldAt { path: FieldPath(path), value, samples: vec![value] });
            }
        }
    }
    fields
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
