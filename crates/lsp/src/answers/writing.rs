//! What may be written, and laying out what is.

use super::Answer;
use super::convert::{completion_kind, text_edits};
use crate::diagnostics::text_of;
use crate::params::{AtPlace, InRange, OfDocument, read};
use crate::server::Server;
use crate::wire::Refusal;
use lsp_types::{CompletionItemKind, Range};
use serde::Serialize;
use serde_json::{Value, json};
use std::sync::Arc;
use yieldtray_core::assist;
use yieldtray_core::syntax::{Edit, tidy};

pub(super) fn complete(server: &mut Server, params: Value) -> Result<String, Refusal> {
    let AtPlace { text_document, position, .. } = read(params)?;
    let (columns, desk) = (server.columns, Arc::clone(&server.desk));
    let (house, source) = server.text(&text_document.uri)?;
    let text = text_of(house, source, columns);
    let at = text.offset(position);
    let folder =
        house.root.join(&house.workspace.source(source).path).parent().map(ToOwned::to_owned).unwrap_or_default();
    let root = house.root.clone();
    // Nothing outside the workspace is told.
    let files = |path: &str| {
        let folder = folder.join(path);
        let inside = folder.canonicalize().is_ok_and(|folder| folder.starts_with(&root));
        if inside { desk.list(&folder) } else { Vec::new() }
    };
    let found = house.view(|view| assist::complete(view, source, at, &files));
    let items = found.list.iter().enumerate().map(|(index, suggestion)| Item {
        label: &suggestion.label,
        kind: completion_kind(suggestion.sort),
        detail: &suggestion.detail,
        sort_text: format!("{index:05}"),
        insert_text_format: 2,
        text_edit: Replacement { range: text.range(suggestion.span), new_text: &suggestion.insert },
    });
    let list = List { is_incomplete: found.more, items: items.collect() };
    serde_json::to_string(&list).map_err(|error| Refusal::new(Refusal::INTERNAL, error.to_string()))
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct List<'s> {
    is_incomplete: bool,
    items: Vec<Item<'s>>,
}

/// A `CompletionItem`.
#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Item<'s> {
    label: &'s str,
    kind: CompletionItemKind,
    detail: &'s str,
    /// In the order in which they are found: what is nearest comes first.
    sort_text: String,
    insert_text_format: u8,
    text_edit: Replacement<'s>,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Replacement<'s> {
    range: Range,
    new_text: &'s str,
}

pub(super) fn signature(server: &mut Server, params: Value) -> Answer {
    let AtPlace { text_document, position, .. } = read(params)?;
    let columns = server.columns;
    let (house, source) = server.text(&text_document.uri)?;
    let at = text_of(house, source, columns).offset(position);
    let found = house.view(|view| assist::signature(view, source, at));
    Ok(found.map_or(Value::Null, |signature| {
        let parameters: Vec<Value> = signature.parameters.iter().map(|name| json!({ "label": name })).collect();
        json!({
            "signatures": [{ "label": signature.label, "documentation": signature.help, "parameters": parameters }],
            "activeSignature": 0,
            "activeParameter": signature.active,
        })
    }))
}

pub(super) fn format(server: &mut Server, params: Value) -> Answer {
    let OfDocument { text_document } = read(params)?;
    laid_out(server, &text_document.uri, |_, _| true)
}

pub(super) fn format_range(server: &mut Server, params: Value) -> Answer {
    let InRange { text_document, range } = read(params)?;
    laid_out(server, &text_document.uri, move |first, last| first <= range.end.line && range.start.line <= last)
}

/// The edits that lay a text out, as far as they touch lines that `wanted` wants.
fn laid_out(server: &mut Server, address: &str, wanted: impl Fn(u32, u32) -> bool) -> Answer {
    let columns = server.columns;
    let (house, source) = server.text(address)?;
    let own = house.workspace.source(source);
    let is_request = house.workspace.configurations().all(|config| config != source);
    let edits: Vec<Edit> = if is_request { tidy(&own.text, &own.file) } else { Vec::new() };
    let mut edits = text_edits(house, source, &edits, columns);
    edits.retain(|edit| wanted(edit.range.start.line, edit.range.end.line));
    Ok(json!(edits))
}
