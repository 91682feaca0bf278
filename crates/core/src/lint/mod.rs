//! What is wrong or odd in a workspace, found without sending anything: every mistake that sending
//! would tell, and what it would not: values that hide each other, yields nobody uses, names missing in
//! some environment, secrets in files that are shared.

mod hidden;
mod names;
mod secrets;
mod yielded;

#[cfg(test)]
mod tests;

use crate::expression::Engine;
use crate::problem::{Problem, SourceId};
use crate::replay::{Plan, examine_own, examine_preamble};
use crate::workspace::{CellId, Settings, Workspace};
use rustc_hash::FxHashSet;

/// Everything to say about the files of `cells`, in the order of files and places.
pub fn lint(workspace: &mut Workspace, engine: &Engine, settings: &Settings, cells: &[CellId]) -> Vec<Problem> {
    let mut problems: Vec<Problem> = workspace.config_problems().cloned().collect();
    // What a cell needs may load further files, so the plan comes first.
    let plan = Plan::new(workspace, cells, true);
    let chosen: FxHashSet<CellId> = cells.iter().copied().collect();
    let steps: Vec<_> = plan.steps.into_iter().filter(|step| chosen.contains(&step.cell)).collect();
    problems.extend(steps.iter().flat_map(|step| &step.problems).cloned());

    let workspace = &*workspace;
    let mut texts = FxHashSet::default();
    for source in steps.iter().map(|step| step.cell.source) {
        for text in workspace.source(source).commons.iter().copied().chain([source]) {
            if texts.insert(text) {
                problems.extend(workspace.source(text).problems.iter().cloned());
                problems.extend(examine_preamble(workspace, engine, text));
                problems.extend(secrets::in_requests(workspace, text));
            }
        }
    }
    problems.extend(secrets::in_configuration(workspace));
    for step in &steps {
        problems.extend(examine_own(workspace, engine, step.cell));
    }
    let uses = names::uses(workspace, engine, settings, &steps);
    problems.extend(names::without_value(workspace, engine, settings, &uses));
    problems.extend(hidden::values(workspace, &steps));
    problems.extend(yielded::yields(workspace, &uses));
    order(workspace, &mut problems);
    problems
}

/// By file and place, each once.
fn order(workspace: &Workspace, problems: &mut Vec<Problem>) {
    let place = |id: Option<SourceId>| id.map(|id| workspace.source(id).path.clone());
    problems.sort_by_cached_key(|problem| (place(problem.source), problem.span.start(), problem.code));
    problems.dedup();
}
