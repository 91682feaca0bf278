//! Writes the schemas of responses as files of JSON Schema (2020-12), each beside the others it refers to.

use super::documents::{Documents, Node};
use rustc_hash::FxHashMap;
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::{Map, Value, json};
use std::cell::RefCell;
use std::collections::BTreeSet;
use yieldtray_source::names::first_free;

/// The folder they lie in, beside the request files.
pub(super) const FOLDER: &str = "schemas";

/// Schemas that become files.
pub(super) struct Schemas<'d> {
    documents: &'d Documents,
    /// Whether the dialect is the one of OpenAPI 3.0.
    old: bool,
    by_place: FxHashMap<(usize, String), String>,
    names: BTreeSet<String>,
    waiting: Vec<(String, Node<'d>)>,
}

impl<'d> Schemas<'d> {
    pub(super) fn new(documents: &'d Documents, old: bool) -> Self {
        Self { documents, old, by_place: FxHashMap::default(), names: BTreeSet::new(), waiting: Vec::new() }
    }

    /// The path, relative to a request file, of the schema of a node; `name` is for one without a name of its own.
    /// `None` for a schema that allows everything.
    pub(super) fn file(&mut self, schema: Node<'d>, name: &str) -> Option<String> {
        if let Some(reference) = schema.text("$ref") {
            let file = self.referred(schema.document, reference)?;
            return Some(format!("{FOLDER}/{file}"));
        }
        if schema.value.as_object().is_none_or(Map::is_empty) {
            return None;
        }
        let file = self.name(name);
        self.waiting.push((file.clone(), schema));
        Some(format!("{FOLDER}/{file}"))
    }

    /// The file of what a reference leads to.
    fn referred(&mut self, document: usize, reference: &str) -> Option<String> {
        let documents = self.documents;
        let (node, place) = documents.find(document, reference)?;
        if let Some(known) = self.by_place.get(&place) {
            return Some(known.clone());
        }
        let name = place.1.rsplit('/').next().filter(|name| !name.is_empty()).unwrap_or("whole").to_owned();
        let file = self.name(&name);
        self.by_place.insert(place, file.clone());
        self.waiting.push((file.clone(), node));
        Some(file)
    }

    /// The name of a file; some systems take `Lot` and `lot` for one.
    fn name(&mut self, wanted: &str) -> String {
        let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        let own: String = wanted.chars().map(|c| if fits(c) { c } else { '-' }).collect();
        let own = own.trim_matches(['-', '.']);
        let own = if own.is_empty() { "schema" } else { own };
        let name = first_free(own, "-", |name| !self.names.contains(&name.to_lowercase()));
        self.names.insert(name.to_lowercase());
        format!("{name}.schema.json")
    }

    /// The files: their paths from a request file, and what is in them.
    pub(super) fn files(self) -> Vec<(String, String)> {
        let schemas = RefCell::new(self);
        let mut files = Vec::new();
        loop {
            let next = schemas.borrow_mut().waiting.pop();
            let Some((file, node)) = next else { break };
            let written = SchemaWriter { schemas: &schemas, node, depth: 0, shape: SchemaPosition::Whole };
            let text = serde_json::to_string_pretty(&written).unwrap_or_default();
            files.push((format!("{FOLDER}/{file}"), text + "\n"));
        }
        files.sort();
        files
    }
}

/// The depth to which a schema is rewritten; deeper parts are copied.
const MAX_DEPTH: usize = 256;

/// A part of a schema as it is written: its references lead to files, its dialect is that of today. It is written
/// from the description itself, of which nothing is copied.
#[derive(Clone, Copy)]
struct SchemaWriter<'s, 'd> {
    schemas: &'s RefCell<Schemas<'d>>,
    node: Node<'d>,
    depth: usize,
    shape: SchemaPosition,
}

/// The kind of a part.
#[derive(Clone, Copy, PartialEq)]
enum SchemaPosition {
    /// A file of its own.
    Whole,
    /// A schema, or a list of them.
    Schema,
    /// A schema whose `nullable` is said around it.
    Bare,
    /// Schemas by names.
    Named,
}

impl<'d> SchemaWriter<'_, 'd> {
    fn inside(self, value: &'d Value, shape: SchemaPosition) -> Self {
        Self { node: Node { value, ..self.node }, depth: self.depth + 1, shape, ..self }
    }

    fn old(&self) -> bool {
        self.schemas.borrow().old
    }

    /// A schema's members, one by one.
    fn members<M: SerializeMap>(self, members: &'d Map<String, Value>, map: &mut M) -> Result<(), M::Error> {
        let old = self.old();
        if self.shape == SchemaPosition::Whole {
            map.serialize_entry("$schema", "https://json-schema.org/draft/2020-12/schema")?;
        }
        let reference = members.get("$ref").and_then(Value::as_str);
        let leads = |reference| self.schemas.borrow_mut().referred(self.node.document, reference);
        if let (true, Some(reference)) = (old, reference) {
            // In 3.0, members beside a reference are ignored.
            return leads(reference).map_or(Ok(()), |file| map.serialize_entry("$ref", &file));
        }
        let is = |name: &str| old && members.get(name) == Some(&Value::Bool(true));
        let nullable = is("nullable") && self.shape != SchemaPosition::Bare;
        if nullable && !members.contains_key("type") {
            let bare = self.inside(self.node.value, SchemaPosition::Bare);
            return map.serialize_entry("anyOf", &(bare, json!({ "type": "null" })));
        }
        for (name, value) in members {
            match (name.as_str(), value) {
                ("$ref", Value::String(reference)) => {
                    if let Some(file) = leads(reference) {
                        map.serialize_entry("$ref", &file)?;
                    }
                }
                // Not for validating, and maybe long.
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
                    map.serialize_entry(name, &self.inside(value, SchemaPosition::Named))?;
                }
                _ => map.serialize_entry(name, &self.inside(value, SchemaPosition::Schema))?,
            }
        }
        Ok(())
    }
}

impl Serialize for SchemaWriter<'_, '_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match (self.node.value, self.shape) {
            (value, _) if self.depth > MAX_DEPTH => value.serialize(serializer),
            (Value::Array(list), _) => {
                serializer.collect_seq(list.iter().map(|value| self.inside(value, SchemaPosition::Schema)))
            }
            (Value::Object(members), SchemaPosition::Named) => serializer
                .collect_map(members.iter().map(|(name, value)| (name, self.inside(value, SchemaPosition::Schema)))),
            (Value::Object(members), _) => {
                let mut map = serializer.serialize_map(None)?;
                self.members(members, &mut map)?;
                map.end()
            }
            (value, _) => value.serialize(serializer),
        }
    }
}
