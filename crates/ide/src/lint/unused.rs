//! Unused values and captures, names that a file captures twice, and names used before they are captured.

use super::UsageIndex;
use super::names::Uses;
use rustc_hash::{FxHashMap, FxHashSet};
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{Instruction, InstructionKind};
use yieldtray_workspace::scope::{EvalCache, EvalContext, EvalSettings, PlayArgNames, Resolver, yields};
use yieldtray_workspace::{CellId, Workspace};

/// Yields that nobody uses, and names that a file yields twice.
pub(super) fn yielded(workspace: &Workspace, uses: &[Uses<'_>], usage: &UsageIndex) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut seen: FxHashMap<(SourceId, &str), Span> = FxHashMap::default();
    for Uses { step, .. } in uses {
        let cell = step.cell;
        let text = &workspace.source(cell.source).text;
        for line in workspace.cell(cell).instructions() {
            let InstructionKind::Yield { name, .. } = line.kind else { continue };
            let word = name.of(text);
            if let Some(before) = seen.insert((cell.source, word), name) {
                let warning =
                    Problem::warning(Code::RepeatedYield, name, format!("`{word}` is yielded twice in this file"));
                let warning = warning.with_related(cell.source, before, "first yielded here");
                problems.push(warning.with_hint("the later one is used: rename one of them").in_source(cell.source));
            }
            // A cell may use what it yields itself, in the checks below the yield.
            let is_used =
                usage.uses(cell.source, word) || usage.is_needed((cell.source, &workspace.cell(cell).name), word);
            if !is_used {
                let warning = Problem::warning(Code::UnusedYield, name, format!("`{word}` is never used"));
                let hint = "remove the line, or add `% needs` in the file that should use it";
                problems.push(warning.with_hint(hint).in_source(cell.source));
            }
        }
    }
    problems
}

/// Values of `let` and `ask` that nobody uses.
pub(super) fn values(workspace: &Workspace, uses: &[Uses<'_>], usage: &UsageIndex) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut report = |source: SourceId, line: &Instruction, used: &dyn Fn(&str) -> bool| {
        let (InstructionKind::Let { name, .. } | InstructionKind::Ask { name, .. }) = line.kind else { return };
        let word = name.of(&workspace.source(source).text);
        // `base` is used by every path.
        if word != "base" && !used(word) {
            let warning = Problem::warning(Code::UnusedVariable, name, format!("`{word}` is never used"));
            problems.push(warning.with_hint("remove the line").in_source(source));
        }
    };
    let mut files = FxHashSet::default();
    for Uses { step, names } in uses {
        let source = step.cell.source;
        for line in workspace.cell(step.cell).instructions() {
            report(source, line, &|word| names.iter().any(|used| used.name == word));
        }
        if !files.insert(source) {
            continue;
        }
        for (origin, line) in workspace.preambles(source) {
            match origin == source {
                true => report(origin, line, &|word| usage.uses(source, word)),
                false if files.insert(origin) => report(origin, line, &|word| usage.uses_anywhere(word)),
                false => {}
            }
        }
    }
    problems
}

/// Names that only a later cell of the file yields: in a replay they are not there yet.
pub(super) fn used_before_yield(
    workspace: &Workspace,
    engine: &yieldtray_expression::Engine,
    settings: &EvalSettings,
    uses: &[Uses<'_>],
) -> Vec<Problem> {
    let mut problems = Vec::new();
    // The cell that captures a name first in a file, by its place in the plan.
    let mut first: FxHashMap<(SourceId, &str), (usize, CellId)> = FxHashMap::default();
    for (index, Uses { step, .. }) in uses.iter().enumerate() {
        for name in yields(workspace, step.cell) {
            first.entry((step.cell.source, name)).or_insert((index, step.cell));
        }
    }
    let context = EvalContext::static_of(workspace, engine, settings);
    let given = PlayArgNames::of(workspace);
    for (index, Uses { step, names }) in uses.iter().enumerate() {
        let cell = step.cell;
        let late = names.iter().filter_map(|used| {
            let (at, yielder) = first.get(&(cell.source, used.name.as_str()))?;
            (*at > index).then_some((used, *yielder))
        });
        let late: Vec<_> = late.collect();
        if late.is_empty() {
            continue;
        }
        let mut cache = EvalCache::default();
        let resolver = Resolver::new(context, cell, &step.needs, &mut cache);
        let lacking = resolver.unresolved_among(late.iter().map(|(used, _)| (*used).clone()).collect(), &given);
        for (used, yielder) in late.into_iter().filter(|(used, _)| lacking.contains(used)) {
            let other = &workspace.cell(yielder).name;
            let message = format!("`{}` is used before `{other}` yields it", used.name);
            let warning = Problem::warning(Code::YieldedLater, used.span(workspace, engine), message);
            problems
                .push(warning.with_hint(format!("add `% needs {other}` to this request")).in_source(used.at.source));
        }
    }
    problems
}

/// Cells that no check judges.
pub(super) fn without_checks(workspace: &Workspace, cells: impl Iterator<Item = CellId>) -> Vec<Problem> {
    let judged = |cell: CellId| {
        let own = workspace.cell(cell).instructions().any(|line| matches!(line.kind, InstructionKind::Check { .. }));
        own || workspace.preambles(cell.source).any(|(_, line)| matches!(line.kind, InstructionKind::Check { .. }))
    };
    let bare = cells.filter(|cell| !workspace.cell(*cell).plays() && !judged(*cell));
    bare.map(|id| {
        let cell = workspace.cell(id);
        let at = cell.request.as_ref().map_or(cell.title, |line| line.span);
        let problem = Problem::warning(Code::NoChecks, at, format!("`{}` has no checks", cell.name));
        problem.with_hint("for example `% check status == 200`").in_source(id.source)
    })
    .collect()
}
