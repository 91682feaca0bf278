//! From core's types to the protocol's.

use crate::capabilities::ClientCapabilities;
use crate::diagnostics::text_of;
use crate::position::PositionEncoding;
use crate::uri::address_of;
use crate::wire::ResponseError;
use crate::workspace_state::WorkspaceState;
use lsp_types::{CompletionItemKind, TextEdit};
use serde_json::{Map, Value, json};
use std::collections::HashMap;
use std::path::PathBuf;
use yieldtray_ide::assist::{Change, CompletionKind, TokenKind};
use yieldtray_source::{Edit, SourceId, Span};

/// A place in a text.
pub(super) fn location(state: &WorkspaceState, place: (SourceId, Span), encoding: PositionEncoding) -> Value {
    let (source, span) = place;
    let range = text_of(state, source, encoding).range(span);
    json!({ "uri": address(state, source), "range": range })
}

/// The URI of a text.
pub(super) fn address(state: &WorkspaceState, source: SourceId) -> String {
    address_of(&state.root.join(&state.workspace.source(source).path))
}

pub(super) fn text_edits(
    state: &WorkspaceState,
    source: SourceId,
    edits: &[Edit],
    encoding: PositionEncoding,
) -> Vec<TextEdit> {
    let text = text_of(state, source, encoding);
    edits.iter().map(|edit| TextEdit { range: text.range(edit.span), new_text: edit.text.clone() }).collect()
}

/// Changes of files as a `WorkspaceEdit`. A new file wants a client that makes files.
pub(super) fn workspace_edit(
    state: &WorkspaceState,
    changes: &[Change],
    client: ClientCapabilities,
    encoding: PositionEncoding,
    versions: &HashMap<PathBuf, i32>,
) -> Result<Value, ResponseError> {
    if client.edits_documents {
        let mut operations = Vec::new();
        for change in changes {
            match change {
                Change::Edit(source, edits) => {
                    // A text that changed meanwhile is not edited.
                    let version = versions.get(&state.root.join(&state.workspace.source(*source).path));
                    let document = json!({ "uri": address(state, *source), "version": version });
                    let edits = text_edits(state, *source, edits, encoding);
                    operations.push(json!({ "textDocument": document, "edits": edits }));
                }
                Change::Create(path, text) => {
                    if !client.makes_files {
                        let why = format!("this editor cannot create `{}`: create it first", path.display());
                        return Err(ResponseError::failed(why));
                    }
                    let uri = address_of(&state.root.join(path));
                    operations.push(json!({ "kind": "create", "uri": uri, "options": { "ignoreIfExists": true } }));
                    let start = json!({ "line": 0, "character": 0 });
                    let edit = json!({ "range": { "start": start, "end": start }, "newText": text });
                    operations.push(json!({ "textDocument": { "uri": uri, "version": null }, "edits": [edit] }));
                }
            }
        }
        return Ok(json!({ "documentChanges": operations }));
    }
    let mut all = Map::new();
    for change in changes {
        match change {
            Change::Edit(source, edits) => {
                all.insert(address(state, *source), json!(text_edits(state, *source, edits, encoding)));
            }
            Change::Create(path, _) => {
                let why = format!("this editor cannot create `{}`: create it first", path.display());
                return Err(ResponseError::failed(why));
            }
        }
    }
    Ok(json!({ "changes": all }))
}

pub(super) fn completion_kind(sort: CompletionKind) -> CompletionItemKind {
    match sort {
        CompletionKind::Value => CompletionItemKind::VARIABLE,
        CompletionKind::Function => CompletionItemKind::FUNCTION,
        CompletionKind::Language => CompletionItemKind::KEYWORD,
        CompletionKind::Member => CompletionItemKind::FIELD,
        CompletionKind::Header => CompletionItemKind::PROPERTY,
        CompletionKind::Text => CompletionItemKind::VALUE,
        CompletionKind::Method => CompletionItemKind::METHOD,
        CompletionKind::Instruction => CompletionItemKind::KEYWORD,
        CompletionKind::Cell => CompletionItemKind::REFERENCE,
        CompletionKind::Label => CompletionItemKind::CONSTANT,
        CompletionKind::File => CompletionItemKind::FILE,
    }
}

/// The types of tokens by their numbers. `missingValue` is ours: a value that is not there.
pub(crate) const LEGEND: &[&str] = &[
    "comment",
    "class",
    "keyword",
    "method",
    "property",
    "function",
    "macro",
    "variable",
    "parameter",
    "missingValue",
    "string",
];

/// The number of a token's type.
pub(super) fn token_type(kind: TokenKind) -> u32 {
    let word = match kind {
        TokenKind::Comment => "comment",
        TokenKind::Title => "class",
        TokenKind::Instruction => "keyword",
        TokenKind::Method => "method",
        TokenKind::Header | TokenKind::Member => "property",
        TokenKind::Function => "function",
        TokenKind::Language => "macro",
        TokenKind::Local => "parameter",
        TokenKind::Value => "variable",
        TokenKind::Missing => "missingValue",
        TokenKind::Cell | TokenKind::Label => "class",
        TokenKind::File => "string",
    };
    LEGEND.iter().position(|known| *known == word).unwrap_or_default() as u32
}
