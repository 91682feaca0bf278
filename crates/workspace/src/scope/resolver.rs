//! Finding the value of a name that a cell uses.

use super::binding::{Binding, defining_line};
use super::compile::UseSite;
use super::{EvalCache, EvalContext, Phase, missing};
use crate::config::ValueEntry;
use crate::secret::{Destinations, UsedSecret};
use crate::{CellId, Workspace};
use std::borrow::Cow;
use url::Url;
use yieldtray_expression::Value;
use yieldtray_http::origin_of;
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{InstructionKind, is_language_name};

/// Finds the values one cell sees. First found wins: `--set`, the cell's own `let` and `ask`, the
/// tray, the environment, the file's `let`, `_common.http` (the nearest first), `[values]`.
pub struct Resolver<'a> {
    /// Where it looks.
    pub context: EvalContext<'a>,
    /// The files and the configuration.
    pub workspace: &'a Workspace,
    /// The cell that looks.
    pub cell: CellId,
    /// The cells it directly needs.
    pub needs: &'a [CellId],
    /// The values evaluated so far.
    pub cache: &'a mut EvalCache,
    /// The `let`s being worked out now, to notice those that need each other.
    pub(super) stack: Vec<(String, SourceId, Span)>,
}

impl<'a> Resolver<'a> {
    /// A look-up for `cell`, which directly needs `needs`.
    pub fn new(context: EvalContext<'a>, cell: CellId, needs: &'a [CellId], cache: &'a mut EvalCache) -> Self {
        Self { context, workspace: context.workspace, cell, needs, cache, stack: Vec::new() }
    }

    /// The value of one name, used at `at` of `source`.
    pub fn named(
        &mut self,
        name: &str,
        source: SourceId,
        at: Span,
        mut phase: Phase<'_, '_>,
    ) -> Result<Value, Vec<Problem>> {
        self.resolve(name, source, UseSite::Here(at), &mut phase)
    }

    /// Every place that gives `name` a value to the cell, the one that wins first.
    pub fn places<'n>(&self, name: &'n str) -> impl Iterator<Item = Binding<'a>> + use<'a, 'n> {
        let EvalContext { workspace, settings, tray, .. } = self.context;
        let (cell, needs, place) = (self.cell, self.needs, self.cache.place());
        let source = cell.source;
        let set = settings.set_value(name).into_iter().map(Binding::Set);
        let own = move || defining_line(workspace, name, source, &workspace.cell(cell).items);
        let yielded = move || tray.get_at(name, source, needs, place).map(Binding::Captured);
        let environment = settings.environment.as_deref().and_then(|chosen| workspace.config.environment(chosen));
        let entries = environment.into_iter().flat_map(move |environment| {
            let named = environment.values.iter().filter(move |entry| entry.name == name);
            named.map(move |entry| Binding::Entry(entry, Some(environment)))
        });
        let inherited = &workspace.source(source).inherited;
        let preambles = [source].into_iter().chain(inherited.iter().rev().copied());
        let shared = preambles
            .filter_map(move |origin| defining_line(workspace, name, origin, &workspace.source(origin).file.preamble));
        let everywhere = workspace.config.values.iter().filter(move |entry| entry.name == name);
        set.chain(std::iter::once_with(own).flatten())
            .chain(std::iter::once_with(yielded).flatten())
            .chain(entries)
            .chain(shared)
            .chain(everywhere.map(|entry| Binding::Entry(entry, None)))
    }

    /// Every name that has a value for this cell, for suggestions.
    pub fn names(&self) -> Vec<&'a str> {
        let workspace = self.workspace;
        let entries = workspace.config.entries_for(self.context.settings.environment.as_deref());
        let own = workspace.cell(self.cell).instructions().map(|instruction| (self.cell.source, instruction));
        let declared = workspace.preambles(self.cell.source).chain(own).filter_map(|(source, instruction)| {
            let text = &workspace.source(source).text;
            match instruction.kind {
                InstructionKind::Let { name, .. }
                | InstructionKind::Ask { name, .. }
                | InstructionKind::Yield { name, .. } => Some(name.of(text)),
                _ => None,
            }
        });
        let set = self.context.settings.set.iter().map(|(name, _)| name.as_str());
        entries.map(|entry| entry.name.as_str()).chain(declared).chain(set).collect()
    }

    /// The value of one name, used at `at`.
    pub(super) fn resolve(
        &mut self,
        name: &str,
        source: SourceId,
        at: UseSite,
        phase: &mut Phase<'_, '_>,
    ) -> Result<Value, Vec<Problem>> {
        if is_language_name(name) {
            return self.language_value(name, phase).ok_or_else(|| {
                let place = at.place(name, &self.workspace.source(source).text);
                let waiting = self.stack.last().map(|(waiting, ..)| waiting.as_str());
                vec![missing::response_name(name, place, waiting).in_source(source)]
            });
        }
        let first = self.places(name).next();
        // Arguments that a sequence passes are meant for the cell: only `--set` wins over them.
        if !self.cache.with.is_empty()
            && !matches!(first, Some(Binding::Set(_)))
            && let Some((_, value)) = self.cache.with.iter().find(|(given, _)| given == name)
        {
            return Ok(value.clone());
        }
        // A row gives way to `--set` and to the cell's own lines alone.
        if let Some(row) = &self.cache.row
            && !first.as_ref().is_some_and(|found| self.outranks_row(found))
            && let Some(value) = row.member(name)
        {
            return Ok(value);
        }
        let Some(found) = first else {
            let place = at.place(name, &self.workspace.source(source).text);
            return Err(vec![missing::value(self, name, place).in_source(source)]);
        };
        let mut defined_at = None;
        let (value, destinations) = match found {
            Binding::Set(value) => {
                let declared = self.workspace.config.entry(self.context.settings.environment.as_deref(), name);
                let of_entry = declared.filter(|entry| entry.secret).map(destinations_of);
                (
                    value.clone(),
                    of_entry.or_else(|| self.is_declared_secret(name).then(|| self.destinations_of_answer())),
                )
            }
            Binding::Captured(captured) => {
                let destinations = || Destinations::CapturedFrom(captured.origin.clone());
                (captured.value.clone(), captured.secret.then(destinations))
            }
            Binding::Let { source, line, expression, .. } => (self.evaluate_let(name, source, line, expression)?, None),
            Binding::Ask { source, line, question, secret, .. } => {
                let (value, of_secret) = self.answer(name, source, line, question)?;
                (value, (secret || of_secret).then(|| self.destinations_of_answer()))
            }
            Binding::Entry(entry, _) => match entry.value(&self.context.outside()) {
                Ok(value) => {
                    defined_at = Some((entry.source, entry.span));
                    (value.into_owned(), entry.secret.then(|| destinations_of(entry)))
                }
                Err(absent) => {
                    let place = at.place(name, &self.workspace.source(source).text);
                    let problem = Problem::error(Code::AbsentSource, place, absent.message.clone())
                        .with_hint(absent.hint.clone())
                        .with_related(entry.source, entry.span, "it is described here");
                    return Err(vec![problem.in_source(source)]);
                }
            },
        };
        if let Some(destinations) = destinations {
            let place = at.place(name, &self.workspace.source(source).text);
            let used = UsedSecret::new(value.clone(), name, destinations, (source, place));
            self.cache.secrets.push(UsedSecret { defined_at, ..used });
        }
        Ok(value)
    }

    /// The destinations of an answer. Without a `base` it was typed for this very request.
    fn destinations_of_answer(&self) -> Destinations {
        if self.base_origin().is_some() { Destinations::Base } else { Destinations::Any }
    }

    /// The origin of `base`, as the command line or a configuration gives it: what a request file or a response
    /// says decides nothing about secrets.
    pub(crate) fn base_origin(&self) -> Option<String> {
        let EvalContext { workspace, settings, .. } = self.context;
        let entry = || {
            let entry = workspace.config.entry(settings.environment.as_deref(), "base")?;
            entry.value(&self.context.outside()).ok()
        };
        let base = settings.set_value("base").map(Cow::Borrowed).or_else(entry)?;
        let base = base.to_text().ok()?;
        Url::parse(&base).ok().filter(Url::has_host).map(|url| origin_of(&url))
    }

    fn outranks_row(&self, found: &Binding<'_>) -> bool {
        let own = self.workspace.cell(self.cell).span;
        let is_own = |(source, line): (SourceId, Span)| source == self.cell.source && own.contains(line);
        matches!(found, Binding::Set(_)) || found.line().is_some_and(is_own)
    }

    /// Whether the configuration or the cell itself says that a value of that name is secret.
    fn is_declared_secret(&self, name: &str) -> bool {
        let text = &self.workspace.source(self.cell.source).text;
        self.workspace.config.is_secret(name)
            || self.workspace.cell(self.cell).instructions().any(|line| match line.kind {
                InstructionKind::Ask { name: own, secret, .. } | InstructionKind::Yield { name: own, secret, .. } => {
                    secret && own.of(text) == name
                }
                _ => false,
            })
    }
}

/// Where a secret of a configuration may be sent.
fn destinations_of(entry: &ValueEntry) -> Destinations {
    match entry.origins.is_empty() {
        true => Destinations::Base,
        false => Destinations::Listed(entry.origins.clone()),
    }
}
