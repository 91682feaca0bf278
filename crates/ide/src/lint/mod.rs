//! Lint: finds problems in a workspace without sending anything. Besides the errors that sending would report:
//! shadowed values, unused captures, names missing in some environment, errors in bodies and headers, secrets in
//! shared files.
//!
//! `[lint]` of the configuration sets the level of each code; `# allow …` suppresses single diagnostics.

mod described;
mod json;
mod names;
mod protocol;
mod secrets;
mod shadowed;
mod suppressions;
mod unused;
mod usage_index;

#[cfg(test)]
mod tests;

use rustc_hash::FxHashSet;
pub use usage_index::{FileUsage, UsageIndex};
use yieldtray_expression::Engine;
use yieldtray_source::{Code, Problem, SourceId};
use yieldtray_workspace::plan::{Depth, Plan, Step, examine_own, examine_preamble};
use yieldtray_workspace::scope::EvalSettings;
use yieldtray_workspace::{CellId, Workspace};

/// Everything to say about the files of `cells` and about the configuration, in the order of files and places.
pub fn lint(workspace: &mut Workspace, engine: &Engine, settings: &EvalSettings, cells: &[CellId]) -> Vec<Problem> {
    let mut usage = UsageIndex::default();
    let mut problems = lint_files(workspace, engine, settings, &[], cells, &mut usage);
    problems.extend(lint_configuration(workspace, cells));
    order(workspace, &mut problems);
    problems
}

/// Learns what the files of `cells` want of others, and says nothing about them.
pub fn index_usage(
    workspace: &mut Workspace,
    engine: &Engine,
    settings: &EvalSettings,
    cells: &[CellId],
    usage: &mut UsageIndex,
) {
    let steps = steps(workspace, cells);
    usage.take(workspace, &names::uses(workspace, engine, settings, &steps));
}

/// Everything to say about the files of `cells`, all cells of each, about `files`, which may have none, and about the
/// `_common.http` files above them.
/// `usage` knows what other files use, and learns what these do.
pub fn lint_files(
    workspace: &mut Workspace,
    engine: &Engine,
    settings: &EvalSettings,
    files: &[SourceId],
    cells: &[CellId],
    usage: &mut UsageIndex,
) -> Vec<Problem> {
    // The needs of a cell may load further files, so the plan comes first.
    let steps = steps(workspace, cells);
    let mut problems: Vec<Problem> = steps.iter().flat_map(|step| &step.problems).cloned().collect();

    let workspace = &*workspace;
    let levels = &workspace.config.lint;
    let (mut texts, mut sources) = (Vec::new(), FxHashSet::default());
    for source in steps.iter().map(|step| step.cell.source).chain(files.iter().copied()) {
        if !sources.insert(source) {
            continue;
        }
        for text in workspace.source(source).inherited.iter().copied().chain([source]) {
            if !texts.contains(&text) {
                texts.push(text);
            }
        }
        problems.extend(json::bodies(workspace, source));
        problems.extend(protocol::plain_credentials(workspace, source));
    }
    for text in texts.iter().copied() {
        problems.extend(workspace.source(text).problems.iter().cloned());
        problems.extend(examine_preamble(workspace, engine, text, Depth::Lint));
        problems.extend(secrets::in_requests(workspace, text));
        problems.extend(protocol::slips(workspace, text));
    }
    for step in &steps {
        problems.extend(examine_own(workspace, engine, step.cell, Depth::Lint));
        problems.extend(described::problems(workspace, engine, step.cell));
    }
    let uses = names::uses(workspace, engine, settings, &steps);
    usage.take(workspace, &uses);
    problems.extend(names::without_value(workspace, engine, settings, &uses));
    problems.extend(shadowed::values(workspace, &steps));
    problems.extend(unused::yielded(workspace, &uses, usage));
    problems.extend(unused::values(workspace, &uses, usage));
    problems.extend(unused::used_before_yield(workspace, engine, settings, &uses));
    if levels.tells(Code::NoChecks) {
        problems.extend(unused::without_checks(workspace, steps.iter().map(|step| step.cell)));
    }
    suppressions::apply(workspace, texts.into_iter(), &mut problems);
    apply_levels(workspace, &mut problems);
    order(workspace, &mut problems);
    problems
}

/// Everything to say about the configuration, which the files of `cells` use.
pub fn lint_configuration(workspace: &Workspace, cells: &[CellId]) -> Vec<Problem> {
    let mut problems: Vec<Problem> = workspace.config_problems().cloned().collect();
    problems.extend(secrets::in_configuration(workspace));
    problems.extend(described::unreadable(workspace));
    let mut sources: Vec<SourceId> = cells.iter().map(|cell| cell.source).collect();
    sources.dedup();
    let credentials = sources.iter().any(|source| protocol::uses_credentials(workspace, *source));
    problems.extend(protocol::plain_bases(workspace, credentials));
    suppressions::apply(workspace, workspace.configurations(), &mut problems);
    apply_levels(workspace, &mut problems);
    order(workspace, &mut problems);
    problems
}

/// The cells in the order of a replay, without those that they pull in.
fn steps(workspace: &mut Workspace, cells: &[CellId]) -> Vec<Step> {
    let plan = Plan::new(workspace, cells, true);
    let chosen: FxHashSet<CellId> = cells.iter().copied().collect();
    plan.steps.into_iter().filter(|step| chosen.contains(&step.cell)).collect()
}

/// Gives each finding the level that `[lint]` says, and leaves out what is switched off.
fn apply_levels(workspace: &Workspace, problems: &mut Vec<Problem>) {
    let levels = &workspace.config.lint;
    problems.retain_mut(|problem| match levels.level(problem.code, problem.severity) {
        Some(level) => {
            problem.severity = level;
            true
        }
        None => false,
    });
}

/// By file and place, each once.
fn order(workspace: &Workspace, problems: &mut Vec<Problem>) {
    let place = |id: Option<SourceId>| id.map(|id| workspace.source(id).path.clone());
    problems.sort_by_cached_key(|problem| (place(problem.source), problem.span.start(), problem.code));
    problems.dedup();
}
