//! Schemas of a description as JSON Schema (2020-12): the dialect of OpenAPI 3.0 is rewritten, references lead where the
//! caller puts what they refer to.

use crate::documents::Node;
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::{Map, Value, json};

/// The depth to which a schema is rewritten; deeper parts are copied.
const MAX_DEPTH: usize = 256;

/// Where the schemas are put that others refer to.
pub trait References {
    /// The reference to write in place of `reference`, which is in this document. `None` if it leads nowhere.
    fn target(&self, document: usize, reference: &str) -> Option<String>;
}

/// A schema as it is written. It is written from the description itself, of which nothing is copied.
#[derive(Clone, Copy)]
pub struct SchemaWriter<'s, 'd> {
    references: &'s dyn References,
    is_v30: bool,
    keeps_examples: bool,
    node: Node<'d>,
    depth: usize,
    position: Position,
}

/// The kind of a part.
#[derive(Clone, Copy, PartialEq)]
enum Position {
    /// A document of its own.
    Document,
    /// A schema, or a list of them.
    Schema,
    /// A schema whose `nullable` is said around it.
    Bare,
    /// Schemas by names.
    Named,
}

impl<'s, 'd> SchemaWriter<'s, 'd> {
    /// A schema inside a document.
    pub fn new(references: &'s dyn References, is_v30: bool, node: Node<'d>) -> Self {
        Self { references, is_v30, keeps_examples: true, node, depth: 0, position: Position::Schema }
    }

    /// A schema as a document of its own, which names its dialect. Examples are left out: they may be long.
    #[must_use]
    pub fn as_document(self) -> Self {
        Self { position: Position::Document, keeps_examples: false, ..self }
    }

    fn inside(self, value: &'d Value, position: Position) -> Self {
        Self { node: Node { value, ..self.node }, depth: self.depth + 1, position, ..self }
    }

    /// A schema's members, one by one.
    fn members<M: SerializeMap>(self, members: &'d Map<String, Value>, map: &mut M) -> Result<(), M::Error> {
        let old = self.is_v30;
        if self.position == Position::Document {
            map.serialize_entry("$schema", "https://json-schema.org/draft/2020-12/schema")?;
        }
        let reference = members.get("$ref").and_then(Value::as_str);
        let target = |reference| self.references.target(self.node.document, reference);
        if let (true, Some(reference)) = (old, reference) {
            // In 3.0, members beside a reference are ignored.
            return target(reference).map_or(Ok(()), |target| map.serialize_entry("$ref", &target));
        }
        let is = |name: &str| old && members.get(name) == Some(&Value::Bool(true));
        let nullable = is("nullable") && self.position != Position::Bare;
        if nullable && !members.contains_key("type") {
            let bare = self.inside(self.node.value, Position::Bare);
            return map.serialize_entry("anyOf", &(bare, json!({ "type": "null" })));
        }
        for (name, value) in members {
            match (name.as_str(), value) {
                ("$ref", Value::String(reference)) => {
                    if let Some(target) = target(reference) {
                        map.serialize_entry("$ref", &target)?;
                    }
                }
                ("example" | "examples", _) if self.keeps_examples => map.serialize_entry(name, value)?,
                // Not for validating.
                ("example" | "examples" | "xml" | "externalDocs" | "discriminator", _) => {}
                ("nullable", _) if old => {}
                ("minimum", _) if is("exclusiveMinimum") => map.serialize_entry("exclusiveMinimum", value)?,
                ("maximum", _) if is("exclusiveMaximum") => map.serialize_entry("exclusiveMaximum", value)?,
                ("exclusiveMinimum" | "exclusiveMaximum", Value::Bool(_)) if old => {}
                ("type", _) if nullable => map.serialize_entry(name, &(value, "null"))?,
                ("enum", Value::Array(choices)) if nullable && !choices.contains(&Value::Null) => {
                    let choices: Vec<&Value> = choices.iter().chain([&Value::Null]).collect();
                    map.serialize_entry(name, &choices)?;
                }
                ("enum" | "const" | "default", _) => map.serialize_entry(name, value)?,
                ("properties" | "patternProperties" | "$defs" | "dependentSchemas", _) => {
                    map.serialize_entry(name, &self.inside(value, Position::Named))?;
                }
                _ => map.serialize_entry(name, &self.inside(value, Position::Schema))?,
            }
        }
        Ok(())
    }
}

impl Serialize for SchemaWriter<'_, '_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match (self.node.value, self.position) {
            (value, _) if self.depth > MAX_DEPTH => value.serialize(serializer),
            (Value::Array(list), _) => {
                serializer.collect_seq(list.iter().map(|value| self.inside(value, Position::Schema)))
            }
            (Value::Object(members), Position::Named) => {
                serializer.collect_map(members.iter().map(|(name, value)| (name, self.inside(value, Position::Schema))))
            }
            (Value::Object(members), _) => {
                let mut map = serializer.serialize_map(None)?;
                self.members(members, &mut map)?;
                map.end()
            }
            (value, _) => value.serialize(serializer),
        }
    }
}
