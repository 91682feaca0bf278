//! Where names lead, and the structure of files.

use super::Answer;
use super::convert::{location, workspace_edit};
use crate::diagnostics::text_of;
use crate::params::{Query, Selections, TextDocumentParams, TextDocumentPosition, read};
use crate::position::LineIndex;
use crate::server::{Server, Snapshot};
use crate::uri::address_of;
use crate::wire::ResponseError;
use lsp_types::{FoldingRangeKind, SymbolKind};
use serde_json::{Value, json};
use yieldtray_ide::assist;
use yieldtray_ide::assist::{Change, Fold, Referent};
use yieldtray_source::Lines;

pub(super) fn symbols(server: &mut Server, params: Value) -> Answer {
    let TextDocumentParams { text_document } = read(params)?;
    let Snapshot { state, source, encoding, client } = server.snapshot(&text_document.uri)?;
    let trees = client.shows_symbol_trees;
    let text = text_of(state, source, encoding);
    let symbols = assist::symbols(&state.workspace, source);
    if !trees {
        let flat = symbols.iter().map(|symbol| {
            json!({
                "name": symbol.name, "kind": SymbolKind::FUNCTION,
                "location": location(state, (source, symbol.span), encoding),
            })
        });
        return Ok(flat.collect());
    }
    let symbols = symbols.iter().map(|symbol| {
        json!({
            "name": symbol.name, "detail": symbol.detail, "kind": SymbolKind::FUNCTION,
            "range": text.range(symbol.span), "selectionRange": text.range(symbol.at),
        })
    });
    Ok(symbols.collect())
}

pub(super) fn workspace_symbols(server: &mut Server, params: Value) -> Answer {
    let Query { query } = read(params)?;
    let encoding = server.encoding;
    let mut found = Vec::new();
    for state in server.workspaces.iter() {
        for symbol in assist::workspace_symbols(&state.workspace, &query) {
            let source = symbol.cell.source;
            found.push(json!({
                "name": symbol.name, "kind": SymbolKind::FUNCTION,
                "containerName": state.workspace.shown_path(source),
                "location": location(state, (source, symbol.at), encoding),
            }));
        }
    }
    Ok(json!(found))
}

pub(super) fn definition(server: &mut Server, params: Value) -> Answer {
    let TextDocumentPosition { text_document, position, .. } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let at = text_of(state, source, encoding).offset(position);
    let places = state.view(|view| assist::definition(view, source, at));
    if places.is_empty()
        && let Some(place) = state.view(|view| assist::described_definition(view, source, at))
    {
        let path = state.root.join(&place.path);
        let lines = Lines::new(&place.text);
        let range = LineIndex { text: &place.text, lines: &lines, encoding }.range(place.span);
        return Ok(json!([{ "uri": address_of(&path), "range": range }]));
    }
    Ok(places.into_iter().map(|place| location(state, place, encoding)).collect())
}

pub(super) fn references(server: &mut Server, params: Value) -> Answer {
    let TextDocumentPosition { text_document, position, context, .. } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let at = text_of(state, source, encoding).offset(position);
    let with_definitions = context.is_some_and(|context| context.include_declaration);
    let places = state.view(|view| assist::references(view, source, at, with_definitions));
    Ok(places.into_iter().map(|place| location(state, place, encoding)).collect())
}

/// The same name elsewhere in the same text.
pub(super) fn highlights(server: &mut Server, params: Value) -> Answer {
    let TextDocumentPosition { text_document, position, .. } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let text = text_of(state, source, encoding);
    let at = text.offset(position);
    let places = state.view(|view| assist::references(view, source, at, true));
    let own = places.into_iter().filter(|(file, _)| *file == source);
    Ok(own.map(|(_, span)| json!({ "range": text.range(span) })).collect())
}

pub(super) fn prepare_rename(server: &mut Server, params: Value) -> Answer {
    let TextDocumentPosition { text_document, position, .. } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let text = text_of(state, source, encoding);
    let at = text.offset(position);
    let found = state.view(|view| assist::occurrence_at(view, source, at));
    let nameable = found.filter(|found| {
        matches!(found.what, Referent::Value { .. } | Referent::Cell { cell: Some(_), .. } | Referent::Label { .. })
    });
    match nameable {
        Some(found) => {
            // A title is not a name: the new name is the one derived from it.
            let name = match found.what {
                Referent::Cell { cell: Some(cell), .. } => state.workspace.cell(cell).name.to_string(),
                _ => found.span.of(text.text).to_owned(),
            };
            Ok(json!({ "range": text.range(found.span), "placeholder": name }))
        }
        None => Err(ResponseError::failed("only variables, requests and labels can be renamed")),
    }
}

pub(super) fn rename(server: &mut Server, params: Value) -> Answer {
    let TextDocumentPosition { text_document, position, new_name, .. } = read(params)?;
    let versions = server.documents.versions();
    let Snapshot { state, source, encoding, client } = server.snapshot(&text_document.uri)?;
    let at = text_of(state, source, encoding).offset(position);
    let edits = state.view(|view| assist::rename(view, source, at, &new_name));
    let edits = edits.map_err(ResponseError::failed)?;
    let changes: Vec<Change> = edits.into_iter().map(|(file, edits)| Change::Edit(file, edits)).collect();
    workspace_edit(state, &changes, client, encoding, &versions)
}

pub(super) fn folds(server: &mut Server, params: Value) -> Answer {
    let TextDocumentParams { text_document } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let text = text_of(state, source, encoding);
    let folds = assist::folds(&state.workspace, source).into_iter().map(|fold| {
        let (span, kind) = match fold {
            Fold::Cell(span) | Fold::Body(span) => (span, FoldingRangeKind::Region),
            Fold::Comments(span) => (span, FoldingRangeKind::Comment),
        };
        let range = text.range(span);
        json!({ "startLine": range.start.line, "endLine": range.end.line, "kind": kind })
    });
    Ok(folds.collect())
}

pub(super) fn selections(server: &mut Server, params: Value) -> Answer {
    let Selections { text_document, positions } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let text = text_of(state, source, encoding);
    let nested = positions.into_iter().map(|position| {
        let spans = state.view(|view| assist::selections(view, source, text.offset(position)));
        // Each is written inside the one that holds it.
        spans.into_iter().rev().fold(Value::Null, |parent, span| {
            let mut range = json!({ "range": text.range(span) });
            if !parent.is_null() {
                range["parent"] = parent;
            }
            range
        })
    });
    Ok(nested.collect())
}

pub(super) fn links(server: &mut Server, params: Value) -> Answer {
    let TextDocumentParams { text_document } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let text = text_of(state, source, encoding);
    let folder =
        state.root.join(&state.workspace.source(source).path).parent().map(ToOwned::to_owned).unwrap_or_default();
    let links = state.view(|view| assist::links(view, source));
    let there = links.iter().filter_map(|(span, path)| {
        let file = folder.join(path).canonicalize().ok().filter(|file| file.starts_with(&state.root))?;
        Some(json!({ "range": text.range(*span), "target": address_of(&file) }))
    });
    Ok(there.collect())
}
