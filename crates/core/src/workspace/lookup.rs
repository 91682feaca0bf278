use super::{CellId, Tray, Workspace, missing};
use crate::expression::{Bindings, Compiled, Engine, Fault, Value};
use crate::problem::{Code, Problem, SourceId};
use crate::response::ResponseNames;
use crate::syntax::{self, Instruction, Kind, Span, calls_and_names, is_language_name, is_value_name};
use std::collections::HashMap;

/// What the caller chose: the same for a whole run.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    /// The chosen environment.
    pub environment: Option<String>,
    /// `--set NAME=VALUE`, in order; the last of a name wins.
    pub set: Vec<(String, Value)>,
    /// The process environment, which `env.NAME` reads.
    pub process: Vec<(String, String)>,
}

/// What was worked out for one cell: a `let` has one value from the request to the last check.
#[derive(Debug, Default)]
pub struct Memo {
    lets: HashMap<(SourceId, Span), Value>,
    process: Option<Value>,
}

/// Whether the response is there yet.
pub enum Stage<'r, 'x> {
    /// The request is being made.
    Before,
    /// The answer is there.
    After(&'r mut ResponseNames<'x>),
}

impl<'x> Stage<'_, 'x> {
    fn again(&mut self) -> Stage<'_, 'x> {
        match self {
            Stage::Before => Stage::Before,
            Stage::After(names) => Stage::After(names),
        }
    }
}

/// Names that CEL gives to kinds of values: `type(x) == int`.
const TYPES: &[&str] = &["bool", "int", "uint", "double", "string", "bytes", "list", "map", "null_type", "type", "dyn"];

/// Finds the values one cell sees. First found wins: `--set`, the cell's own `let`, the tray, the
/// environment, the file's `let`, `_common.http` (the nearest first), `[values]`.
pub struct Lookup<'a> {
    /// The files and the configuration.
    pub workspace: &'a Workspace,
    /// Runs expressions.
    pub engine: &'a Engine,
    /// What the caller chose.
    pub settings: &'a Settings,
    /// What responses yielded.
    pub tray: &'a Tray,
    /// The cell that looks.
    pub cell: CellId,
    /// The cells it directly needs.
    pub needs: &'a [CellId],
    /// What was worked out for it already.
    pub memo: &'a mut Memo,
    /// The `let`s being worked out now, to notice those that need each other.
    chain: Vec<(String, SourceId, Span)>,
}

/// Where a name was found.
enum Found<'a> {
    Value(Value),
    Let(SourceId, &'a Instruction, Span),
}

impl<'a> Lookup<'a> {
    /// A look-up for `cell`.
    pub fn new(
        workspace: &'a Workspace,
        engine: &'a Engine,
        settings: &'a Settings,
        tray: &'a Tray,
        cell: CellId,
        needs: &'a [CellId],
        memo: &'a mut Memo,
    ) -> Self {
        Self { workspace, engine, settings, tray, cell, needs, memo, chain: Vec::new() }
    }

    /// Compiles the expression at `span`; its faults become problems with their place.
    pub fn compile(&self, source: SourceId, span: Span) -> Result<std::sync::Arc<Compiled>, Vec<Problem>> {
        compile(self.workspace, self.engine, source, span)
    }

    /// The names in `compiled` that will have no value when it runs after the response, found before
    /// anything is sent. `yielded` are the names the cell itself yields before.
    pub fn missing(&mut self, compiled: &Compiled, source: SourceId, span: Span, yielded: &[&str]) -> Vec<Problem> {
        let given =
            |name: &str| (is_language_name(name) && name != "row") || TYPES.contains(&name) || yielded.contains(&name);
        let mut problems = Vec::new();
        for name in compiled.names().iter().filter(|name| !given(name)) {
            if let Err(found) = self.resolve(name, source, At::In(span), &mut Stage::Before) {
                problems.extend(found);
            }
        }
        problems
    }

    /// Works out the expression at `span` of `source`.
    pub fn evaluate(&mut self, source: SourceId, span: Span, mut stage: Stage<'_, '_>) -> Result<Value, Vec<Problem>> {
        let text = span.of(&self.workspace.source(source).text);
        // A plain name is looked up and nothing else.
        if is_value_name(text) && !is_language_name(text) && !TYPES.contains(&text) {
            return self.resolve(text, source, At::Here(span), &mut stage);
        }
        let compiled = self.compile(source, span)?;
        let bindings = self.bind(&compiled, source, span, stage)?;
        self.engine
            .evaluate(&compiled, &bindings)
            .map_err(|message| vec![Problem::mistake(Code::FailedExpression, span, message).in_source(source)])
    }

    /// The value of one name, used at `at` of `source`.
    pub fn named(
        &mut self,
        name: &str,
        source: SourceId,
        at: Span,
        mut stage: Stage<'_, '_>,
    ) -> Result<Value, Vec<Problem>> {
        self.resolve(name, source, At::Here(at), &mut stage)
    }

    /// The values of all names that `compiled`, which stands at `span`, uses. All that are missing are
    /// reported.
    pub fn bind<'c>(
        &mut self,
        compiled: &'c Compiled,
        source: SourceId,
        span: Span,
        mut stage: Stage<'_, '_>,
    ) -> Result<Bindings<'c>, Vec<Problem>> {
        let (mut bindings, mut problems) = (Bindings::default(), Vec::new());
        for name in compiled.names() {
            match self.resolve(name, source, At::In(span), &mut stage) {
                Ok(value) => bindings.insert(name, value),
                Err(_) if TYPES.contains(&name.as_str()) => {}
                Err(found) => problems.extend(found),
            }
        }
        if problems.is_empty() { Ok(bindings) } else { Err(problems) }
    }

    /// The value of one name, used at `at`.
    fn resolve(
        &mut self,
        name: &str,
        source: SourceId,
        at: At,
        stage: &mut Stage<'_, '_>,
    ) -> Result<Value, Vec<Problem>> {
        let found =
            if is_language_name(name) { self.language_value(name, stage).map(Found::Value) } else { self.find(name) };
        match found {
            Some(Found::Value(value)) => Ok(value),
            Some(Found::Let(home, instruction, expression)) => self.work_out(name, home, instruction.span, expression),
            None => {
                let place = at.place(name, &self.workspace.source(source).text);
                let problem = if is_language_name(name) {
                    missing::response_name(name, place, self.chain.last().map(|(waiting, ..)| waiting.as_str()))
                } else {
                    missing::value(self, name, place)
                };
                Err(vec![problem.in_source(source)])
            }
        }
    }

    fn work_out(&mut self, name: &str, home: SourceId, line: Span, expression: Span) -> Result<Value, Vec<Problem>> {
        if let Some(value) = self.memo.lets.get(&(home, line)) {
            return Ok(value.clone());
        }
        if let Some(first) = self.chain.iter().position(|(_, source, span)| (*source, *span) == (home, line)) {
            let names: Vec<&str> = self.chain[first..].iter().map(|(name, ..)| name.as_str()).chain([name]).collect();
            let message = format!("values that need each other: {}", names.join(" → "));
            let problem = Problem::mistake(Code::ValueCycle, line, message)
                .with_hint("give one of them a value of its own")
                .in_source(home);
            return Err(vec![problem]);
        }
        self.chain.push((name.to_owned(), home, line));
        // A `let` is part of the request: the response cannot change what was sent.
        let outcome = self.evaluate(home, expression, Stage::Before);
        self.chain.pop();
        let value = outcome?;
        self.memo.lets.insert((home, line), value.clone());
        Ok(value)
    }

    fn find(&self, name: &str) -> Option<Found<'a>> {
        if let Some((_, value)) = self.settings.set.iter().rev().find(|(set, _)| set == name) {
            return Some(Found::Value(value.clone()));
        }
        let cell = self.workspace.cell(self.cell);
        if let Some(found) = self.find_let(name, self.cell.source, &cell.items) {
            return Some(found);
        }
        if let Some(yielded) = self.tray.get(name, self.cell.source, self.needs) {
            return Some(Found::Value(yielded.value.clone()));
        }
        if let Some(value) = self.environment_value(name) {
            return Some(Found::Value(value));
        }
        let commons = &self.workspace.source(self.cell.source).commons;
        for home in [self.cell.source].iter().chain(commons.iter().rev()) {
            if let Some(found) = self.find_let(name, *home, &self.workspace.source(*home).file.preamble) {
                return Some(found);
            }
        }
        let entry = self.workspace.config.values.iter().find(|entry| entry.name == name)?;
        Some(Found::Value(entry.value.clone()))
    }

    /// The last `let` of that name among `items`.
    fn find_let(&self, name: &str, home: SourceId, items: &'a [syntax::Item]) -> Option<Found<'a>> {
        let text = &self.workspace.source(home).text;
        syntax::instructions(items)
            .filter_map(|instruction| match instruction.kind {
                Kind::Let { name: own, expression } if own.of(text) == name => {
                    Some(Found::Let(home, instruction, expression))
                }
                _ => None,
            })
            .last()
    }

    fn environment_value(&self, name: &str) -> Option<Value> {
        let environment = self.workspace.config.environment(self.settings.environment.as_deref()?)?;
        environment.values.iter().find(|entry| entry.name == name).map(|entry| entry.value.clone())
    }

    /// What the language itself gives; `None` where only the response can.
    fn language_value(&mut self, name: &str, stage: &mut Stage<'_, '_>) -> Option<Value> {
        match name {
            "env" => {
                let process = &self.settings.process;
                let variables =
                    || Value::map(process.iter().map(|(name, value)| (name.clone(), Value::text(value.clone()))));
                Some(self.memo.process.get_or_insert_with(variables).clone())
            }
            "environment" => Some(self.settings.environment.as_deref().map_or_else(Value::null, Value::from)),
            "request" => Some(Value::map([
                ("name", Value::from(&*self.workspace.cell(self.cell).name)),
                ("title", Value::from(self.workspace.title(self.cell))),
                ("file", Value::from(self.workspace.shown_path(self.cell.source))),
                ("tags", Value::list(self.workspace.tags(self.cell).into_iter().map(Value::from))),
            ])),
            _ => match stage.again() {
                Stage::Before => None,
                Stage::After(names) => names.get(name),
            },
        }
    }

    /// Every name that has a value for this cell, for suggestions.
    pub(super) fn names(&self) -> Vec<&str> {
        let workspace = self.workspace;
        let config = &workspace.config;
        let environment = self.settings.environment.as_deref().and_then(|name| config.environment(name));
        let entries = config.values.iter().chain(environment.into_iter().flat_map(|environment| &environment.values));
        let own = workspace.cell(self.cell).instructions().map(|instruction| (self.cell.source, instruction));
        let declared = workspace.preambles(self.cell.source).chain(own).filter_map(|(source, instruction)| {
            let text = &workspace.source(source).text;
            match instruction.kind {
                Kind::Let { name, .. } | Kind::Yield { name, .. } => Some(name.of(text)),
                _ => None,
            }
        });
        let set = self.settings.set.iter().map(|(name, _)| name.as_str());
        entries.map(|entry| entry.name.as_str()).chain(declared).chain(set).collect()
    }
}

/// Compiles the expression at `span` of `source`; its faults become problems with their place.
pub(crate) fn compile(
    workspace: &Workspace,
    engine: &Engine,
    source: SourceId,
    span: Span,
) -> Result<std::sync::Arc<Compiled>, Vec<Problem>> {
    engine.compile(span.of(&workspace.source(source).text)).map_err(|faults| {
        let problem = |fault: &Fault| {
            let place = span.part(fault.span.start().min(span.len()), fault.span.end().min(span.len()));
            Problem::mistake(fault.code, place, fault.message.clone())
                .with_hint_if(fault.hint.clone())
                .in_source(source)
        };
        faults.iter().map(problem).collect()
    })
}

/// Where a name is used. The very place is looked for only when there is something to say about it.
#[derive(Clone, Copy)]
enum At {
    /// Just here.
    Here(Span),
    /// Somewhere in this expression.
    In(Span),
}

impl At {
    fn place(self, name: &str, text: &str) -> Span {
        let span = match self {
            At::Here(span) => return span,
            At::In(span) => span,
        };
        let expression = span.of(text);
        calls_and_names(expression)
            .into_iter()
            .find(|identifier| !identifier.member && !identifier.call && identifier.span.of(expression) == name)
            .map_or(span, |identifier| span.part(identifier.span.start(), identifier.span.end()))
    }
}
