//! The schemas of answers as files of JSON Schema (2020-12), each beside the others it refers to.

use super::documents::{Documents, Node};
use rustc_hash::FxHashMap;
use serde_json::{Map, Value, json};
use std::collections::BTreeSet;

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

    /// The path, from a request file, of the schema that stands at a node; `name` is for one without a name of
    /// its own. Nothing for one that takes everything.
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
        let numbered = (2..).map(|number| format!("{own}-{number}"));
        let free = |name: &String| !self.names.contains(&name.to_lowercase());
        let name = std::iter::once(own.to_owned()).chain(numbered).find(free).unwrap_or_default();
        self.names.insert(name.to_lowercase());
        format!("{name}.schema.json")
    }

    /// The files: their paths from a request file, and what is in them.
    pub(super) fn files(mut self) -> Vec<(String, String)> {
        let mut files = Vec::new();
        while let Some((file, node)) = self.waiting.pop() {
            let mut schema = self.rewritten(node, 0);
            if let Value::Object(members) = &mut schema {
                members.shift_insert(0, "$schema".to_owned(), json!("https://json-schema.org/draft/2020-12/schema"));
            }
            let text = serde_json::to_string_pretty(&schema).unwrap_or_default();
            files.push((format!("{FOLDER}/{file}"), text + "\n"));
        }
        files.sort();
        files
    }

    /// A schema whose references lead to files, in the dialect of today.
    fn rewritten(&mut self, node: Node<'d>, depth: usize) -> Value {
        let members = match node.value {
            Value::Object(members) if depth < 256 => members,
            Value::Array(list) => {
                let list = list.iter().map(|value| self.rewritten(Node { value, ..node }, depth + 1));
                return Value::Array(list.collect());
            }
            other => return other.clone(),
        };
        let mut written = Map::with_capacity(members.len());
        for (name, value) in members {
            let inner = Node { value, ..node };
            let value = match (name.as_str(), value) {
                ("$ref", Value::String(reference)) => match self.referred(node.document, reference) {
                    Some(file) => Value::String(file),
                    None => continue,
                },
                // Not for validating, and maybe long.
                ("example" | "examples" | "xml" | "externalDocs" | "discriminator", _) => continue,
                ("enum" | "const" | "default", value) => value.clone(),
                ("properties" | "patternProperties" | "$defs" | "dependentSchemas", Value::Object(named)) => {
                    let named = named
                        .iter()
                        .map(|(name, value)| (name.clone(), self.rewritten(Node { value, ..node }, depth + 1)));
                    Value::Object(named.collect())
                }
                _ => self.rewritten(inner, depth + 1),
            };
            written.insert(name.clone(), value);
        }
        if self.old {
            modern(&mut written);
        }
        Value::Object(written)
    }
}

/// What OpenAPI 3.0 says in words of its own, as JSON Schema says it.
fn modern(schema: &mut Map<String, Value>) {
    if let Some(reference) = schema.get("$ref").cloned() {
        // What stands beside a reference has no meaning in 3.0.
        schema.clear();
        schema.insert("$ref".to_owned(), reference);
        return;
    }
    for (bound, strict) in [("minimum", "exclusiveMinimum"), ("maximum", "exclusiveMaximum")] {
        match schema.get(strict) {
            Some(Value::Bool(true)) => {
                schema.remove(strict);
                if let Some(number) = schema.remove(bound) {
                    schema.insert(strict.to_owned(), number);
                }
            }
            Some(Value::Bool(false)) => {
                schema.remove(strict);
            }
            _ => {}
        }
    }
    if schema.remove("nullable") != Some(Value::Bool(true)) {
        return;
    }
    match schema.get_mut("type") {
        Some(kind) => *kind = json!([kind.clone(), "null"]),
        None => {
            let bare = std::mem::take(schema);
            schema.insert("anyOf".to_owned(), json!([Value::Object(bare), { "type": "null" }]));
            return;
        }
    }
    if let Some(Value::Array(choices)) = schema.get_mut("enum")
        && !choices.contains(&Value::Null)
    {
        choices.push(Value::Null);
    }
}
