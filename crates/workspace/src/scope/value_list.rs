//! Lists names with their current values and origins.

use super::Binding;
use crate::CellId;
use crate::config::ValueEntry;
use crate::scope::{CapturedValue, EvalCache, EvalContext, PlayArgNames, Resolver};
use crate::secret::Masker;
use rustc_hash::FxHashSet;
use yieldtray_expression as expression;
use yieldtray_source::{Problem, SourceId, Span};
use yieldtray_syntax::InstructionKind;

/// A name with what is known of it.
#[derive(Clone, Debug)]
pub struct ValueRow {
    /// The name.
    pub name: String,
    /// Its value.
    pub value: ValueState,
    /// Where that comes from; `None` where nothing gives it.
    pub origin: Option<Origin>,
    /// The bindings that it shadows, the next in order first.
    pub shadows: Vec<Origin>,
}

/// A value as far as it is known without sending anything.
#[derive(Clone, Debug)]
pub enum ValueState {
    /// This value.
    Known(expression::Value),
    /// A secret.
    Secret(expression::Value),
    /// Made up each time, by this expression.
    MadeUp(String),
    /// Asked for at sending, by this question.
    Asked(String),
    /// From a command, which is not run only to be looked at.
    NotRun(String),
    /// None: why.
    None(Problem),
}

/// Where a value comes from.
#[derive(Clone, Debug, PartialEq)]
pub struct Origin {
    /// Its kind.
    pub kind: OriginKind,
    /// The source and the span, if it is in a text.
    pub place: Option<(SourceId, Span)>,
}

/// The sorts of places that give values.
#[derive(Clone, Debug, PartialEq)]
pub enum OriginKind {
    /// `--set`
    Set,
    /// `% let` of a cell or a preamble.
    Let,
    /// `% ask` of a cell.
    Ask,
    /// The tray: the cell that yielded it, and when it was kept.
    Tray(Option<CellId>, Option<i64>),
    /// An environment of the configuration, and where its value comes from in turn.
    Environment(String, Option<String>),
    /// `[values]` of the configuration, and where its value comes from in turn.
    Everywhere(Option<String>),
}

impl Origin {
    /// Where it is, as somebody would look for it.
    pub fn describe(&self, workspace: &crate::Workspace) -> String {
        let line = |(source, span): (SourceId, Span)| workspace.shown_line(source, span.start());
        let place = self.place.map(line).unwrap_or_default();
        match &self.kind {
            OriginKind::Set => "set by --set".to_owned(),
            OriginKind::Let | OriginKind::Ask => format!("in {place}"),
            OriginKind::Tray(cell, _) => match cell {
                Some(cell) => format!("yielded by `{}`", workspace.cell(*cell).name),
                None => "from the tray".to_owned(),
            },
            OriginKind::Environment(name, from) => {
                let from = from.as_ref().map(|from| format!(", from {from}")).unwrap_or_default();
                format!("in {place}, environment {name}{from}")
            }
            OriginKind::Everywhere(from) => {
                let from = from.as_ref().map(|from| format!(", from {from}")).unwrap_or_default();
                format!("in {place}{from}")
            }
        }
    }

    /// Where a value that was found comes from.
    pub fn of(found: &Binding<'_>, workspace: &crate::Workspace) -> Self {
        let entry_place = |entry: &ValueEntry| Some((entry.source, entry.span));
        let (kind, place) = match found {
            Binding::Set(_) => (OriginKind::Set, None),
            Binding::Let { source, line, .. } => (OriginKind::Let, Some((*source, *line))),
            Binding::Ask { source, line, .. } => (OriginKind::Ask, Some((*source, *line))),
            Binding::Captured(CapturedValue { cell, kept_at, source, .. }) => {
                let span = cell.map(|cell| workspace.cell(cell).span).unwrap_or_default();
                (OriginKind::Tray(*cell, *kept_at), Some((*source, span)))
            }
            Binding::Entry(entry, Some(environment)) => {
                (OriginKind::Environment(environment.name.clone(), entry.source_kind.describe()), entry_place(entry))
            }
            Binding::Entry(entry, None) => (OriginKind::Everywhere(entry.source_kind.describe()), entry_place(entry)),
        };
        Self { kind, place }
    }
}

/// The rows of the names that `cells` use, each cell with those it needs; with `declared`, also of the
/// names that are given but not used. Secrets that are met are added to `masker`.
pub fn list_values(
    context: EvalContext<'_>,
    cells: &[(CellId, Vec<CellId>)],
    declared: bool,
    masker: &mut Masker,
) -> Vec<ValueRow> {
    let mut surveyor =
        ValueLister { context, masker, rows: Vec::new(), known: FxHashSet::default(), named: FxHashSet::default() };
    let given = PlayArgNames::of(context.workspace);
    let mut last = None;
    for (cell, needs) in cells {
        let mut cache = EvalCache::default();
        let mut resolver = Resolver::new(context, *cell, needs, &mut cache);
        let used = resolver.names_used();
        for name in &used {
            surveyor.row(&mut resolver, &name.name);
        }
        for lacking in resolver.unresolved_among(used, &given) {
            surveyor.missing(&mut resolver, lacking);
        }
        if declared && last.replace(cell.source) != Some(cell.source) {
            for name in declared_names(&resolver) {
                surveyor.row(&mut resolver, &name);
            }
        }
    }
    let mut rows = surveyor.rows;
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    rows
}

/// The row of one name for a cell that directly needs `needs`; `None` where nothing gives or uses it.
pub fn value_row(
    context: EvalContext<'_>,
    cell: CellId,
    needs: &[CellId],
    name: &str,
    masker: &mut Masker,
) -> Option<ValueRow> {
    let mut surveyor =
        ValueLister { context, masker, rows: Vec::new(), known: FxHashSet::default(), named: FxHashSet::default() };
    let mut cache = EvalCache::default();
    let mut resolver = Resolver::new(context, cell, needs, &mut cache);
    surveyor.row(&mut resolver, name);
    if surveyor.rows.is_empty() {
        let used = resolver.names_used().into_iter().filter(|used| used.name == name).collect();
        for lacking in resolver.unresolved_among(used, &PlayArgNames::of(context.workspace)) {
            surveyor.missing(&mut resolver, lacking);
        }
    }
    surveyor.rows.pop()
}

/// The names given for a file, whether or not anything uses them.
fn declared_names(resolver: &Resolver<'_>) -> Vec<String> {
    let EvalContext { workspace, settings, tray, .. } = resolver.context;
    let config = &workspace.config;
    let entries = config.entries_for(settings.environment.as_deref());
    let lets = workspace.preambles(resolver.cell.source).filter_map(|(source, line)| match line.kind {
        InstructionKind::Let { name, .. } => Some(name.of(&workspace.source(source).text).to_owned()),
        _ => None,
    });
    let yielded = tray.iter().filter(|(_, yielded)| yielded.source == resolver.cell.source);
    let set = settings.set.iter().map(|(name, _)| name.clone());
    let all = entries.map(|entry| entry.name.clone()).chain(lets).chain(set);
    let mut names: Vec<String> = all.chain(yielded.map(|(name, _)| name.to_owned())).collect();
    names.sort_unstable();
    names.dedup();
    names
}

struct ValueLister<'s> {
    context: EvalContext<'s>,
    masker: &'s mut Masker,
    rows: Vec<ValueRow>,
    /// Names with the place that gives them, of which there is a row.
    known: FxHashSet<(String, Place)>,
    /// The missing values that were reported already: name and message.
    named: FxHashSet<String>,
}

/// The identity of a binding: its source and span, and whether it was captured.
type Place = (Option<(SourceId, Span)>, bool);

impl ValueLister<'_> {
    fn row(&mut self, resolver: &mut Resolver<'_>, name: &str) {
        let Some(first) = resolver.candidates(name).next() else { return };
        let place = place_of(&first);
        let key = (name.to_owned(), place);
        if self.known.contains(&key) {
            return;
        }
        let workspace = self.context.workspace;
        let origin = Origin::of(&first, workspace);
        // Bindings that another one shadows are listed too.
        let shadows = resolver.candidates(name).skip(1).map(|found| Origin::of(&found, workspace)).collect();
        let value = self.value(resolver, name, &first);
        self.known.insert(key);
        self.rows.push(ValueRow { name: name.to_owned(), value, origin: Some(origin), shadows });
    }

    fn missing(&mut self, resolver: &mut Resolver<'_>, used: crate::scope::NameUse) {
        let span = used.span(self.context.workspace, self.context.engine);
        let phase = crate::scope::Phase::Request;
        let Err(problems) = resolver.value_of(&used.name, used.at.source, span, phase) else { return };
        for problem in problems {
            if self.named.insert(format!("{} {}", used.name, problem.message)) {
                let value = ValueState::None(problem);
                self.rows.push(ValueRow { name: used.name.clone(), value, origin: None, shadows: Vec::new() });
            }
        }
    }

    fn value(&mut self, resolver: &mut Resolver<'_>, name: &str, found: &Binding<'_>) -> ValueState {
        let workspace = self.context.workspace;
        match found {
            Binding::Entry(entry, _) if entry.source_kind.asks_a_program() => {
                return ValueState::NotRun(entry.source_kind.describe().unwrap_or_default());
            }
            Binding::Ask { source, question, .. } => {
                return ValueState::Asked(question.of(&workspace.source(*source).text).to_owned());
            }
            Binding::Let { source, expression, .. } => {
                let compiled = resolver.compile(*source, *expression);
                if compiled.is_ok_and(|compiled| compiled.is_made_up()) {
                    return ValueState::MadeUp(expression.of(&workspace.source(*source).text).to_owned());
                }
            }
            _ => {}
        }
        let of_cell = (resolver.cell.source, workspace.cell(resolver.cell).span);
        let place = found.line().unwrap_or(of_cell);
        let value = resolver.value_of(name, place.0, place.1, crate::scope::Phase::Request);
        let secret = match found {
            Binding::Entry(entry, _) => entry.secret,
            Binding::Captured(captured) => captured.secret,
            _ => false,
        } || resolver.is_declared_secret(name);
        self.masker.learn(resolver.cache.new_secrets());
        match value {
            // A `let` may use a secret without being one: the masker hides that part of it.
            Ok(value) if secret && found.line().is_none() => ValueState::Secret(value),
            Ok(value) => ValueState::Known(value),
            Err(problems) => match problems.into_iter().next() {
                Some(problem) => ValueState::None(problem),
                None => ValueState::Known(expression::Value::null()),
            },
        }
    }
}

fn place_of(found: &Binding<'_>) -> Place {
    match found {
        Binding::Set(_) => (None, false),
        Binding::Let { source, line, .. } | Binding::Ask { source, line, .. } => (Some((*source, *line)), false),
        Binding::Captured(yielded) => (Some((yielded.source, Span::default())), true),
        Binding::Entry(entry, _) => (Some((entry.source, entry.span)), false),
    }
}

/// A name in each environment.
#[derive(Clone, Debug)]
pub struct EnvironmentComparison {
    /// The name.
    pub name: String,
    /// Its value in each environment, in the order of the configuration; `None` where it is missing.
    pub values: Vec<Option<ValueState>>,
    /// Whether every environment gives it, and all the same.
    pub equal: bool,
}

/// The names that the configuration gives, side by side in all environments.
pub fn across(context: EvalContext<'_>, masker: &mut Masker) -> Vec<EnvironmentComparison> {
    let config = &context.workspace.config;
    let mut names: Vec<&str> = config.all_entries().map(|entry| entry.name.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    let outside = context.outside();
    names
        .into_iter()
        .map(|name| {
            let values: Vec<Option<ValueState>> = config
                .environments
                .iter()
                .map(|environment| {
                    let entry = config.entry(Some(&environment.name), name)?;
                    if entry.source_kind.asks_a_program() {
                        return Some(ValueState::NotRun(entry.source_kind.describe().unwrap_or_default()));
                    }
                    let value = entry.value(&outside).ok()?.into_owned();
                    if entry.secret {
                        masker.learn([value.clone()]);
                        return Some(ValueState::Secret(value));
                    }
                    Some(ValueState::Known(value))
                })
                .collect();
            let plain = |value: &Option<ValueState>| match value {
                Some(ValueState::Known(value) | ValueState::Secret(value)) => Some(value.clone()),
                _ => None,
            };
            let first = values.first().and_then(plain);
            let equal = values.len() > 1 && first.is_some() && values.iter().all(|value| plain(value) == first);
            EnvironmentComparison { name: name.to_owned(), values, equal }
        })
        .collect()
}
