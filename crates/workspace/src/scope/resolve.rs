//! Resolves a name to its value.

use super::binding::Binding;
use super::compile::UseSite;
use super::{Phase, Resolver, missing};
use crate::config::ValueEntry;
use crate::secret::{Destinations, UsedSecret};
use yieldtray_expression::Value;
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{InstructionKind, is_graphql_name, is_language_name, is_late_name};

impl Resolver<'_> {
    /// The value of one name, used at `at` of `source`.
    pub fn value_of(
        &mut self,
        name: &str,
        source: SourceId,
        at: Span,
        mut phase: Phase<'_, '_>,
    ) -> Result<Value, Vec<Problem>> {
        self.resolve(name, source, UseSite::Here(at), &mut phase)
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
                let place = at.place(self.context.engine, name, &self.workspace.source(source).text);
                let waiting = self.stack.last().map(|(waiting, ..)| waiting.as_str());
                vec![missing::response_name(name, place, waiting).in_source(source)]
            });
        }
        let first = self.candidates(name).next();
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
        if first.is_none()
            && (is_late_name(name) || (is_graphql_name(name) && self.workspace.cell(self.cell).is_graphql()))
            && let Phase::Response(names) = phase
            && let Some(value) = names.get(name)
        {
            return Ok(value);
        }
        let Some(found) = first else {
            let place = at.place(self.context.engine, name, &self.workspace.source(source).text);
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
                    let place = at.place(self.context.engine, name, &self.workspace.source(source).text);
                    let problem = Problem::error(Code::UnavailableSource, place, absent.message.clone())
                        .with_hint(absent.hint.clone())
                        .with_related(entry.source, entry.span, "it is defined here");
                    return Err(vec![problem.in_source(source)]);
                }
            },
        };
        if let Some(destinations) = destinations {
            let place = at.place(self.context.engine, name, &self.workspace.source(source).text);
            let used = UsedSecret::new(value.clone(), name, destinations, (source, place));
            self.cache.secrets.push(UsedSecret { defined_at, ..used });
        }
        Ok(value)
    }

    /// The destinations of an answer. Without a `base` it was typed for this very request.
    fn destinations_of_answer(&self) -> Destinations {
        if self.base_origin().is_some() { Destinations::Base } else { Destinations::Any }
    }

    fn outranks_row(&self, found: &Binding<'_>) -> bool {
        let own = self.workspace.cell(self.cell).span;
        let is_own = |(source, line): (SourceId, Span)| source == self.cell.source && own.contains(line);
        matches!(found, Binding::Set(_)) || found.line().is_some_and(is_own)
    }

    /// Whether the configuration or the cell itself says that a value of that name is secret.
    pub(super) fn is_declared_secret(&self, name: &str) -> bool {
        let text = &self.workspace.source(self.cell.source).text;
        self.workspace.config.is_secret(name)
            || self.context.settings.is_set_secret(name)
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
