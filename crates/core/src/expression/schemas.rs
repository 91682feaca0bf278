//! JSON Schemas of the workspace (2020-12 down to draft 4), each read and compiled once.

use crate::workspace::{Files, clean};
use jsonschema::{Retrieve, Uri, Validator};
use rustc_hash::FxHashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// The address under which the workspace's own files refer to each other. It is never asked for.
const BASE: &str = "workspace:///";

/// Violations told at most: a document of the wrong kind breaks every rule.
const MOST_TOLD: usize = 5;

type Compiled = Result<Arc<Validator>, String>;

/// The schemas that were used so far.
#[derive(Default)]
pub(crate) struct Schemas(Mutex<FxHashMap<PathBuf, Compiled>>);

impl fmt::Debug for Schemas {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Schemas")
    }
}

impl Schemas {
    /// The schema in the file at `path`, relative to the root. The error is in plain words.
    pub(super) fn at(&self, files: &Arc<dyn Files>, path: &Path) -> Compiled {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(compiled) = known.get(path) {
            return compiled.clone();
        }
        let compiled = compile(files, path);
        known.insert(path.to_owned(), compiled.clone());
        compiled
    }
}

fn compile(files: &Arc<dyn Files>, path: &Path) -> Compiled {
    let shown = path.display();
    let schema = read(&**files, path).map_err(|why| format!("the schema `{shown}` {why}"))?;
    let compiled = jsonschema::options()
        .with_base_uri(format!("{BASE}{}", path.to_string_lossy().replace('\\', "/")))
        .with_retriever(Beside(Arc::clone(files)))
        .build(&schema);
    compiled.map(Arc::new).map_err(|error| format!("`{shown}` is no JSON Schema that can be used: {error}"))
}

fn read(files: &dyn Files, path: &Path) -> Result<serde_json::Value, String> {
    let bytes = files.read(path).map_err(|error| format!("cannot be read: {error}"))?;
    serde_json::from_slice(&bytes).map_err(|error| format!("is not JSON: {error}"))
}

/// Reads what a schema refers to from the workspace, and from nowhere else.
struct Beside(Arc<dyn Files>);

impl Retrieve for Beside {
    fn retrieve(&self, uri: &Uri<String>) -> Result<serde_json::Value, Box<dyn std::error::Error + Send + Sync>> {
        let Some(path) = uri.as_str().strip_prefix(BASE).and_then(|path| clean(Path::new(path))) else {
            return Err(format!("`{uri}` lies outside the workspace, and nothing is fetched for a check").into());
        };
        read(&*self.0, &path).map_err(|why| format!("`{}` {why}", path.display()).into())
    }
}

/// What of `value` breaks which rule of a schema: where it stands in both, and why.
pub(super) fn violations(schema: &Validator, value: &serde_json::Value) -> Vec<String> {
    let mut told: Vec<String> = Vec::new();
    for (count, error) in schema.iter_errors(value).enumerate() {
        if count == MOST_TOLD {
            told.push("and more".to_owned());
            break;
        }
        let place = error.instance_path().to_string();
        let place = if place.is_empty() { "the whole".to_owned() } else { format!("`{place}`") };
        let (error, rule) = (error.to_string(), error.schema_path().to_string());
        // A large value is shown beside the check already.
        let cut = error.char_indices().nth(160).map_or(error.len(), |(at, _)| at);
        told.push(format!("{place}: {} (rule `{rule}`)", &error[..cut]));
    }
    told
}
