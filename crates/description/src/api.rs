//! An API description that is open: what it offers, looked up record by record.

use crate::documents::{DocumentError, Documents};
use crate::graphql::{self, SchemaError};
use crate::index::{Index, IndexError, IndexWriter, Storage};
use crate::model::{ApiInfo, ApiKind, Content, Level, Operation, OperationSummary, Place, TypeRecord};
use crate::openapi::{self, VersionError, paths};
use crate::recent::Recent;
use crate::sample::Samples;
use serde_json::{Map, Value, json};
use std::fmt::Display;
use std::sync::Arc;
use thiserror::Error;
use yieldtray_expression::Schemas;
use yieldtray_source::closest;

/// Steps that looking for the operation of a path may take: paths of a hostile description fit in many ways.
const MAX_MATCH_STEPS: usize = 2_000;

/// Why a text is not read as a description.
#[derive(Debug, Error)]
pub enum ReadError {
    /// It is neither JSON nor YAML.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// It is no OpenAPI that is supported.
    #[error(transparent)]
    Version(#[from] VersionError),
    /// It is no valid GraphQL schema.
    #[error(transparent)]
    Schema(#[from] SchemaError),
}

/// Makes the index of a description, JSON or YAML of OpenAPI, the response to a GraphQL introspection, or a schema in the
/// GraphQL language. The files it refers to come through `read_file`, by their paths from it.
///
/// # Errors
/// If it is none of these. A part that cannot be read is noted in [`ApiInfo::notes`].
pub fn index<E: Display>(
    bytes: &[u8],
    read_file: impl FnMut(&str) -> Result<Vec<u8>, E>,
) -> Result<Vec<u8>, ReadError> {
    let mut writer = IndexWriter::default();
    if let Some(text) = graphql::schema_text(bytes)? {
        graphql::write(&text, &mut writer)?;
    } else {
        openapi::write(&Documents::read(bytes, read_file)?, &mut writer)?;
    }
    Ok(writer.finish())
}

/// A description that is open.
#[derive(Debug)]
pub struct Api {
    index: Index,
    info: ApiInfo,
    operations: Recent<Operation>,
    definitions: Recent<Value>,
    pub(crate) schemas: Schemas,
}

/// The operation that a request is one of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Matched {
    /// The operation of this path.
    Operation(String),
    /// The path is described with these methods alone.
    OtherMethods(String, Vec<String>),
    /// No path fits.
    Unknown,
}

/// What a place names.
#[derive(Clone, Debug)]
pub enum Found {
    /// An operation.
    Operation(Arc<Operation>),
    /// A GraphQL type.
    Type(TypeRecord),
    /// A field of a GraphQL type, with the name of the type.
    Field(String, crate::model::FieldRecord),
    /// A schema of OpenAPI, with its name.
    Definition(String, Value),
}

impl Api {
    /// Opens an index.
    ///
    /// # Errors
    /// If it is damaged or of another version.
    pub fn open(storage: Box<dyn Storage>) -> Result<Self, IndexError> {
        let index = Index::open(storage)?;
        let info = index.get("info")?.ok_or(IndexError::Damaged)?;
        Ok(Self {
            index,
            info,
            operations: Recent::default(),
            definitions: Recent::default(),
            schemas: Schemas::with_formats(true),
        })
    }

    /// What it is about.
    pub fn info(&self) -> &ApiInfo {
        &self.info
    }

    /// All operations of OpenAPI, in the order of the description.
    pub fn operations(&self) -> Result<Vec<OperationSummary>, IndexError> {
        Ok(self.index.get("operations")?.unwrap_or_default())
    }

    /// The operation of this method and path.
    pub fn operation(&self, method: &str, path: &str) -> Result<Option<Arc<Operation>>, IndexError> {
        let name = format!("operation:{method} {path}");
        self.operations.get(&name, || self.index.get(&name))
    }

    /// A GraphQL type.
    pub fn type_named(&self, name: &str) -> Result<Option<TypeRecord>, IndexError> {
        self.index.get(&format!("type:{name}"))
    }

    /// The schema of a GraphQL API, in the GraphQL language.
    pub fn schema_text(&self) -> Result<Option<String>, IndexError> {
        self.index.get("schema")
    }

    /// The tags of OpenAPI.
    pub fn tags(&self) -> Result<Vec<Place>, IndexError> {
        Ok(self.index.get("tags")?.unwrap_or_default())
    }

    /// The level below a place: a path, a tag, or a GraphQL type; the first level without one.
    pub fn level(&self, place: Option<&str>) -> Result<Option<Level>, IndexError> {
        let Some(place) = place else {
            return self.index.get(match self.info.kind {
                ApiKind::OpenApi => "level:",
                ApiKind::GraphQl => "roots",
            });
        };
        if self.info.kind == ApiKind::GraphQl {
            return Ok(self.type_named(place)?.map(|record| graphql::level(&record)));
        }
        match place.starts_with('/') {
            true => self.index.get(&format!("level:{}", place.trim_end_matches('/'))),
            false => self.index.get(&format!("tag:{place}")),
        }
    }

    /// What `POST /lots`, `GET /lots/L-1`, an operation id, `Query.lots`, or the name of a type or schema names.
    pub fn find(&self, place: &str) -> Result<Option<Found>, IndexError> {
        if let Some((method, path)) = place.split_once(' ') {
            let (method, path) = (method.to_ascii_uppercase(), path.trim());
            // A path as the description writes it, or with values for its parameters.
            let operation = match self.operation(&method, path)? {
                None => match self.matched(&method, path.split('?').next().unwrap_or_default())? {
                    Matched::Operation(path) => self.operation(&method, &path)?,
                    _ => None,
                },
                found => found,
            };
            return Ok(operation.map(Found::Operation));
        }
        if let Some(title) = self.index.get::<String>(&format!("id:{place}"))? {
            return self.find(&title);
        }
        // A path with one operation names that.
        if place.starts_with('/')
            && let Some(level) = self.level(Some(place))?
            && let [only] = level.operations.as_slice()
        {
            return self.find(&only.title());
        }
        if let Some(record) = self.type_named(place)? {
            return Ok(Some(Found::Type(record)));
        }
        if let Some((owner, field)) = place.split_once('.')
            && let Some(record) = self.type_named(owner)?
            && let Some(field) = record.fields.into_iter().find(|own| own.name == field)
        {
            return Ok(Some(Found::Field(owner.to_owned(), field)));
        }
        Ok(self.definition(place)?.map(|schema| Found::Definition(place.to_owned(), Value::clone(&schema))))
    }

    /// A place that is spelled almost the same.
    pub fn similar(&self, place: &str) -> Result<Option<String>, IndexError> {
        let mut names: Vec<String> = Vec::new();
        for operation in self.operations()? {
            names.push(operation.title());
            names.push(operation.path);
            names.extend(operation.id);
        }
        names.extend(self.tags()?.into_iter().map(|tag| tag.name));
        names.extend(self.definition_names()?);
        if self.info.kind == ApiKind::GraphQl {
            let roots = self.level(None)?.unwrap_or_default();
            names.extend(roots.places.iter().map(|place| place.name.clone()));
            if let Some((owner, _)) = place.split_once('.')
                && let Some(record) = self.type_named(owner)?
            {
                names.extend(record.fields.iter().map(|field| format!("{owner}.{}", field.name)));
            }
        }
        Ok(closest(place, names.iter().map(String::as_str)).map(str::to_owned))
    }

    /// The operation that a request to `path` is one of.
    pub fn matched(&self, method: &str, path: &str) -> Result<Matched, IndexError> {
        let segments: Vec<&str> = path.split('/').filter(|segment| !segment.is_empty()).collect();
        if segments.len() > paths::MAX_SEGMENTS {
            return Ok(Matched::Unknown);
        }
        let mut others: Option<(String, Vec<String>)> = None;
        let mut open = vec![(String::new(), 0)];
        let mut steps = 0;
        while let Some((at, depth)) = open.pop() {
            steps += 1;
            if steps > MAX_MATCH_STEPS {
                break;
            }
            let Some(node) = self.index.get::<paths::PathNode>(&format!("path:{at}"))? else { continue };
            let Some(segment) = segments.get(depth) else {
                if node.methods.iter().any(|own| own == method) {
                    return Ok(Matched::Operation(at));
                }
                if !node.methods.is_empty() && others.is_none() {
                    others = Some((at, node.methods));
                }
                continue;
            };
            // The last one pushed is looked at first: a segment that is the same comes before one with a parameter.
            let fits = node.parameters.iter().rev().filter(|pattern| segment_fits(pattern, segment));
            open.extend(fits.map(|pattern| (format!("{at}/{pattern}"), depth + 1)));
            open.push((format!("{at}/{segment}"), depth + 1));
        }
        Ok(match others {
            Some((path, methods)) => Matched::OtherMethods(path, methods),
            None => Matched::Unknown,
        })
    }

    /// A schema that others refer to.
    pub(crate) fn definition(&self, name: &str) -> Result<Option<Arc<Value>>, IndexError> {
        self.definitions.get(name, || self.index.get(&format!("definition:{name}")))
    }

    /// A value that fits a schema; `name` is that of the parameter or body it is for.
    pub fn sample(&self, schema: &Value, name: &str) -> Result<Option<Value>, IndexError> {
        let documents = Documents::of(self.with_definitions(schema)?);
        Ok(Samples::new(&documents).of(documents.root(), name))
    }

    /// A body of this content: the example of the description, else one that fits the schema; `name` is that of what it is
    /// for.
    pub fn example(&self, content: &Content, name: &str) -> Result<Option<Value>, IndexError> {
        match (&content.example, &content.schema) {
            (Some(example), _) => Ok(Some(example.clone())),
            (None, Some(schema)) => self.sample(schema, name),
            (None, None) => Ok(None),
        }
    }

    /// The schemas that others refer to, by their names; `None` if they have more than `limit` bytes together.
    pub(crate) fn all_definitions(&self, limit: usize) -> Result<Option<Map<String, Value>>, IndexError> {
        let (mut definitions, mut bytes) = (Map::new(), 0);
        for name in self.definition_names()? {
            let Some(record) = self.index.bytes(&format!("definition:{name}"))? else { continue };
            bytes += record.len();
            if bytes > limit {
                return Ok(None);
            }
            definitions.insert(name, serde_json::from_slice(&record).map_err(|_| IndexError::Damaged)?);
        }
        Ok(Some(definitions))
    }

    /// The names of all schemas that others refer to.
    fn definition_names(&self) -> Result<Vec<String>, IndexError> {
        Ok(self.index.get("definitions")?.unwrap_or_default())
    }

    /// The schema, or what it refers to.
    pub fn resolved(&self, schema: &Value) -> Result<Value, IndexError> {
        let mut schema = schema.clone();
        for _ in 0..16 {
            let Some(name) = schema.get("$ref").and_then(Value::as_str).and_then(definition_name) else { break };
            schema = self.definition(name)?.map_or_else(|| json!({}), |found| Value::clone(&found));
        }
        Ok(schema)
    }
}

/// The name of the definition that a reference of ours leads to.
pub fn definition_name(reference: &str) -> Option<&str> {
    reference.strip_prefix("#/$defs/")
}

/// Whether a segment fits one with parameters: `{id}`, `{id}.json`, `{from}-{to}`. A parameter is never empty.
fn segment_fits(pattern: &str, segment: &str) -> bool {
    let (mut pattern, mut rest) = (pattern, segment);
    loop {
        let Some(open) = pattern.find('{') else { return pattern == rest };
        let Some(after) = rest.strip_prefix(&pattern[..open]) else { return false };
        let Some(close) = pattern[open..].find('}') else { return pattern == rest };
        pattern = &pattern[open + close + 1..];
        let next = pattern.find('{').map_or(pattern, |at| &pattern[..at]);
        let length = match next {
            "" if pattern.is_empty() => return !after.is_empty(),
            "" => after.chars().next().map_or(0, char::len_utf8),
            literal if pattern.len() == literal.len() => {
                return after.strip_suffix(literal).is_some_and(|value| !value.is_empty());
            }
            literal => after.find(literal).unwrap_or(0),
        };
        if length == 0 {
            return false;
        }
        rest = &after[length..];
    }
}
