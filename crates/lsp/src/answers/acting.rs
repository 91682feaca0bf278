//! What can be done: code actions and lenses.

use super::Answer;
use super::commands::{self, Sending};
use super::convert::{address, workspace_edit};
use crate::diagnostics::{drawn, text_of};
use crate::params::{InRange, TextDocumentParams, read};
use crate::server::Server;
use lsp_types::Range;
use serde_json::{Value, json};
use yieldtray_ide::assist;
use yieldtray_ide::assist::cell_at;
use yieldtray_workspace::scope::Resolver;

/// What a request is handed over as most; a command of the editor names any other.
const HANDED_OVER: &[&str] = &["shell", "javascript", "python"];

/// What mends the problems of a part, what reshapes it, and sending it.
pub(super) fn actions(server: &mut Server, params: Value) -> Answer {
    let InRange { text_document, range, context } = read(params)?;
    let (columns, client) = (server.columns, server.client);
    let versions = server.versions();
    let (house, source) = server.text(&text_document.uri)?;
    if !house.problems.contains_key(&source) {
        house.look(source);
    }
    let house = &*house;
    let text = text_of(house, source, columns);
    let span = text.span(range);
    let touched = house
        .problems
        .get(&source)
        .into_iter()
        .flatten()
        .filter(|problem| problem.span.start() <= span.end() && span.start() <= problem.span.end());
    let mut all = Vec::new();
    for problem in touched.filter(|_| context.wants("quickfix")) {
        // Of several fixes one is preferred: what was probably meant.
        let mut may_be_preferred = problem.replacement.is_some();
        for action in house.view(|view| assist::fixes(view, problem)) {
            let Ok(edit) = workspace_edit(house, &action.changes, client, columns, &versions) else { continue };
            let of = drawn(house, source, problem, columns, client);
            let preferred = action.mends && std::mem::take(&mut may_be_preferred);
            all.push(json!({
                "title": action.title, "kind": "quickfix", "diagnostics": [of], "isPreferred": preferred, "edit": edit,
            }));
        }
    }
    let reshaping =
        if context.wants("refactor") { house.view(|view| assist::actions(view, source, span)) } else { Vec::new() };
    for action in reshaping {
        let Ok(edit) = workspace_edit(house, &action.changes, client, columns, &versions) else { continue };
        all.push(json!({ "title": action.title, "kind": "refactor", "edit": edit }));
    }
    if !context.wants("source") {
        return Ok(json!(all));
    }
    if let Some(cell) = cell_at(&house.workspace, source, span.start()) {
        let name = house.workspace.cell(cell).name.to_string();
        for way in ways(house, cell) {
            all.push(json!({
                "title": format!("{}: {name}", way.title()), "kind": "source",
                "command": commands::of_cell(way, &address(house, source), &name),
            }));
        }
    }
    if let Some(cell) = cell_at(&house.workspace, source, span.start())
        && house.workspace.cell(cell).request.is_some()
    {
        let (name, address) = (house.workspace.cell(cell).name.to_string(), address(house, source));
        for target in HANDED_OVER {
            let command = commands::hand_over(target, &address, &name);
            all.push(json!({ "title": command["title"], "kind": "source", "command": command }));
        }
    }
    // What the lenses above the file do, for editors without lenses.
    let address = address(house, source);
    if house.workspace.cells(source).next().is_some() {
        for command in
            [commands::replay(&address), commands::environment(&address, house.settings.environment.as_deref())]
        {
            all.push(json!({ "title": command["title"], "kind": "source", "command": command }));
        }
    }
    Ok(json!(all))
}

/// The ways in which a cell can be sent.
fn ways(house: &crate::house::WorkspaceState, cell: yieldtray_workspace::CellId) -> Vec<Sending> {
    let own = house.workspace.cell(cell);
    if own.plays() || own.request.is_none() {
        return Vec::new();
    }
    let needs = own.instructions().any(|line| matches!(line.kind, yieldtray_syntax::InstructionKind::Needs(_)));
    let lacks = || {
        house.view(|view| {
            let mut memo = yieldtray_workspace::scope::EvalCache::default();
            let lookup = Resolver::new(view.context, cell, &[], &mut memo);
            !lookup.names_lacking().is_empty()
        })
    };
    let mut ways = vec![Sending::Alone];
    if needs || lacks() {
        ways.push(Sending::WithNeeds);
    }
    if house.was_answered(cell) {
        ways.push(Sending::Judged);
    }
    ways
}

/// Above the first line the environment and the whole file, above each cell the ways to send it.
pub(super) fn lenses(server: &mut Server, params: Value) -> Answer {
    let TextDocumentParams { text_document } = read(params)?;
    let columns = server.columns;
    let (house, source) = server.text(&text_document.uri)?;
    let house = &*house;
    let text = text_of(house, source, columns);
    let address = address(house, source);
    let mut lenses = Vec::new();
    let mut lens = |range: Range, command: Value| lenses.push(json!({ "range": range, "command": command }));
    let cells: Vec<_> = house.workspace.cells(source).collect();
    if cells.is_empty() {
        return Ok(json!([]));
    }
    let top = Range::default();
    lens(top, commands::environment(&address, house.settings.environment.as_deref()));
    lens(top, commands::replay(&address));
    for cell in cells {
        let own = house.workspace.cell(cell);
        let at = text.position(own.span.start());
        let range = Range::new(at, at);
        for way in ways(house, cell) {
            lens(range, commands::of_cell(way, &address, &own.name));
        }
    }
    Ok(json!(lenses))
}
