//! Yields that nobody uses, and names that a file yields twice.

use crate::expression::Engine;
use crate::problem::{Code, Problem};
use crate::replay::Step;
use crate::syntax::{Kind, Span};
use crate::workspace::{CellId, Workspace, expressions_of, names_in, own_expressions};
use rustc_hash::{FxHashMap, FxHashSet};

pub(super) fn yields(workspace: &Workspace, engine: &Engine, steps: &[Step]) -> Vec<Problem> {
    let mut problems = Vec::new();
    // Who uses which name: a cell, or a preamble for all cells of its file.
    let mut used: FxHashMap<String, FxHashSet<CellId>> = FxHashMap::default();
    for step in steps {
        for name in names_of(workspace, engine, step.cell) {
            used.entry(name).or_default().insert(step.cell);
        }
    }
    let mut needed_by: FxHashMap<CellId, Vec<CellId>> = FxHashMap::default();
    for step in steps {
        for need in &step.needs {
            needed_by.entry(*need).or_default().push(step.cell);
        }
    }
    let mut seen: FxHashMap<(CellId, &str), Span> = FxHashMap::default();
    for step in steps {
        let cell = step.cell;
        let text = &workspace.source(cell.source).text;
        for line in workspace.cell(cell).instructions() {
            let Kind::Yield { name, .. } = line.kind else { continue };
            let word = name.of(text);
            let file = CellId { source: cell.source, index: 0 };
            if let Some(before) = seen.insert((file, word), name) {
                let remark = Problem::remark(Code::RepeatedYield, name, format!("this file yields `{word}` twice"));
                let remark = remark.with_also(cell.source, before, "yielded here first");
                problems.push(remark.with_hint("the later one wins: rename one of them").in_source(cell.source));
            }
            let users = used.get(word);
            let reaches =
                |user: &CellId| user.source == cell.source || needed_by.get(&cell).is_some_and(|by| by.contains(user));
            // A cell may use what it yields itself, in the checks below the yield.
            if !users.is_some_and(|users| users.iter().any(reaches)) {
                let remark = Problem::remark(Code::UnusedYield, name, format!("nobody uses `{word}`"));
                let hint = "remove the line; or write `% needs` where another file should see the value";
                problems.push(remark.with_hint(hint).in_source(cell.source));
            }
        }
    }
    problems
}

/// Every name in the expressions of a cell and of the preambles over it.
fn names_of(workspace: &Workspace, engine: &Engine, cell: CellId) -> FxHashSet<String> {
    let mut expressions = own_expressions(workspace, cell);
    let text = &workspace.source(cell.source).text;
    for line in workspace.cell(cell).instructions().filter(|line| matches!(line.kind, Kind::Let { .. })) {
        expressions_of(text, cell.source, line, &mut expressions);
    }
    for (home, line) in workspace.preambles(cell.source) {
        expressions_of(&workspace.source(home).text, home, line, &mut expressions);
    }
    expressions.into_iter().flat_map(|at| names_in(workspace, engine, at)).collect()
}
