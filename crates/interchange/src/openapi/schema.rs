//! Writes the schemas of responses as files of JSON Schema (2020-12), each beside the others it refers to.

use rustc_hash::FxHashMap;
use serde_json::Map;
use std::cell::RefCell;
use std::collections::BTreeSet;
use yieldtray_description::{Documents, Node, References, SchemaWriter};
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
        let schemas = OpenSchemas(RefCell::new(self));
        let mut files = Vec::new();
        loop {
            let next = schemas.0.borrow_mut().waiting.pop();
            let Some((file, node)) = next else { break };
            let is_v30 = schemas.0.borrow().old;
            let written = SchemaWriter::new(&schemas, is_v30, node).as_document();
            let text = serde_json::to_string_pretty(&written).unwrap_or_default();
            files.push((format!("{FOLDER}/{file}"), text + "\n"));
        }
        files.sort();
        files
    }
}

/// The same while files are written, which refer to others that are not yet named.
struct OpenSchemas<'d>(RefCell<Schemas<'d>>);

impl References for OpenSchemas<'_> {
    fn target(&self, document: usize, reference: &str) -> Option<String> {
        self.0.borrow_mut().referred(document, reference)
    }
}
