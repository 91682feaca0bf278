//! Parameters of requests, as far as they are read. The types of the protocol's crate flatten and convert numbers,
//! which fails for numbers of any length; these are plain.

use crate::wire::ResponseError;
use lsp_types::{Position, Range};
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

#[derive(Debug, Deserialize)]
pub(crate) struct Document {
    pub(crate) uri: String,
    #[serde(default)]
    pub(crate) text: String,
    #[serde(default)]
    pub(crate) version: i32,
}

/// A document.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct TextDocumentParams {
    pub(crate) text_document: Document,
}

/// A place in a document; new names and the wish for declarations come with some.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct TextDocumentPosition {
    pub(crate) text_document: Document,
    pub(crate) position: Position,
    #[serde(default)]
    pub(crate) new_name: String,
    pub(crate) context: Option<ReferenceContext>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct ReferenceContext {
    #[serde(default)]
    pub(crate) include_declaration: bool,
}

/// A part of a document.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct InRange {
    pub(crate) text_document: Document,
    pub(crate) range: Range,
    #[serde(default)]
    pub(crate) context: WantedActions,
}

/// Which code actions are wanted.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct WantedActions {
    /// Kinds; all where none are named.
    pub(crate) only: Option<Vec<String>>,
}

impl WantedActions {
    /// Whether actions of this kind are wanted: `source` wants `source.organizeImports` too.
    pub(crate) fn wants(&self, kind: &str) -> bool {
        let covers = |only: &String| {
            only.is_empty()
                || kind == only
                || kind.strip_prefix(only.as_str()).is_some_and(|rest| rest.starts_with('.'))
        };
        self.only.as_ref().is_none_or(|only| only.iter().any(covers))
    }
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Selections {
    pub(crate) text_document: Document,
    pub(crate) positions: Vec<Position>,
}

#[derive(Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Changed {
    pub(crate) text_document: Document,
    pub(crate) content_changes: Vec<ContentChange>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct ContentChange {
    /// The range that is replaced; the whole text without it.
    pub(crate) range: Option<Range>,
    pub(crate) text: String,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Watched {
    pub(crate) changes: Vec<WatchedFile>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct WatchedFile {
    pub(crate) uri: String,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Query {
    #[serde(default)]
    pub(crate) query: String,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Command {
    pub(crate) command: String,
    #[serde(default)]
    pub(crate) arguments: Vec<Value>,
}

/// The subject of one of our commands.
#[derive(Debug, Deserialize)]
pub(crate) struct TextDocument {
    pub(crate) uri: String,
    /// The name of a cell, or of an environment.
    pub(crate) name: Option<String>,
    /// A line of the document, from 0, in place of a cell's name.
    pub(crate) line: Option<u32>,
    /// The export target.
    #[serde(rename = "as")]
    pub(crate) target: Option<String>,
    /// True if the result is shown; otherwise it is returned, for a clipboard.
    #[serde(default)]
    pub(crate) show: bool,
    /// The copied text to import.
    pub(crate) text: Option<String>,
}

/// Reads what a request carries.
pub(crate) fn read<T: DeserializeOwned>(params: Value) -> Result<T, ResponseError> {
    serde_json::from_value(params)
        .map_err(|error| ResponseError::new(ResponseError::PARAMS, format!("cannot read this: {error}")))
}
