//! Yields that nobody uses, and names that a file yields twice.

use super::names::Uses;
use crate::problem::{Code, Problem, SourceId};
use crate::syntax::{Kind, Span};
use crate::workspace::{CellId, Workspace};
use rustc_hash::{FxHashMap, FxHashSet};

pub(super) fn yields(workspace: &Workspace, uses: &[Uses<'_>]) -> Vec<Problem> {
    let mut problems = Vec::new();
    // Which names the cells of a file use, and who needs a cell.
    let mut used: FxHashSet<(SourceId, &str)> = FxHashSet::default();
    let mut needed_by: FxHashMap<CellId, FxHashSet<SourceId>> = FxHashMap::default();
    for Uses { step, names } in uses {
        used.extend(names.iter().map(|used| (step.cell.source, used.name.as_str())));
        for need in &step.needs {
            needed_by.entry(*need).or_default().insert(step.cell.source);
        }
    }
    let mut seen: FxHashMap<(SourceId, &str), Span> = FxHashMap::default();
    for Uses { step, .. } in uses {
        let cell = step.cell;
        let text = &workspace.source(cell.source).text;
        for line in workspace.cell(cell).instructions() {
            let Kind::Yield { name, .. } = line.kind else { continue };
            let word = name.of(text);
            if let Some(before) = seen.insert((cell.source, word), name) {
                let remark = Problem::remark(Code::RepeatedYield, name, format!("this file yields `{word}` twice"));
                let remark = remark.with_also(cell.source, before, "yielded here first");
                problems.push(remark.with_hint("the later one wins: rename one of them").in_source(cell.source));
            }
            // A cell may use what it yields itself, in the checks below the yield.
            let elsewhere =
                || needed_by.get(&cell).is_some_and(|by| by.iter().any(|file| used.contains(&(*file, word))));
            if !used.contains(&(cell.source, word)) && !elsewhere() {
                let remark = Problem::remark(Code::UnusedYield, name, format!("nobody uses `{word}`"));
                let hint = "remove the line; or write `% needs` where another file should see the value";
                problems.push(remark.with_hint(hint).in_source(cell.source));
            }
        }
    }
    problems
}
