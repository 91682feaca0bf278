//! A name without a value: what is said of it, and the way out. The user's question is never "which
//! name?" but "where would it come from?".

use crate::CellId;
use crate::scope::Resolver;
use yieldtray_source::{Code, Problem, Span, closest, join_words};
use yieldtray_syntax::is_language_name;

/// Of how many cells of a file the names are compared with a name that nobody gives.
const MAX_COMPARED_CELLS: usize = 1_000;

/// A name that only a response gives, used before there is one; `waiting` is the `let` that uses it.
pub(super) fn response_name(name: &str, at: Span, waiting: Option<&str>) -> Problem {
    if name == "row" {
        return Problem::error(Code::MissingValue, at, "`row` is not available here")
            .with_hint("add `% each row in \"lots.csv\"` above the request");
    }
    let problem = Problem::error(Code::NeedsResponse, at, format!("`{name}` is available only after the response"))
        .with_missing(name, None);
    match waiting {
        Some(waiting) => problem.with_hint(format!("move it below the request: `% yield {waiting} = …`")),
        None => problem.with_hint("capture it from an earlier response with `% yield`"),
    }
}

/// A name nobody gives a value.
pub(super) fn value(resolver: &Resolver<'_>, name: &str, at: Span) -> Problem {
    let config = &resolver.workspace.config;
    let having: Vec<&str> = config
        .environments
        .iter()
        .filter(|environment| environment.values.iter().any(|entry| entry.name == name))
        .map(|environment| environment.name.as_str())
        .collect();
    let yielding = yielding(resolver, name);
    if let Some(cell) = yielding {
        return not_yielded_yet(resolver, name, at, cell);
    }
    if let Some(first) = having.first() {
        let have = if having.len() == 1 { "has" } else { "have" };
        let pass = format!("{} {have} it: pass `-e {first}`", join_words(&having));
        return match &resolver.context.settings.environment {
            None => {
                let reason = "no environment is selected".to_owned();
                Problem::error(Code::MissingValue, at, format!("`{name}` has no value: {reason}"))
                    .with_missing(name, Some(reason))
                    .with_hint(pass)
            }
            Some(chosen) => {
                Problem::error(Code::MissingValue, at, format!("`{name}` has no value in environment `{chosen}`"))
                    .with_missing(name, None)
                    .with_hint(format!("{pass}, or add it to `[environments.{chosen}.values]`"))
            }
        };
    }
    let problem =
        Problem::error(Code::UnknownVariable, at, format!("no variable named `{name}`")).with_missing(name, None);
    // One of another environment may be meant too, or one that another cell of the file yields.
    let everywhere = config.all_entries().map(|entry| entry.name.as_str());
    let own = resolver.workspace.cells(resolver.cell.source).take(MAX_COMPARED_CELLS);
    let own = own.flat_map(|cell| crate::scope::yields(resolver.workspace, cell));
    let names = resolver.names().into_iter().chain(everywhere).chain(own);
    let language =
        ["status", "reason", "headers", "cookies", "body", "text", "elapsed", "url", "environment", "request"];
    match closest(name, names.chain(language)) {
        Some(meant) if is_language_name(meant) || meant != name => problem.did_you_mean(meant),
        _ => problem.with_hint(format!(
            "define it: `% let {name} = …` in the file, a line in `yieldtray.toml`, or `--set {name}=…`"
        )),
    }
}

/// A cell that yields `name`: in the file itself first, then one the cell needs, then any.
fn yielding(resolver: &Resolver<'_>, name: &str) -> Option<CellId> {
    let workspace = resolver.workspace;
    let own = resolver.cell.source;
    let sources = [own].into_iter().chain(workspace.loaded().filter(|source| *source != own));
    sources.flat_map(|source| workspace.find_yielders(source, name)).find(|cell| *cell != resolver.cell)
}

fn not_yielded_yet(resolver: &Resolver<'_>, name: &str, at: Span, cell: CellId) -> Problem {
    let workspace = resolver.workspace;
    let yielder = &workspace.cell(cell).name;
    if cell.source == resolver.cell.source || resolver.needs.contains(&cell) {
        let needed = resolver.needs.contains(&cell);
        let reason = format!("`{yielder}` yields it but was not sent");
        let problem = Problem::error(Code::MissingValue, at, format!("`{name}` has no value yet: {reason}"))
            .with_missing(name, Some(reason));
        return if needed {
            problem.with_hint(format!("send `{yielder}` first: add `--needs send`"))
        } else {
            problem.with_hint(format!(
                "add `% needs {yielder}` to this request; then `replay`, or `send --needs send`, sends both"
            ))
        };
    }
    let file = workspace.shown_path(cell.source);
    Problem::error(Code::MissingValue, at, format!("`{name}` has no value here: `{yielder}` in `{file}` yields it"))
        .with_missing(name, None)
        .with_hint(format!("add `% needs {file}#{yielder}` to this request, the path relative to this file"))
}
