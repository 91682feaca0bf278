//! Documents of a description, and references between them.

use rustc_hash::FxHashMap;
use serde_json::Value;
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::fmt::Display;
use thiserror::Error;

/// References that follow each other at most.
const MAX_REFERENCE_STEPS: usize = 64;

/// A description and the files beside it that it refers to.
#[derive(Debug)]
pub struct Documents {
    documents: Vec<Value>,
    by_path: FxHashMap<String, usize>,
    /// References that lead nowhere, in words.
    pub missing: Vec<String>,
}

/// A node of one of the documents.
#[derive(Clone, Copy, Debug)]
pub struct Node<'d> {
    /// The value.
    pub value: &'d Value,
    /// The document it is in.
    pub document: usize,
}

impl<'d> Node<'d> {
    /// A member of an object.
    pub fn get(self, name: &str) -> Option<Node<'d>> {
        member(self.value, name).map(|value| Node { value, ..self })
    }

    /// The text of a member.
    pub fn text(self, name: &str) -> Option<&'d str> {
        member(self.value, name).and_then(Value::as_str)
    }

    /// Whether a member is `true`.
    pub fn is(self, name: &str) -> bool {
        member(self.value, name) == Some(&Value::Bool(true))
    }

    /// The members of an object.
    pub fn members(self) -> impl Iterator<Item = (&'d str, Node<'d>)> {
        let members = self.value.as_object().into_iter().flatten();
        members.map(move |(name, value)| (name.as_str(), Node { value, ..self }))
    }

    /// The members of a list.
    pub fn list(self) -> impl Iterator<Item = Node<'d>> {
        self.value.as_array().into_iter().flatten().map(move |value| Node { value, ..self })
    }
}

/// A member of an object. Most have few, which are compared faster than a name is hashed.
fn member<'d>(value: &'d Value, name: &str) -> Option<&'d Value> {
    const MAX_NAMED: usize = 12;
    let members = value.as_object()?;
    match members.len() <= MAX_NAMED {
        true => members.iter().find(|(own, _)| *own == name).map(|(_, value)| value),
        false => members.get(name),
    }
}

/// The target of a JSON Pointer (RFC 6901).
fn pointed<'d>(value: &'d Value, pointer: &str) -> Option<&'d Value> {
    if pointer.contains('~') || !pointer.starts_with('/') {
        return value.pointer(pointer);
    }
    pointer[1..].split('/').try_fold(value, |value, token| match value {
        Value::Array(list) => list.get(token.parse::<usize>().ok()?),
        other => member(other, token),
    })
}

impl Documents {
    /// Reads a description, JSON or YAML, and through `read_file` the files it refers to, by their paths from it.
    ///
    /// # Errors
    /// If it is neither JSON nor YAML. A file that it refers to and that cannot be read is in `missing`.
    pub fn read<E: Display>(
        bytes: &[u8],
        mut read_file: impl FnMut(&str) -> Result<Vec<u8>, E>,
    ) -> Result<Self, DocumentError> {
        let first = parse(bytes)?;
        let mut all = Self { documents: vec![first], by_path: FxHashMap::default(), missing: Vec::new() };
        all.by_path.insert(String::new(), 0);
        let mut looked = 0;
        let mut paths = vec![String::new()];
        while looked < all.documents.len() {
            let mut references = BTreeSet::new();
            outer_references(&all.documents[looked], &mut references);
            let wanted: Vec<String> = references.into_iter().map(|file| join(&paths[looked], file)).collect();
            for path in wanted {
                if all.by_path.contains_key(&path) || path.contains("://") {
                    if path.contains("://") {
                        all.missing.push(format!("`{path}` is not fetched: put the file next to the description"));
                    }
                    continue;
                }
                let document = read_file(&path).map_err(|error| error.to_string());
                match document.and_then(|bytes| parse(&bytes).map_err(|error| error.to_string())) {
                    Ok(document) => {
                        all.by_path.insert(path.clone(), all.documents.len());
                        all.documents.push(document);
                        paths.push(path);
                    }
                    Err(why) => all.missing.push(format!("cannot read `{path}`: {why}")),
                }
            }
            looked += 1;
        }
        all.missing.sort_unstable();
        all.missing.dedup();
        // By document: where its own references count from.
        for (index, path) in paths.iter().enumerate() {
            all.by_path.insert(path.clone(), index);
        }
        Ok(all)
    }

    /// A document that refers to no other.
    pub fn of(document: Value) -> Self {
        let by_path = FxHashMap::from_iter([(String::new(), 0)]);
        Self { documents: vec![document], by_path, missing: Vec::new() }
    }

    /// The description itself.
    pub fn root(&self) -> Node<'_> {
        Node { value: &self.documents[0], document: 0 }
    }

    /// The node that `reference` of `document` refers to, and its location.
    pub fn find(&self, document: usize, reference: &str) -> Option<(Node<'_>, (usize, String))> {
        let (node, pointer) = self.locate(document, reference)?;
        Some((node, (node.document, pointer.into_owned())))
    }

    fn locate<'r>(&self, document: usize, reference: &'r str) -> Option<(Node<'_>, Cow<'r, str>)> {
        let (file, pointer) = reference.split_once('#').unwrap_or((reference, ""));
        let document = match file {
            "" => document,
            file => *self.by_path.get(&join(self.path_of(document), file))?,
        };
        let decoded = percent_encoding::percent_decode_str(pointer).decode_utf8_lossy();
        let value = pointed(&self.documents[document], &decoded)?;
        Some((Node { value, document }, decoded))
    }

    /// The node, or what it refers to.
    pub fn resolve<'d>(&'d self, node: Node<'d>) -> Option<Node<'d>> {
        let mut node = node;
        for _ in 0..MAX_REFERENCE_STEPS {
            match node.text("$ref") {
                Some(reference) => node = self.locate(node.document, reference)?.0,
                None => return Some(node),
            }
        }
        None
    }

    /// A member of a node, or what that refers to.
    pub fn member<'d>(&'d self, node: Node<'d>, name: &str) -> Option<Node<'d>> {
        self.resolve(node.get(name)?)
    }

    fn path_of(&self, document: usize) -> &str {
        self.by_path.iter().find(|(_, index)| **index == document).map_or("", |(path, _)| path)
    }
}

/// Why a description cannot be read.
#[derive(Debug, Error)]
pub enum DocumentError {
    /// This line has a byte that is not UTF-8.
    #[error("it is not UTF-8: invalid byte in line {0}")]
    NotUtf8(usize),
    /// It begins as JSON and is not.
    #[error("it is not valid JSON: {0}")]
    Json(serde_json::Error),
    /// It is not YAML, or too large.
    #[error("it is not valid YAML: {0}")]
    Yaml(Box<serde_saphyr::Error>),
}

fn parse(bytes: &[u8]) -> Result<Value, DocumentError> {
    let bytes = bytes.strip_prefix(b"\xef\xbb\xbf").unwrap_or(bytes);
    let text = std::str::from_utf8(bytes).map_err(|error| {
        let line = bytes[..error.valid_up_to()].iter().filter(|byte| **byte == b'\n').count() + 1;
        DocumentError::NotUtf8(line)
    })?;
    // YAML would take JSON too, but more slowly and in other words.
    if text.trim_start().starts_with(['{', '[']) {
        return serde_json::from_str(text).map_err(DocumentError::Json);
    }
    let mut budget = serde_saphyr::Budget::default();
    (budget.max_events, budget.max_nodes, budget.max_depth) = (20_000_000, 20_000_000, 128);
    let mut options = serde_saphyr::Options::default();
    (options.budget, options.with_snippet) = (Some(budget), false);
    // YAML 1.2, in which `no` and `on` are texts. Of what would lose its digits or has no place in JSON, the text stays.
    options.strict_booleans = true;
    options.leading_zero_numbers_as_strings = true;
    options.underscored_numbers_as_strings = true;
    options.non_finite_float_policy = serde_saphyr::options::NonFiniteFloatPolicy::AsString;
    serde_saphyr::from_str_with_options(text, options).map_err(|error| DocumentError::Yaml(Box::new(error)))
}

/// The files that references of a document lead to.
fn outer_references<'v>(value: &'v Value, found: &mut BTreeSet<&'v str>) {
    match value {
        Value::Object(members) => {
            if let Some(Value::String(reference)) = members.get("$ref") {
                let file = reference.split('#').next().unwrap_or_default();
                if !file.is_empty() {
                    found.insert(file);
                }
            }
            members.values().for_each(|member| outer_references(member, found));
        }
        Value::Array(members) => members.iter().for_each(|member| outer_references(member, found)),
        _ => {}
    }
}

/// A path that a document at `from` names, counted from the first one.
fn join(from: &str, path: &str) -> String {
    if path.contains("://") {
        return path.to_owned();
    }
    let mut parts: Vec<&str> = from.split('/').collect();
    parts.pop();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." if parts.last().is_some_and(|last| *last != "..") => {
                parts.pop();
            }
            part => parts.push(part),
        }
    }
    parts.join("/")
}
