//! Values that another place hides. A private value over a shared one, and an environment's over that
//! of every environment, are what those places are for, and nothing is said of them.

use rustc_hash::FxHashSet;
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::plan::Step;
use yieldtray_workspace::{CellId, Workspace};

pub(super) fn values(workspace: &Workspace, steps: &[Step]) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut sources = FxHashSet::default();
    for step in steps {
        if sources.insert(step.cell.source) {
            shared(workspace, step.cell.source, &mut problems);
        }
        own(workspace, step.cell, &mut problems);
    }
    problems
}

/// The binding that shadows a `let` of a file, or of a `_common.http` above it: an environment, or a nearer `let`.
fn shared(workspace: &Workspace, source: SourceId, problems: &mut Vec<Problem>) {
    let lets = inherited_lets(workspace, source);
    for (index, (origin, name, span)) in lets.iter().enumerate() {
        let by_environment = workspace.config.environments.iter().find_map(|environment| {
            let entry = environment.values.iter().find(|entry| entry.name == *name)?;
            Some((environment, entry))
        });
        if let Some((environment, entry)) = by_environment {
            let message = format!("`{name}` is shadowed by environment `{}`", environment.name);
            problems.push(hidden(*origin, *span, message, (entry.source, entry.span)));
        } else if let Some((nearer, _, place)) = lets[index + 1..].iter().find(|(_, other, _)| other == name) {
            let message = format!("`{name}` is shadowed by `{}`", workspace.shown_path(*nearer));
            problems.push(hidden(*origin, *span, message, (*nearer, *place)));
        }
    }
}

/// The binding that a cell's own `let` or `ask` shadows.
fn own(workspace: &Workspace, cell: CellId, problems: &mut Vec<Problem>) {
    let text = &workspace.source(cell.source).text;
    for line in workspace.cell(cell).instructions() {
        let (InstructionKind::Let { name, .. } | InstructionKind::Ask { name, .. }) = line.kind else { continue };
        let word = name.of(text);
        let shared = inherited_lets(workspace, cell.source).into_iter().rev().find(|(_, other, _)| *other == word);
        let entry = workspace.config.all_entries().find(|entry| entry.name == word);
        let other = entry.map(|entry| (entry.source, entry.span)).or(shared.map(|(origin, _, span)| (origin, span)));
        if let Some((source, span)) = other {
            let message = format!("`{word}` shadows the one of `{}` in this request", workspace.shown_path(source));
            let warning = Problem::warning(Code::ShadowedVariable, name, message).with_related(
                source,
                span,
                "this one is shadowed",
            );
            problems.push(warning.with_hint("rename one of them, unless this is intended").in_source(cell.source));
        }
    }
}

/// The `let`s of the preambles above a file, the weakest first: text, name and span of the name.
fn inherited_lets(workspace: &Workspace, source: SourceId) -> Vec<(SourceId, &str, Span)> {
    let lets = workspace.preambles(source).filter_map(|(origin, line)| match line.kind {
        InstructionKind::Let { name, .. } => Some((origin, name.of(&workspace.source(origin).text), name)),
        _ => None,
    });
    lets.collect()
}

fn hidden(origin: SourceId, span: Span, message: String, by: (SourceId, Span)) -> Problem {
    Problem::warning(Code::ShadowedVariable, span, message)
        .with_hint("rename or remove one of them")
        .with_related(by.0, by.1, "this one is used")
        .in_source(origin)
}
