//! Names that cells use and nobody gives, in no environment or in some.

use rustc_hash::FxHashSet;
use yieldtray_expression::{Engine, Value};
use yieldtray_source::{Code, Problem, join_words};
use yieldtray_workspace::config::ValueEntry;
use yieldtray_workspace::plan::Step;
use yieldtray_workspace::scope::{
    CapturedValue, EvalCache, EvalContext, EvalSettings, NameUse, Phase, PlayArgNames, Resolver, Tray, yields,
};
use yieldtray_workspace::{CellId, Workspace};

/// A cell of the plan, and the names it uses.
pub(super) struct Uses<'p> {
    pub(super) step: &'p Step,
    pub(super) names: Vec<NameUse>,
}

/// The names that each cell uses, collected once.
pub(super) fn uses<'p>(
    workspace: &Workspace,
    engine: &Engine,
    settings: &EvalSettings,
    steps: &'p [Step],
) -> Vec<Uses<'p>> {
    let context = EvalContext::static_of(workspace, engine, settings);
    let names = |step: &Step| Resolver::new(context, step.cell, &step.needs, &mut EvalCache::default()).names_used();
    steps.iter().map(|step| Uses { step, names: names(step) }).collect()
}

pub(super) fn without_value(
    workspace: &Workspace,
    engine: &Engine,
    settings: &EvalSettings,
    uses: &[Uses<'_>],
) -> Vec<Problem> {
    let (mut problems, mut reported) = (Vec::new(), FxHashSet::default());
    // Every environment is looked at, not only the chosen one; what the command line gives counts in all.
    let everywhere = EvalSettings { environment: None, ..settings.clone() };
    let (tray, given) = (full_tray(workspace, uses), PlayArgNames::of(workspace));
    for Uses { step, names } in uses {
        let mut cache = EvalCache::default();
        let context = EvalContext { tray: &tray, ..EvalContext::static_of(workspace, engine, &everywhere) };
        let mut resolver = Resolver::new(context, step.cell, &step.needs, &mut cache);
        for used in resolver.unresolved_among(names.clone(), &given) {
            let environments = &workspace.config.environments;
            let has = |entries: &[ValueEntry]| entries.iter().any(|entry| entry.name == used.name);
            let (having, lacking): (Vec<_>, Vec<_>) = environments.iter().partition(|own| has(&own.values));
            if having.is_empty() {
                let span = used.span(workspace, engine);
                let found = resolver.value_of(&used.name, used.at.source, span, Phase::Request);
                problems.extend(found.err().into_iter().flatten());
            } else if !lacking.is_empty() && reported.insert((used.at.source, used.name.clone())) {
                let names = |list: &[&yieldtray_workspace::config::Environment]| {
                    join_words(list.iter().map(|environment| environment.name.as_str()))
                };
                let message = format!("`{}` has no value in {}", used.name, names(&lacking));
                let hint = format!("{} {} it", names(&having), if having.len() == 1 { "has" } else { "have" });
                let warning = Problem::warning(Code::MissingValue, used.span(workspace, engine), message);
                problems.push(warning.with_hint(hint).in_source(used.at.source));
            }
        }
    }
    problems
}

/// A tray with every value that the cells would capture: such values are not missing.
fn full_tray(workspace: &Workspace, uses: &[Uses<'_>]) -> Tray {
    let mut tray = Tray::default();
    let needed = uses.iter().flat_map(|uses| &uses.step.needs);
    let all: FxHashSet<CellId> = uses.iter().map(|uses| &uses.step.cell).chain(needed).copied().collect();
    for cell in all {
        for name in yields(workspace, cell) {
            let (value, source, cell) = (Value::null(), cell.source, Some(cell));
            tray.put_relative(name, CapturedValue { value, source, cell, secret: false, origin: None, kept_at: None });
        }
    }
    tray
}
