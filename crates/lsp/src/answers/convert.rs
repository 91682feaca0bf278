//! From core's types to the protocol's.

use crate::address::address_of;
use crate::diagnostics::text_of;
use crate::house::WorkspaceState;
use crate::places::PositionEncoding;
use crate::server::Client;
use crate::wire::ResponseError;
use lsp_types::{CompletionItemKind, TextEdit};
use serde_json::{Map, Value, json};
use std::collections::HashMap;
use std::path::PathBuf;
use yieldtray_ide::assist::{Change, CompletionKind, TokenKind};
use yieldtray_source::SourceId;
use yieldtray_source::{Edit, Span};

/// A place in a text.
pub(super) fn location(house: &WorkspaceState, place: (SourceId, Span), columns: PositionEncoding) -> Value {
    let (source, span) = place;
    let range = text_of(house, source, columns).range(span);
    json!({ "uri": address(house, source), "range": range })
}

/// The address of a text.
pub(super) fn address(house: &WorkspaceState, source: SourceId) -> String {
    address_of(&house.root.join(&house.workspace.source(source).path))
}

pub(super) fn text_edits(
    house: &WorkspaceState,
    source: SourceId,
    edits: &[Edit],
    columns: PositionEncoding,
) -> Vec<TextEdit> {
    let text = text_of(house, source, columns);
    edits.iter().map(|edit| TextEdit { range: text.range(edit.span), new_text: edit.text.clone() }).collect()
}

/// Changes of files as a `WorkspaceEdit`. A new file wants a client that makes files.
pub(super) fn workspace_edit(
    house: &WorkspaceState,
    changes: &[Change],
    client: Client,
    columns: PositionEncoding,
    versions: &HashMap<PathBuf, i32>,
) -> Result<Value, ResponseError> {
    if client.edits_documents {
        let mut operations = Vec::new();
        for change in changes {
            match change {
                Change::Edit(source, edits) => {
                    // A text that was changed meanwhile is not edited where something else stands now.
                    let version = versions.get(&house.root.join(&house.workspace.source(*source).path));
                    let document = json!({ "uri": address(house, *source), "version": version });
                    let edits = text_edits(house, *source, edits, columns);
                    operations.push(json!({ "textDocument": document, "edits": edits }));
                }
                Change::Create(path, text) => {
                    if !client.makes_files {
                        let why = format!("this editor cannot make `{}`: make it first", path.display());
                        return Err(ResponseError::new(ResponseError::FAILED, why));
                    }
                    let uri = address_of(&house.root.join(path));
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
                all.insert(address(house, *source), json!(text_edits(house, *source, edits, columns)));
            }
            Change::Create(path, _) => {
                let why = format!("this editor cannot make `{}`: make it first", path.display());
                return Err(ResponseError::new(ResponseError::FAILED, why));
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
