//! Names that cells use and nobody gives, in no environment or in some.

use crate::expression::Engine;
use crate::expression::Value;
use crate::problem::{Code, Problem, enumerate};
use crate::replay::Step;
use crate::workspace::{
    Answers, CellId, Entry, Lookup, Memo, Reach, Settings, Stage, Tray, Workspace, Yielded, yields,
};
use rustc_hash::FxHashSet;

pub(super) fn without_value(
    workspace: &Workspace,
    engine: &Engine,
    settings: &Settings,
    steps: &[Step],
) -> Vec<Problem> {
    let (mut problems, mut told) = (Vec::new(), FxHashSet::default());
    let answers = Answers::default();
    // Every environment is looked at, not only the chosen one; what the command line gives counts in all.
    let everywhere = Settings { environment: None, ..settings.clone() };
    let tray = full_tray(workspace, steps);
    for step in steps {
        let mut memo = Memo::default();
        let reach = Reach { workspace, engine, settings: &everywhere, tray: &tray, answers: &answers };
        let mut lookup = Lookup::new(reach, step.cell, &step.needs, &mut memo);
        for used in lookup.names_lacking() {
            let environments = &workspace.config.environments;
            let has = |entries: &[Entry]| entries.iter().any(|entry| entry.name == used.name);
            let (having, lacking): (Vec<_>, Vec<_>) = environments.iter().partition(|own| has(&own.values));
            let span = used.span(workspace);
            if having.is_empty() {
                let found = lookup.named(&used.name, used.at.source, span, Stage::Before);
                problems.extend(found.err().into_iter().flatten());
            } else if !lacking.is_empty() && told.insert((used.at.source, used.name.clone())) {
                let names = |list: &[&crate::workspace::Environment]| {
                    enumerate(list.iter().map(|environment| environment.name.as_str()))
                };
                let message = format!("`{}` has no value in {}", used.name, names(&lacking));
                let hint = format!("{} {} it", names(&having), if having.len() == 1 { "has" } else { "have" });
                let remark = Problem::remark(Code::MissingValue, span, message);
                problems.push(remark.with_hint(hint).in_source(used.at.source));
            }
        }
    }
    problems
}

/// A tray on which everything lies that the cells would yield: what a response gives is not missing.
fn full_tray(workspace: &Workspace, steps: &[Step]) -> Tray {
    let mut tray = Tray::default();
    let needed = steps.iter().flat_map(|step| &step.needs);
    let all: FxHashSet<CellId> = steps.iter().map(|step| &step.cell).chain(needed).copied().collect();
    for cell in all {
        for name in yields(workspace, cell) {
            let (value, source, cell) = (Value::null(), cell.source, Some(cell));
            tray.put_beside(name, Yielded { value, source, cell, secret: false, kept_at: None });
        }
    }
    tray
}
