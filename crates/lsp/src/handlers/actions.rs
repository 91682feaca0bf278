//! Code actions and lenses.

use super::Answer;
use super::commands::{self, Sending};
use super::convert::{address, workspace_edit};
use crate::diagnostics::{drawn, text_of};
use crate::params::{InRange, TextDocumentParams, read};
use crate::server::{Server, Snapshot};
use lsp_types::Range;
use serde_json::{Value, json};
use yieldtray_ide::assist;
use yieldtray_ide::assist::cell_at;
use yieldtray_workspace::scope::Resolver;

/// The export target offered by default; a command of the editor names any other.
const HANDED_OVER: &[&str] = &["shell", "javascript", "python"];

/// Code actions for a range: fixes for its problems, refactorings, and sending it.
pub(super) fn actions(server: &mut Server, params: Value) -> Answer {
    let InRange { text_document, range, context } = read(params)?;
    let versions = server.documents.versions();
    let Snapshot { state, source, encoding, client } = server.snapshot(&text_document.uri)?;
    if !state.problems.contains_key(&source) {
        state.lint(source);
    }
    let state = &*state;
    let text = text_of(state, source, encoding);
    let span = text.span(range);
    let touched = state
        .problems
        .get(&source)
        .into_iter()
        .flatten()
        .filter(|problem| problem.span.start() <= span.end() && span.start() <= problem.span.end());
    let mut all = Vec::new();
    for problem in touched.filter(|_| context.wants("quickfix")) {
        // Of several fixes one is preferred: what was probably meant.
        let mut may_be_preferred = problem.replacement.is_some();
        for action in state.view(|view| assist::fixes(view, problem)) {
            let Ok(edit) = workspace_edit(state, &action.changes, client, encoding, &versions) else { continue };
            let of = drawn(state, source, problem, encoding, client);
            let preferred = action.is_fix && std::mem::take(&mut may_be_preferred);
            all.push(json!({
                "title": action.title, "kind": "quickfix", "diagnostics": [of], "isPreferred": preferred, "edit": edit,
            }));
        }
    }
    let reshaping =
        if context.wants("refactor") { state.view(|view| assist::actions(view, source, span)) } else { Vec::new() };
    for action in reshaping {
        let Ok(edit) = workspace_edit(state, &action.changes, client, encoding, &versions) else { continue };
        all.push(json!({ "title": action.title, "kind": "refactor", "edit": edit }));
    }
    if !context.wants("source") {
        return Ok(json!(all));
    }
    if let Some(cell) = cell_at(&state.workspace, source, span.start()) {
        let name = state.workspace.cell(cell).name.to_string();
        for way in ways(state, cell) {
            all.push(json!({
                "title": format!("{}: {name}", way.title()), "kind": "source",
                "command": commands::of_cell(way, &address(state, source), &name),
            }));
        }
    }
    if let Some(cell) = cell_at(&state.workspace, source, span.start())
        && state.workspace.cell(cell).request.is_some()
    {
        let (name, address) = (state.workspace.cell(cell).name.to_string(), address(state, source));
        for target in HANDED_OVER {
            let command = commands::export(target, &address, &name);
            all.push(json!({ "title": command["title"], "kind": "source", "command": command }));
        }
    }
    // The actions of the lenses above the file, for editors without lenses.
    let address = address(state, source);
    if state.workspace.cells(source).next().is_some() {
        for command in
            [commands::replay(&address), commands::environment(&address, state.settings.environment.as_deref())]
        {
            all.push(json!({ "title": command["title"], "kind": "source", "command": command }));
        }
    }
    Ok(json!(all))
}

/// The ways in which a cell can be sent.
fn ways(state: &crate::workspace_state::WorkspaceState, cell: yieldtray_workspace::CellId) -> Vec<Sending> {
    let own = state.workspace.cell(cell);
    if own.plays() || own.request.is_none() {
        return Vec::new();
    }
    let needs = own.instructions().any(|line| matches!(line.kind, yieldtray_syntax::InstructionKind::Needs(_)));
    let lacks = || {
        state.view(|view| {
            let mut memo = yieldtray_workspace::scope::EvalCache::default();
            let lookup = Resolver::new(view.context, cell, &[], &mut memo);
            !lookup.unresolved_names().is_empty()
        })
    };
    let mut ways = vec![Sending::Alone];
    if needs || lacks() {
        ways.push(Sending::WithNeeds);
    }
    if state.was_answered(cell) {
        ways.push(Sending::Judged);
    }
    ways
}

/// Above the first line the environment and the whole file, above each cell the ways to send it.
pub(super) fn lenses(server: &mut Server, params: Value) -> Answer {
    let TextDocumentParams { text_document } = read(params)?;
    let Snapshot { state, source, encoding, .. } = server.snapshot(&text_document.uri)?;
    let state = &*state;
    let text = text_of(state, source, encoding);
    let address = address(state, source);
    let mut lenses = Vec::new();
    let mut lens = |range: Range, command: Value| lenses.push(json!({ "range": range, "command": command }));
    let cells: Vec<_> = state.workspace.cells(source).collect();
    if cells.is_empty() {
        return Ok(json!([]));
    }
    let top = Range::default();
    lens(top, commands::environment(&address, state.settings.environment.as_deref()));
    lens(top, commands::replay(&address));
    for cell in cells {
        let own = state.workspace.cell(cell);
        let at = text.position(own.span.start());
        let range = Range::new(at, at);
        for way in ways(state, cell) {
            lens(range, commands::of_cell(way, &address, &own.name));
        }
    }
    Ok(json!(lenses))
}
