//! JSON Schemas of the workspace (2020-12 down to draft 4), each read and compiled once as long as there is room.
//!
//! A schema that refers to other files is compiled together with them as one document, in which every file is a
//! definition: what refers to each other is then compiled once, and not once for each way that leads to it.

mod bundle;

use bundle::{Bundle, is_data, property};
use jsonschema::{Draft, Retrieve, Uri, Validator};
use rustc_hash::FxHashMap;
use serde_json::{Map, Value as Json};
use std::collections::VecDeque;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use thiserror::Error;
use yieldtray_source::files::{FileSystem, normalize};

/// The base URL under which the workspace's files refer to each other. It is never fetched.
const BASE: &str = "workspace:///";

/// Violations that are shown: a document of the wrong kind breaks every rule.
const MAX_SHOWN_VIOLATIONS: usize = 5;

/// Files that one schema may be made of.
const MAX_SCHEMA_FILES: usize = 5_000;

/// Bytes that the files of one schema may have together.
const MAX_SCHEMA_BYTES: usize = 32 << 20;

/// Bytes that the files of all compiled schemas may have together; those compiled longest ago make room. Compiled, a
/// schema takes some ten times its text.
const MAX_CACHE_BYTES: usize = 12 << 20;

/// A compiled schema. One that shares a document with others wants its value under a property of its own.
#[derive(Clone, Debug)]
pub(super) struct Schema {
    validator: Arc<Validator>,
    /// Where it is in the document that it shares.
    place: Option<Place>,
}

/// One of the schemas of a shared document.
#[derive(Clone, Debug)]
struct Place {
    /// Its number, which names its property.
    number: usize,
    /// All files by their numbers, if the schemas are files.
    files: Option<Arc<[PathBuf]>>,
}

/// What a schema is compiled from.
#[derive(Clone, Debug)]
pub enum SchemaDocument {
    /// The schema, which refers to nothing outside itself.
    Alone(Json),
    /// Several schemas that refer to the same definitions, and are compiled together.
    Together {
        /// Each schema by the key that it is asked for with. References lead to `#/$defs/NAME`.
        schemas: Vec<(String, Json)>,
        /// What they refer to.
        definitions: Map<String, Json>,
    },
}

type Compiled = Result<Schema, SchemaError>;

/// Why a schema cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub(super) enum SchemaError {
    #[error("`{0}` is outside the workspace")]
    Outside(String),
    #[error("cannot read the schema `{path}`: {error}", path = .path.display())]
    Read { path: PathBuf, error: String },
    #[error("the schema `{path}` is not JSON: {error}", path = .path.display())]
    Json { path: PathBuf, error: String },
    #[error("invalid JSON Schema `{path}`: {error}", path = .path.display())]
    Unusable { path: PathBuf, error: String },
    #[error("it cannot be compiled")]
    NotCompiled,
    #[error("invalid JSON Schema: {0}")]
    Document(String),
    #[error("the schema is larger than {MAX_SCHEMA_FILES} files or 32 MiB")]
    TooLarge,
}

/// A schema that was given as a document.
#[derive(Clone, Debug)]
pub struct DocumentSchema(Schema);

impl DocumentSchema {
    /// The violations by `value`, in words: the location in both, and the rule.
    pub fn violations(&self, value: Json) -> Vec<String> {
        self.0.violations(value)
    }

    /// The same, each with the location in the value (RFC 6901) apart.
    pub fn located_violations(&self, value: Json) -> Vec<(String, String)> {
        let value = self.0.wrapped(value);
        let errors = self.0.validator.iter_errors(&value).take(MAX_SHOWN_VIOLATIONS);
        errors.map(|error| (self.0.location(&error.instance_path().to_string()), error.to_string())).collect()
    }
}

/// The schemas that were used so far.
#[derive(Default)]
pub struct Schemas {
    cache: Mutex<Cache>,
    /// Whether `format` says nothing that a value could break.
    ignores_formats: bool,
}

#[derive(Default)]
struct Cache {
    known: FxHashMap<PathBuf, Compiled>,
    /// Files that were compiled together, and their bytes; the oldest first.
    groups: VecDeque<(Vec<PathBuf>, usize)>,
    bytes: usize,
}

impl fmt::Debug for Schemas {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Schemas")
    }
}

impl Schemas {
    /// Schemas whose `format` is a rule only if `asserted`.
    pub fn with_formats(asserted: bool) -> Self {
        Self { ignores_formats: !asserted, ..Self::default() }
    }

    /// The schema of `key`, compiled from what `document` makes, once as long as there is room.
    ///
    /// # Errors
    /// In words, if there is none or it cannot be compiled.
    pub fn of_document(
        &self,
        key: &str,
        document: impl FnOnce() -> Option<SchemaDocument>,
    ) -> Result<DocumentSchema, String> {
        let path = Path::new(key);
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        if !cache.known.contains_key(path) {
            let group = match document() {
                Some(document) => compile_document(path, document, !self.ignores_formats),
                None => Group { compiled: vec![(path.to_owned(), Err(SchemaError::NotCompiled))], bytes: 0 },
            };
            cache.add(group);
        }
        let compiled = cache.known.get(path).cloned().unwrap_or(Err(SchemaError::NotCompiled));
        compiled.map(DocumentSchema).map_err(|error| error.to_string())
    }

    /// The schema in the file at `path`, relative to the root. The error is in plain words.
    pub(super) fn at(&self, files: &Arc<dyn FileSystem>, path: &Path) -> Compiled {
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(compiled) = cache.known.get(path) {
            return compiled.clone();
        }
        let group = compile(files, path, !self.ignores_formats);
        cache.add(group);
        cache.known.get(path).cloned().unwrap_or_else(|| Err(SchemaError::NotCompiled))
    }
}

impl Cache {
    fn add(&mut self, group: Group) {
        self.bytes += group.bytes;
        while self.bytes > MAX_CACHE_BYTES
            && let Some((paths, bytes)) = self.groups.pop_front()
        {
            self.bytes -= bytes;
            paths.iter().for_each(|path| drop(self.known.remove(path)));
        }
        let paths = group.compiled.iter().map(|(path, _)| path.clone()).collect();
        self.groups.push_back((paths, group.bytes));
        self.known.extend(group.compiled);
    }
}

/// Files that are compiled together.
struct Group {
    compiled: Vec<(PathBuf, Compiled)>,
    bytes: usize,
}

fn compile_document(key: &Path, document: SchemaDocument, formats: bool) -> Group {
    let is_shared = matches!(document, SchemaDocument::Together { .. });
    let (keys, mut whole): (Vec<PathBuf>, Json) = match document {
        SchemaDocument::Alone(document) => (vec![key.to_owned()], document),
        SchemaDocument::Together { schemas, definitions } => {
            let (mut keys, mut properties) = (Vec::new(), Map::new());
            for (number, (key, schema)) in schemas.into_iter().enumerate() {
                properties.insert(property(number), schema);
                keys.push(key.into());
            }
            (keys, serde_json::json!({ "properties": properties, "$defs": definitions }))
        }
    };
    open_large_repetitions(&mut whole);
    let bytes = serde_json::to_vec(&whole).map_or(0, |text| text.len());
    let built = options(formats).with_draft(Draft::Draft202012).with_retriever(Nothing).build(&whole);
    drop(whole);
    let validator = built.map(Arc::new).map_err(|error| SchemaError::Document(error.to_string()));
    let compiled = keys.into_iter().enumerate().map(|(number, key)| {
        let place = is_shared.then_some(Place { number, files: None });
        (key, validator.clone().map(|validator| Schema { validator, place }))
    });
    Group { compiled: compiled.collect(), bytes }
}

fn compile(files: &Arc<dyn FileSystem>, path: &Path, formats: bool) -> Group {
    let alone = |compiled, bytes| Group { compiled: vec![(path.to_owned(), compiled)], bytes };
    let bundle = match Bundle::read(&**files, path) {
        Ok(bundle) => bundle,
        Err(why) => return alone(Err(why), 0),
    };
    let bytes = bundle.bytes;
    match bundle.documents.len() {
        1 => alone(compile_alone(files, path, &bundle.documents[0].1, formats), bytes),
        _ => match bundle.into_one() {
            Some((whole, draft, paths)) => {
                let validator = options(formats).with_draft(draft).with_retriever(Nothing).build(&whole);
                let validator = validator.map(Arc::new).map_err(|error| unusable(path, error));
                let paths: Arc<[PathBuf]> = paths.into();
                let schema = |number: usize| {
                    let place = Place { number, files: Some(Arc::clone(&paths)) };
                    Ok(Schema { validator: validator.clone()?, place: Some(place) })
                };
                let compiled = paths.iter().enumerate().map(|(number, path)| (path.clone(), schema(number)));
                Group { compiled: compiled.collect(), bytes }
            }
            // Names of their own, or anchors: the library resolves them.
            None => {
                let schema = read(&**files, path).map(|(schema, _)| schema);
                alone(schema.and_then(|schema| compile_alone(files, path, &schema, formats)), bytes)
            }
        },
    }
}

fn unusable(path: &Path, error: impl ToString) -> SchemaError {
    SchemaError::Unusable { path: path.to_owned(), error: error.to_string() }
}

/// `format` is a rule in every draft: those who write schemas mean it so, though newer drafts leave it open
/// (2020-12, Validation 7.2.2).
fn options(formats: bool) -> jsonschema::ValidationOptions<'static> {
    jsonschema::options().should_validate_formats(formats)
}

fn compile_alone(files: &Arc<dyn FileSystem>, path: &Path, schema: &Json, formats: bool) -> Compiled {
    let compiled = options(formats)
        .with_base_uri(format!("{BASE}{}", path.to_string_lossy().replace('\\', "/")))
        .with_retriever(Beside(Arc::clone(files)))
        .build(schema);
    let validator = compiled.map(Arc::new).map_err(|error| unusable(path, error))?;
    Ok(Schema { validator, place: None })
}

fn read(files: &dyn FileSystem, path: &Path) -> Result<(Json, usize), SchemaError> {
    let bytes =
        files.read_data(path).map_err(|error| SchemaError::Read { path: path.to_owned(), error: error.to_string() })?;
    let mut schema = serde_json::from_slice(&bytes)
        .map_err(|error| SchemaError::Json { path: path.to_owned(), error: error.to_string() })?;
    open_large_repetitions(&mut schema);
    Ok((schema, bytes.len()))
}

/// The largest number of repetitions that a pattern counts.
const MAX_REPETITIONS: u32 = 1_000;

/// Takes the upper bound off repetitions in patterns that is too large for a compiled pattern: `.{1,2097152}` becomes
/// `.{1,}`. Otherwise the whole schema could not be used.
fn open_large_repetitions(value: &mut Json) {
    match value {
        Json::Array(members) => members.iter_mut().for_each(open_large_repetitions),
        Json::Object(object) => {
            for (key, value) in object.iter_mut() {
                match value {
                    Json::String(pattern) if key == "pattern" => {
                        if let Some(open) = with_open_repetitions(pattern) {
                            *pattern = open;
                        }
                    }
                    value if !is_data(key) => open_large_repetitions(value),
                    _ => {}
                }
            }
        }
        _ => {}
    }
}

/// The same of one pattern (ECMA-262); `None` where nothing is to be changed.
fn with_open_repetitions(pattern: &str) -> Option<String> {
    let mut out = String::with_capacity(pattern.len());
    let (mut rest, mut changed) = (pattern, false);
    while let Some(at) = rest.find(['\\', '{']) {
        out.push_str(&rest[..at]);
        let (taken, after) = rest[at..].split_at(1);
        if taken == "\\" {
            let next = after.chars().next().map_or(0, char::len_utf8);
            out.push_str(&rest[at..at + 1 + next]);
            rest = &after[next..];
            continue;
        }
        let bounds = after.split_once('}').and_then(|(bounds, behind)| {
            let (least, most) = bounds.split_once(',').unwrap_or((bounds, bounds));
            Some((least.parse::<u32>().ok()?, most.parse::<u64>().ok()?, behind))
        });
        match bounds {
            Some((least, most, behind)) if most > u64::from(MAX_REPETITIONS) => {
                out.push_str(&format!("{{{},}}", least.min(MAX_REPETITIONS)));
                (rest, changed) = (behind, true);
            }
            _ => {
                out.push('{');
                rest = after;
            }
        }
    }
    out.push_str(rest);
    changed.then_some(out)
}

/// Reads what a schema refers to from the workspace, and from nowhere else.
struct Beside(Arc<dyn FileSystem>);

/// Reads nothing: everything is there already.
struct Nothing;

fn outside(uri: &Uri<String>) -> Box<dyn std::error::Error + Send + Sync> {
    format!("`{uri}` is outside the workspace, and checks never fetch schemas").into()
}

impl Retrieve for Beside {
    fn retrieve(&self, uri: &Uri<String>) -> Result<Json, Box<dyn std::error::Error + Send + Sync>> {
        let Some(path) = uri.as_str().strip_prefix(BASE).and_then(|path| normalize(Path::new(path))) else {
            return Err(outside(uri));
        };
        read(&*self.0, &path).map(|(schema, _)| schema).map_err(Into::into)
    }
}

impl Retrieve for Nothing {
    fn retrieve(&self, uri: &Uri<String>) -> Result<Json, Box<dyn std::error::Error + Send + Sync>> {
        Err(outside(uri))
    }
}

impl Schema {
    /// Whether a value fits.
    pub(super) fn is_valid(&self, value: Json) -> bool {
        self.validator.is_valid(&self.wrapped(value))
    }

    fn wrapped(&self, value: Json) -> Json {
        match &self.place {
            Some(place) => Json::Object(Map::from_iter([(property(place.number), value)])),
            None => value,
        }
    }

    /// The violations by `value`: the location in both, and the rule.
    pub(super) fn violations(&self, value: Json) -> Vec<String> {
        let mut shown: Vec<String> = Vec::new();
        for (count, error) in self.validator.iter_errors(&self.wrapped(value)).enumerate() {
            if count == MAX_SHOWN_VIOLATIONS {
                shown.push("and more".to_owned());
                break;
            }
            let place = self.location(&error.instance_path().to_string());
            let place = if place.is_empty() { "the whole".to_owned() } else { format!("`{place}`") };
            let (error, rule) = (error.to_string(), self.rule(&error.schema_path().to_string()));
            // A large value is shown beside the check already.
            let cut = error.char_indices().nth(160).map_or(error.len(), |(at, _)| at);
            shown.push(format!("{place}: {} (rule {rule})", &error[..cut]));
        }
        shown
    }

    /// A location in the value that was given.
    fn location(&self, path: &str) -> String {
        let prefix = self.place.as_ref().map(|place| format!("/{}", property(place.number))).unwrap_or_default();
        path.strip_prefix(&prefix).unwrap_or(path).to_owned()
    }

    /// A rule, and the file it is in if that is not the schema's own.
    fn rule(&self, path: &str) -> String {
        let found = self.place.as_ref().and_then(|place| {
            let Some(files) = &place.files else {
                let rule = path.strip_prefix(&format!("/properties/{}", property(place.number)))?;
                return Some(format!("`{rule}`"));
            };
            let (number, rule) = path.strip_prefix("/$defs/f")?.split_once('/')?;
            let number: usize = number.parse().ok()?;
            let file = files.get(number).filter(|_| number != place.number);
            let of = file.map(|file| format!(" of `{}`", file.display())).unwrap_or_default();
            Some(format!("`/{rule}`{of}"))
        });
        found.unwrap_or_else(|| format!("`{path}`"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io;

    /// Files that each refer to all of them.
    struct Circle(usize);

    impl FileSystem for Circle {
        fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
            let number: usize = path
                .file_stem()
                .and_then(|stem| stem.to_str()?.strip_prefix('s')?.parse().ok())
                .filter(|number| *number < self.0)
                .ok_or(io::ErrorKind::NotFound)?;
            let property =
                |other: usize| (format!("p{other}"), serde_json::json!({ "$ref": format!("s{other}.json") }));
            let properties: Map<String, Json> = (0..self.0).map(property).collect();
            let schema = serde_json::json!({
                "type": "object",
                "properties": properties,
                "required": [format!("own{number}")],
            });
            Ok(serde_json::to_vec(&schema)?)
        }
    }

    /// Without the bundle nine of them take more than a gigabyte.
    #[test]
    fn files_that_refer_to_each_other_are_compiled_once() {
        let files: Arc<dyn FileSystem> = Arc::new(Circle(40));
        let schemas = Schemas::default();
        let schema = schemas.at(&files, Path::new("s3.json")).expect("it compiles");
        assert!(schema.is_valid(serde_json::json!({ "own3": 1, "p7": { "own7": 2, "p3": { "own3": 1 } } })));
        let shown = schema.violations(serde_json::json!({ "own3": 1, "p7": {} }));
        assert_eq!(shown, ["`/p7`: \"own7\" is a required property (rule `/required` of `s7.json`)"]);
        // Another of them already exists.
        let other = schemas.at(&files, Path::new("s9.json")).expect("it compiles");
        assert!(Arc::ptr_eq(&schema.validator, &other.validator));
        assert!(!other.is_valid(serde_json::json!({ "own3": 1 })));
        let why = schemas.at(&files, Path::new("s77.json")).expect_err("it is not there");
        assert!(matches!(&why, SchemaError::Read { path, .. } if path == Path::new("s77.json")), "{why}");
    }

    #[test]
    fn what_was_compiled_longest_ago_makes_room() {
        let mut cache = Cache::default();
        for number in 0..100 {
            let path = PathBuf::from(format!("{number}.json"));
            cache.add(Group { compiled: vec![(path, Err(SchemaError::TooLarge))], bytes: 1 << 20 });
        }
        assert_eq!((cache.known.len(), cache.bytes), (12, 12 << 20));
        assert!(cache.known.contains_key(Path::new("99.json")));
    }
}
