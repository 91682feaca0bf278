//! Completion and formatting.

use super::Answer;
use super::convert::{completion_kind, text_edits};
use crate::diagnostics::text_of;
use crate::params::{InRange, TextDocumentParams, TextDocumentPosition, read};
use crate::server::{Server, Snapshot};
use crate::wire::ResponseError;
use lsp_types::{CompletionItemKind, Range};
use serde::Serialize;
use serde_json::{Value, json};
use std::borrow::Cow;
use std::sync::Arc;
use yieldtray_ide::assist;
use yieldtray_source::Edit;
use yieldtray_syntax::tidy;

pub(super) fn complete(server: &mut Server, params: Value) -> Result<String, ResponseError> {
    let TextDocumentPosition { text_document, position, .. } = read(params)?;
    let desk = Arc::clone(&server.host);
    let Snapshot { state, source, encoding, client } = server.snapshot(&text_document.uri)?;
    let snippets = client.takes_snippets;
    let text = text_of(state, source, encoding);
    let at = text.offset(position);
    let folder =
        state.root.join(&state.workspace.source(source).path).parent().map(ToOwned::to_owned).unwrap_or_default();
    let root = state.root.clone();
    // Paths outside the workspace are not shown.
    let files = |path: &str| {
        let folder = folder.join(path);
        let inside = folder.canonicalize().is_ok_and(|folder| folder.starts_with(&root));
        if inside { desk.list(&folder) } else { Vec::new() }
    };
    let found = state.view(|view| assist::complete(view, source, at, &files));
    let items = found.list.iter().enumerate().map(|(index, suggestion)| Item {
        label: &suggestion.label,
        kind: completion_kind(suggestion.sort),
        detail: &suggestion.detail,
        sort_text: format!("{index:05}"),
        insert_text_format: if snippets { 2 } else { 1 },
        text_edit: Replacement {
            range: text.range(suggestion.span),
            new_text: if snippets { Cow::Borrowed(&suggestion.insert) } else { plain(&suggestion.insert).into() },
        },
    });
    let list = List { is_incomplete: found.more, items: items.collect() };
    serde_json::to_string(&list).map_err(|error| ResponseError::new(ResponseError::INTERNAL, error.to_string()))
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
    new_text: Cow<'s, str>,
}

/// The text of a snippet for clients without snippets: placeholders have their example, or are empty.
fn plain(snippet: &str) -> String {
    let (mut out, mut rest) = (String::with_capacity(snippet.len()), snippet.chars().peekable());
    // How many places around a character are open.
    let mut open = 0;
    while let Some(c) = rest.next() {
        match c {
            '\\' => out.extend(rest.next()),
            '$' if rest.peek() == Some(&'{') => {
                rest.next();
                while rest.next_if(char::is_ascii_digit).is_some() {}
                match rest.next() {
                    Some(':') => open += 1,
                    // Of several words the first.
                    Some('|') => {
                        while let Some(c) = rest.next_if(|c| *c != ',' && *c != '|') {
                            out.push(c);
                        }
                        while rest.next().is_some_and(|c| c != '}') {}
                    }
                    _ => {}
                }
            }
            '$' => while rest.next_if(char::is_ascii_digit).is_some() {},
            '}' if open > 0 => open -= 1,
            c => out.push(c),
        }
    }
    out
}

pub(super) fn signature(server: &mut Server, params: Value) -> Answer {
    let TextDocumentPosition { text_document, position, .. } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let at = text_of(state, source, encoding).offset(position);
    let found = state.view(|view| assist::signature(view, source, at));
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
    let TextDocumentParams { text_document } = read(params)?;
    formatted(server, &text_document.uri, |_, _| true)
}

pub(super) fn format_range(server: &mut Server, params: Value) -> Answer {
    let InRange { text_document, range, .. } = read(params)?;
    formatted(server, &text_document.uri, move |first, last| first <= range.end.line && range.start.line <= last)
}

/// The edits that format a text, limited to the lines that `includes` accepts.
fn formatted(server: &mut Server, address: &str, includes: impl Fn(u32, u32) -> bool) -> Answer {
    let Snapshot { state, source, encoding, .. } = server.snapshot(address)?;
    let own = state.workspace.source(source);
    let is_request = state.workspace.configurations().all(|config| config != source);
    let edits: Vec<Edit> = if is_request { tidy(&own.text, &own.file) } else { Vec::new() };
    let mut edits = text_edits(state, source, &edits, encoding);
    edits.retain(|edit| includes(edit.range.start.line, edit.range.end.line));
    Ok(json!(edits))
}

#[cfg(test)]
mod tests {
    use super::plain;

    #[test]
    fn a_snippet_without_its_places_can_be_read() {
        for (snippet, text) in [
            ("check ${1:status == 200}", "check status == 200"),
            ("size($1)", "size()"),
            ("auth ${1|basic,bearer|} $2", "auth basic "),
            ("basic {{${1:user}\\}\\} {{${2:password}\\}\\}", "basic {{user}} {{password}}"),
            ("a \\$5 crate", "a $5 crate"),
        ] {
            assert_eq!(plain(snippet), text, "{snippet}");
        }
    }
}
