//! What each name is now, where it comes from, and whether it is set at all.

use super::lookup::Found;
use crate::CellId;
use crate::config::Entry;
use crate::scope::{Lookup, Memo, PlayedWith, Reach, Yielded};
use crate::secret::Masker;
use rustc_hash::FxHashSet;
use yieldtray_expression as expression;
use yieldtray_source::Span;
use yieldtray_source::{Problem, SourceId};
use yieldtray_syntax::Kind;

/// A name with what is known of it.
#[derive(Clone, Debug)]
pub struct Row {
    /// The name.
    pub name: String,
    /// Its value.
    pub value: Value,
    /// Where that comes from; `None` where nothing gives it.
    pub origin: Option<Origin>,
    /// What else would give it a value, the next in order first.
    pub hides: Vec<Origin>,
}

/// A value as far as it can be told without sending anything.
#[derive(Clone, Debug)]
pub enum Value {
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
    /// What sort of place it is.
    pub kind: OriginKind,
    /// The place, where it stands in a text.
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
    pub fn words(&self, workspace: &crate::Workspace) -> String {
        let line = |(source, span): (SourceId, Span)| workspace.shown_line(source, span.start());
        let place = self.place.map(line).unwrap_or_default();
        match &self.kind {
            OriginKind::Set => "given by --set".to_owned(),
            OriginKind::Let | OriginKind::Ask => format!("in {place}"),
            OriginKind::Tray(cell, _) => match cell {
                Some(cell) => format!("which `{}` yielded", workspace.cell(*cell).name),
                None => "which lay on the tray".to_owned(),
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
    pub fn of(found: &Found<'_>, workspace: &crate::Workspace) -> Self {
        let entry_place = |entry: &Entry| Some((entry.source, entry.span));
        let (kind, place) = match found {
            Found::Set(_) => (OriginKind::Set, None),
            Found::Line(source, line) => {
                let kind = if matches!(line.kind, Kind::Ask { .. }) { OriginKind::Ask } else { OriginKind::Let };
                (kind, Some((*source, line.span)))
            }
            Found::Yielded(Yielded { cell, kept_at, source, .. }) => {
                let span = cell.map(|cell| workspace.cell(cell).span).unwrap_or_default();
                (OriginKind::Tray(*cell, *kept_at), Some((*source, span)))
            }
            Found::Entry(entry, Some(environment)) => {
                (OriginKind::Environment(environment.name.clone(), entry.given.words()), entry_place(entry))
            }
            Found::Entry(entry, None) => (OriginKind::Everywhere(entry.given.words()), entry_place(entry)),
        };
        Self { kind, place }
    }
}

/// The rows of the names that `cells` use, each cell with those it needs; with `declared`, also of the
/// names that are given but not used. Secrets that are met are added to `masker`.
pub fn survey(reach: Reach<'_>, cells: &[(CellId, Vec<CellId>)], declared: bool, masker: &mut Masker) -> Vec<Row> {
    let mut surveyor =
        Surveyor { reach, masker, rows: Vec::new(), known: FxHashSet::default(), named: FxHashSet::default() };
    let given = PlayedWith::of(reach.workspace);
    let mut last = None;
    for (cell, needs) in cells {
        let mut memo = Memo::default();
        let mut lookup = Lookup::new(reach, *cell, needs, &mut memo);
        let used = lookup.names_used();
        for name in &used {
            surveyor.row(&mut lookup, &name.name);
        }
        for lacking in lookup.lacking_of(used, &given) {
            surveyor.missing(&mut lookup, lacking);
        }
        if declared && last.replace(cell.source) != Some(cell.source) {
            for name in declared_names(&lookup) {
                surveyor.row(&mut lookup, &name);
            }
        }
    }
    let mut rows = surveyor.rows;
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    rows
}

/// The row of one name for a cell that directly needs `needs`; `None` where nothing gives or uses it.
pub fn survey_one(reach: Reach<'_>, cell: CellId, needs: &[CellId], name: &str, masker: &mut Masker) -> Option<Row> {
    let mut surveyor =
        Surveyor { reach, masker, rows: Vec::new(), known: FxHashSet::default(), named: FxHashSet::default() };
    let mut memo = Memo::default();
    let mut lookup = Lookup::new(reach, cell, needs, &mut memo);
    surveyor.row(&mut lookup, name);
    if surveyor.rows.is_empty() {
        let used = lookup.names_used().into_iter().filter(|used| used.name == name).collect();
        for lacking in lookup.lacking_of(used, &PlayedWith::of(reach.workspace)) {
            surveyor.missing(&mut lookup, lacking);
        }
    }
    surveyor.rows.pop()
}

/// The names given for a file, whether or not anything uses them.
fn declared_names(lookup: &Lookup<'_>) -> Vec<String> {
    let Reach { workspace, settings, tray, .. } = lookup.reach;
    let config = &workspace.config;
    let entries = config.entries_for(settings.environment.as_deref());
    let lets = workspace.preambles(lookup.cell.source).filter_map(|(source, line)| match line.kind {
        Kind::Let { name, .. } => Some(name.of(&workspace.source(source).text).to_owned()),
        _ => None,
    });
    let yielded = tray.iter().filter(|(_, yielded)| yielded.source == lookup.cell.source);
    let set = settings.set.iter().map(|(name, _)| name.clone());
    let all = entries.map(|entry| entry.name.clone()).chain(lets).chain(set);
    let mut names: Vec<String> = all.chain(yielded.map(|(name, _)| name.to_owned())).collect();
    names.sort_unstable();
    names.dedup();
    names
}

struct Surveyor<'s> {
    reach: Reach<'s>,
    masker: &'s mut Masker,
    rows: Vec<Row>,
    /// Names with the place that gives them, of which there is a row.
    known: FxHashSet<(String, Place)>,
    /// What was already told to be missing, by its words.
    named: FxHashSet<String>,
}

/// What tells one giving place from another: its text and where, or that it has none.
type Place = (Option<(SourceId, Span)>, bool);

impl Surveyor<'_> {
    fn row(&mut self, lookup: &mut Lookup<'_>, name: &str) {
        let Some(first) = lookup.places(name).next() else { return };
        let place = place_of(&first);
        let key = (name.to_owned(), place);
        if self.known.contains(&key) {
            return;
        }
        let workspace = self.reach.workspace;
        let origin = Origin::of(&first, workspace);
        // A response can be yielded again and a default overridden: what is hidden is told all the same.
        let hides = lookup.places(name).skip(1).map(|found| Origin::of(&found, workspace)).collect();
        let value = self.value(lookup, name, &first);
        self.known.insert(key);
        self.rows.push(Row { name: name.to_owned(), value, origin: Some(origin), hides });
    }

    fn missing(&mut self, lookup: &mut Lookup<'_>, used: crate::scope::NameUse) {
        let span = used.span(self.reach.workspace);
        let stage = crate::scope::Stage::Before;
        let Err(problems) = lookup.named(&used.name, used.at.source, span, stage) else { return };
        for problem in problems {
            if self.named.insert(format!("{} {}", used.name, problem.message)) {
                let value = Value::None(problem);
                self.rows.push(Row { name: used.name.clone(), value, origin: None, hides: Vec::new() });
            }
        }
    }

    fn value(&mut self, lookup: &mut Lookup<'_>, name: &str, found: &Found<'_>) -> Value {
        let workspace = self.reach.workspace;
        match found {
            Found::Entry(entry, _) if entry.given.is_command() => {
                return Value::NotRun(entry.given.words().unwrap_or_default());
            }
            Found::Line(source, line) => match line.kind {
                Kind::Ask { question, .. } => {
                    return Value::Asked(question.of(&workspace.source(*source).text).to_owned());
                }
                Kind::Let { expression, .. } => {
                    let compiled = lookup.compile(*source, expression);
                    if compiled.is_ok_and(|compiled| compiled.is_made_up()) {
                        return Value::MadeUp(expression.of(&workspace.source(*source).text).to_owned());
                    }
                }
                _ => {}
            },
            _ => {}
        }
        let place = match found {
            Found::Line(source, line) => (*source, line.span),
            _ => (lookup.cell.source, workspace.cell(lookup.cell).span),
        };
        let value = lookup.named(name, place.0, place.1, crate::scope::Stage::Before);
        let secret = !lookup.memo.secrets.is_empty();
        self.masker.learn(lookup.memo.new_secrets());
        match value {
            // A `let` may use a secret without being one: the masker hides that part of it.
            Ok(value) if secret && !matches!(found, Found::Line(..)) => Value::Secret(value),
            Ok(value) => Value::Known(value),
            Err(problems) => match problems.into_iter().next() {
                Some(problem) => Value::None(problem),
                None => Value::Known(expression::Value::null()),
            },
        }
    }
}

fn place_of(found: &Found<'_>) -> Place {
    match found {
        Found::Set(_) => (None, false),
        Found::Line(source, line) => (Some((*source, line.span)), false),
        Found::Yielded(yielded) => (Some((yielded.source, Span::default())), true),
        Found::Entry(entry, _) => (Some((entry.source, entry.span)), false),
    }
}

/// A name in each environment.
#[derive(Clone, Debug)]
pub struct Across {
    /// The name.
    pub name: String,
    /// Its value in each environment, in the order of the configuration; `None` where it is missing.
    pub values: Vec<Option<Value>>,
    /// Whether every environment gives it, and all the same.
    pub equal: bool,
}

/// The names that the configuration gives, side by side in all environments.
pub fn across(reach: Reach<'_>, masker: &mut Masker) -> Vec<Across> {
    let config = &reach.workspace.config;
    let mut names: Vec<&str> = config.all_entries().map(|entry| entry.name.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    let outside = reach.outside();
    names
        .into_iter()
        .map(|name| {
            let values: Vec<Option<Value>> = config
                .environments
                .iter()
                .map(|environment| {
                    let entry = config.entry(Some(&environment.name), name)?;
                    if entry.given.is_command() {
                        return Some(Value::NotRun(entry.given.words().unwrap_or_default()));
                    }
                    let value = entry.value(&outside).ok()?.clone();
                    if entry.secret {
                        masker.learn([value.clone()]);
                        return Some(Value::Secret(value));
                    }
                    Some(Value::Known(value))
                })
                .collect();
            let plain = |value: &Option<Value>| match value {
                Some(Value::Known(value) | Value::Secret(value)) => Some(value.clone()),
                _ => None,
            };
            let first = values.first().and_then(plain);
            let equal = values.len() > 1 && first.is_some() && values.iter().all(|value| plain(value) == first);
            Across { name: name.to_owned(), values, equal }
        })
        .collect()
}
