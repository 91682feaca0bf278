//! A schema and the files it refers to as one document.

use super::{BASE, MAX_SCHEMA_BYTES, MAX_SCHEMA_FILES, SchemaError, read};
use jsonschema::Draft;
use rustc_hash::{FxHashMap, FxHashSet};
use serde_json::{Map, Value as Json};
use std::collections::VecDeque;
use std::path::{Path, PathBuf};
use yieldtray_source::files::{FileSystem, normalize};

/// A schema and the files it refers to, directly or not.
pub(super) struct Bundle {
    pub(super) documents: Vec<(PathBuf, Json)>,
    pub(super) bytes: usize,
}

impl Bundle {
    pub(super) fn read(files: &dyn FileSystem, path: &Path) -> Result<Self, SchemaError> {
        let mut bundle = Self { documents: Vec::new(), bytes: 0 };
        let (mut wanted, mut known) = (VecDeque::from([path.to_owned()]), FxHashSet::default());
        known.insert(path.to_owned());
        while let Some(path) = wanted.pop_front() {
            let (document, bytes) = read(files, &path)?;
            bundle.bytes += bytes;
            if bundle.documents.len() == MAX_SCHEMA_FILES || bundle.bytes > MAX_SCHEMA_BYTES {
                return Err(SchemaError::TooLarge);
            }
            each_reference(&document, &mut |reference| {
                if let Some((Some(other), _)) = file_of(&path, reference)
                    && known.insert(other.clone())
                {
                    wanted.push_back(other);
                }
            });
            bundle.documents.push((path, document));
        }
        Ok(bundle)
    }

    /// All of it as one schema, in which the file of number N is the definition `fN`, and holds of the property of
    /// that name. `None` where a file has a name of its own or an anchor, or another draft.
    pub(super) fn into_one(self) -> Option<(Json, Draft, Vec<PathBuf>)> {
        let numbers: FxHashMap<PathBuf, usize> =
            self.documents.iter().enumerate().map(|(number, (path, _))| (path.clone(), number)).collect();
        let mut draft = None;
        let (mut definitions, mut properties, mut paths) = (Map::new(), Map::new(), Vec::new());
        for (number, (path, mut document)) in self.documents.into_iter().enumerate() {
            let own = Draft::default().detect(&document);
            if *draft.get_or_insert(own) != own || names_itself(&document) {
                return None;
            }
            if let Some(object) = document.as_object_mut() {
                object.remove("$schema");
            }
            rewrite(&mut document, &path, number, &numbers)?;
            let name = property(number);
            properties.insert(name.clone(), serde_json::json!({ "$ref": format!("#/$defs/{name}") }));
            definitions.insert(name, document);
            paths.push(path);
        }
        let whole = serde_json::json!({ "properties": properties, "$defs": definitions });
        Some((whole, draft?, paths))
    }
}

pub(super) fn property(number: usize) -> String {
    format!("f{number}")
}

/// Whether a document has a name that references are counted from, or places with names.
fn names_itself(value: &Json) -> bool {
    let Json::Object(object) = value else {
        return value.as_array().is_some_and(|members| members.iter().any(names_itself));
    };
    let named = ["$id", "id", "$anchor", "$dynamicAnchor", "$dynamicRef", "$recursiveRef", "$recursiveAnchor"];
    named.iter().any(|key| object.get(*key).is_some_and(|name| name.is_string() || name.is_boolean()))
        || object.iter().any(|(key, value)| !is_data(key) && names_itself(value))
}

/// Keywords that hold values and not schemas.
pub(super) fn is_data(key: &str) -> bool {
    matches!(key, "enum" | "const" | "default" | "example" | "examples")
}

fn each_reference(value: &Json, found: &mut dyn FnMut(&str)) {
    match value {
        Json::Array(members) => members.iter().for_each(|member| each_reference(member, found)),
        Json::Object(object) => {
            for (key, value) in object {
                match value {
                    Json::String(reference) if key == "$ref" => found(reference),
                    value if !is_data(key) => each_reference(value, found),
                    _ => {}
                }
            }
        }
        _ => {}
    }
}

/// The file that a reference in `path` leads to, if that is another one, and the place in it. `None` for one that
/// leads out of the workspace.
fn file_of<'r>(path: &Path, reference: &'r str) -> Option<(Option<PathBuf>, &'r str)> {
    let (file, place) = reference.split_once('#').unwrap_or((reference, ""));
    if file.is_empty() {
        return Some((None, place));
    }
    if file.contains(':') {
        let inside = file.strip_prefix(BASE)?;
        return Some((Some(normalize(Path::new(inside))?), place));
    }
    let file = percent_encoding::percent_decode_str(file).decode_utf8().ok()?;
    let folder = path.parent().unwrap_or(Path::new(""));
    Some((Some(normalize(&folder.join(&*file))?), place))
}

/// Makes the references of a document lead to definitions. `None` where one cannot.
fn rewrite(value: &mut Json, path: &Path, own: usize, numbers: &FxHashMap<PathBuf, usize>) -> Option<()> {
    match value {
        Json::Array(members) => members.iter_mut().try_for_each(|member| rewrite(member, path, own, numbers)),
        Json::Object(object) => object.iter_mut().try_for_each(|(key, value)| match value {
            Json::String(reference) if key == "$ref" => {
                let (file, place) = file_of(path, reference)?;
                if !place.is_empty() && !place.starts_with('/') {
                    return None;
                }
                let number = file.map_or(Some(own), |file| numbers.get(&file).copied())?;
                *reference = format!("#/$defs/{}{place}", property(number));
                Some(())
            }
            value if !is_data(key) => rewrite(value, path, own, numbers),
            _ => Some(()),
        }),
        _ => Some(()),
    }
}
