//! Hover, inlay hints and semantic tokens.

use super::Answer;
use super::convert::token_type;
use crate::diagnostics::text_of;
use crate::params::{InRange, TextDocumentParams, TextDocumentPosition, read};
use crate::server::{Server, Snapshot};
use serde_json::{Value, json};
use yieldtray_ide::assist;

pub(super) fn hover(server: &mut Server, params: Value) -> Answer {
    let TextDocumentPosition { text_document, position, .. } = read(params)?;
    let Snapshot { state, source, encoding, client } = server.snapshot(&text_document.uri)?;
    let kind = if client.shows_markdown { "markdown" } else { "plaintext" };
    let text = text_of(state, source, encoding);
    let at = text.offset(position);
    let help = state.view(|view| assist::hover(view, source, at));
    Ok(help.map_or(
        Value::Null,
        |help| json!({ "contents": { "kind": kind, "value": help.text }, "range": text.range(help.span) }),
    ))
}

pub(super) fn hints(server: &mut Server, params: Value) -> Answer {
    let InRange { text_document, range, .. } = read(params)?;
    if !server.client.hints {
        return Ok(json!([]));
    }
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let text = text_of(state, source, encoding);
    let hints = state.view(|view| assist::hints(view, source, text.span(range)));
    let hints = hints.iter().map(
        |hint| json!({ "position": text.position(hint.at), "label": format!("= {}", hint.text), "paddingLeft": true }),
    );
    Ok(hints.collect())
}

/// Tokens as differences from one to the next (LSP 3.17, `textDocument/semanticTokens`).
pub(super) fn tokens(server: &mut Server, params: Value) -> Answer {
    let TextDocumentParams { text_document } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let text = text_of(state, source, encoding);
    let (mut data, mut last) = (Vec::new(), lsp_types::Position::new(0, 0));
    for token in state.view(|view| assist::tokens(view, source)) {
        let start = text.position(token.span.start());
        let line = start.line - last.line;
        let column = if line == 0 { start.character - last.character } else { start.character };
        let length = text.width(token.span.of(text.text));
        data.extend([line, column, length, token_type(token.kind), u32::from(token.given)]);
        last = start;
    }
    Ok(json!({ "data": data }))
}
