//! Reads OpenAPI 3.0 and 3.1 into an index.

mod definitions;
pub(crate) mod paths;

use crate::documents::{Documents, Node};
use crate::index::IndexWriter;
use crate::model::{
    ApiInfo, ApiKind, Content, Level, Operation, OperationSummary, Parameter, Place, RequestBody, Response,
};
use crate::schema::SchemaWriter;
use definitions::Definitions;
use paths::PathTree;
use serde_json::Value;
use std::collections::BTreeMap;
use thiserror::Error;

/// The methods that a path of a description may have, in the order they are listed.
pub const METHODS: &[&str] = &["get", "put", "post", "delete", "options", "head", "patch", "trace"];

/// Why a description is not read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum VersionError {
    /// It does not name the version of OpenAPI.
    #[error("`openapi` with the version is missing (OpenAPI 3.0 or 3.1)")]
    Missing,
    /// It is of this version, which is not read.
    #[error("unsupported version {0}: OpenAPI 3.0 and 3.1 are supported")]
    Unsupported(String),
}

/// True for OpenAPI 3.0, false for 3.1.
///
/// # Errors
/// For any other version, and a document that is no description.
pub fn is_v30(root: Node<'_>) -> Result<bool, VersionError> {
    if let Some(version) = root.text("swagger") {
        return Err(VersionError::Unsupported(version.to_owned()));
    }
    match root.value.get("openapi").map(|version| version.as_str().map_or_else(|| version.to_string(), str::to_owned)) {
        Some(version) if version.starts_with("3.0") => Ok(true),
        Some(version) if version.starts_with("3.") => Ok(false),
        Some(version) => Err(VersionError::Unsupported(version)),
        None => Err(VersionError::Missing),
    }
}

/// The parameters of an operation, those of its path first; its own of the same name and place win.
pub fn parameters<'d>(documents: &'d Documents, path: Node<'d>, operation: Node<'d>) -> Vec<Node<'d>> {
    let mut all: Vec<Node<'d>> = Vec::new();
    for holder in [path, operation] {
        let own = holder.get("parameters").into_iter().flat_map(Node::list);
        for parameter in own.filter_map(|parameter| documents.resolve(parameter)) {
            let same = |other: &Node<'d>| {
                (other.text("name"), other.text("in")) == (parameter.text("name"), parameter.text("in"))
            };
            all.retain(|other| !same(other));
            all.push(parameter);
        }
    }
    all
}

/// Writes the records of a description.
pub(crate) fn write(documents: &Documents, index: &mut IndexWriter) -> Result<(), VersionError> {
    let root = documents.root();
    let reader = Reader { documents, definitions: Definitions::new(documents), is_v30: is_v30(root)? };
    let mut notes = documents.missing.clone();
    let (mut tree, mut summaries) = (PathTree::default(), Vec::new());
    let mut by_tag: BTreeMap<String, Vec<OperationSummary>> = BTreeMap::new();
    for (path, item) in root.get("paths").into_iter().flat_map(Node::members) {
        let Some(item) = documents.resolve(item) else {
            notes.push(format!("path `{path}` cannot be resolved"));
            continue;
        };
        for method in METHODS {
            let Some(node) = item.get(method) else { continue };
            let operation = reader.operation(path, item, method, node);
            let summary = &operation.summary;
            index.put(&format!("operation:{}", summary.title()), &operation);
            if let Some(id) = &summary.id {
                index.put(&format!("id:{id}"), &summary.title());
            }
            for tag in &operation.tags {
                by_tag.entry(tag.clone()).or_default().push(summary.clone());
            }
            if !tree.add(summary.clone()) {
                notes.push(format!("path `{}…` has too many segments", path.chars().take(40).collect::<String>()));
            }
            summaries.push(operation.summary);
        }
    }
    if root.get("webhooks").is_some() {
        notes.push("its webhooks are skipped: the server sends them itself".to_owned());
    }
    let text = |name: &str| root.get("info").and_then(|info| info.text(name)).map(str::to_owned);
    let info = ApiInfo {
        kind: ApiKind::OpenApi,
        title: text("title").unwrap_or_default(),
        version: text("version"),
        server_paths: server_paths(root),
        operations: summaries.len(),
        notes,
    };
    index.put("info", &info);
    index.put("operations", &summaries);
    tree.write(index);
    let about = |tag: &str| {
        let own = root.get("tags").into_iter().flat_map(Node::list).find(|own| own.text("name") == Some(tag))?;
        own.text("description").and_then(|text| text.lines().next()).map(str::to_owned)
    };
    let mut tags = Vec::new();
    for (name, operations) in by_tag {
        let (kind, summary, count) = ("tag".to_owned(), about(&name), operations.len());
        index.put(&format!("tag:{name}"), &Level { operations, places: Vec::new() });
        tags.push(Place { name, kind, summary, operations: Vec::new(), count, deprecated: false });
    }
    index.put("tags", &tags);
    reader.definitions.write(index, reader.is_v30);
    Ok(())
}

/// The paths of the servers' URLs, the defaults of their variables put in.
fn server_paths(root: Node<'_>) -> Vec<String> {
    let mut paths: Vec<String> = Vec::new();
    for server in root.get("servers").into_iter().flat_map(Node::list) {
        let mut url = server.text("url").unwrap_or_default().to_owned();
        for (name, variable) in server.get("variables").into_iter().flat_map(Node::members) {
            if let Some(value) = variable.text("default") {
                url = url.replace(&format!("{{{name}}}"), value);
            }
        }
        let after_host =
            url.split_once("://").map_or(Some(url.as_str()), |(_, rest)| rest.find('/').map(|at| &rest[at..]));
        let path = after_host.unwrap_or_default().trim_end_matches('/').to_owned();
        if !paths.contains(&path) {
            paths.push(path);
        }
    }
    paths
}

/// Reads the parts of operations.
struct Reader<'d> {
    documents: &'d Documents,
    definitions: Definitions<'d>,
    is_v30: bool,
}

impl<'d> Reader<'d> {
    fn operation(&self, path: &str, item: Node<'d>, method: &str, node: Node<'d>) -> Operation {
        let summary = node.text("summary").or_else(|| item.text("summary"));
        let summary = summary.and_then(|text| text.lines().next()).map(|line| line.trim_end_matches('.').to_owned());
        let tags = node.get("tags").into_iter().flat_map(Node::list).filter_map(|tag| tag.value.as_str());
        let responses = node.get("responses").into_iter().flat_map(Node::members);
        Operation {
            summary: OperationSummary {
                method: method.to_ascii_uppercase(),
                path: path.to_owned(),
                id: node.text("operationId").map(str::to_owned),
                summary,
                deprecated: node.is("deprecated"),
            },
            description: node
                .text("description")
                .or_else(|| item.text("description"))
                .map(|text| text.trim().to_owned()),
            tags: tags.map(str::to_owned).collect(),
            parameters: parameters(self.documents, item, node)
                .into_iter()
                .filter_map(|parameter| self.parameter(parameter.text("name")?, parameter.text("in")?, parameter))
                .collect(),
            body: self.documents.member(node, "requestBody").map(|body| RequestBody {
                required: body.is("required"),
                description: body.text("description").map(str::to_owned),
                content: self.contents(body),
            }),
            responses: responses.filter_map(|(status, response)| self.response(status, response)).collect(),
        }
    }

    fn parameter(&self, name: &str, place: &str, node: Node<'d>) -> Option<Parameter> {
        Some(Parameter {
            name: name.to_owned(),
            place: place.to_owned(),
            required: node.is("required") || place == "path",
            deprecated: node.is("deprecated"),
            description: node.text("description").map(|text| text.trim().to_owned()),
            // A parameter may have a media type, as a body has.
            schema: self.schema(node.get("schema").or_else(|| {
                node.get("content")
                    .and_then(|content| content.members().next())
                    .and_then(|(_, media)| media.get("schema"))
            })),
            example: self.example(node),
        })
    }

    fn response(&self, status: &str, node: Node<'d>) -> Option<Response> {
        if status.starts_with("x-") {
            return None;
        }
        let node = self.documents.resolve(node)?;
        let headers = node.get("headers").into_iter().flat_map(Node::members);
        let headers =
            headers.filter_map(|(name, header)| self.parameter(name, "header", self.documents.resolve(header)?));
        Some(Response {
            status: status.to_owned(),
            description: node.text("description").map(|text| text.trim().to_owned()).filter(|text| !text.is_empty()),
            headers: headers.collect(),
            content: self.contents(node),
        })
    }

    fn contents(&self, holder: Node<'d>) -> Vec<Content> {
        let content = holder.get("content").into_iter().flat_map(Node::members);
        let content = content.map(|(media_type, media)| Content {
            media_type: media_type.to_owned(),
            schema: self.schema(media.get("schema")),
            example: self.example(media),
        });
        content.collect()
    }

    fn schema(&self, node: Option<Node<'d>>) -> Option<Value> {
        let writer = SchemaWriter::new(&self.definitions, self.is_v30, node?);
        serde_json::to_value(writer).ok()
    }

    /// The first example that is given for a parameter or a body.
    fn example(&self, holder: Node<'d>) -> Option<Value> {
        if let Some(example) = holder.get("example") {
            return Some(example.value.clone());
        }
        let (_, first) = holder.get("examples")?.members().next()?;
        self.documents.resolve(first)?.value.get("value").cloned()
    }
}
