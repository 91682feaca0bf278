//! Evaluating the expressions of a cell.

use super::compile::{UseSite, compile_problem};
use super::{Phase, Resolver, compile};
use crate::config::how_to_read;
use crate::secret::{Destinations, UsedSecret};
use std::sync::Arc;
use yieldtray_expression::{Bindings, CompileError, Compiled, Value, is_type_name};
use yieldtray_source::names::is_value_name;
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{Segment, Template, is_graphql_name, is_language_name, is_late_name};

impl Resolver<'_> {
    /// Compiles the expression at `span`; its faults become problems with their place.
    pub fn compile(&self, source: SourceId, span: Span) -> Result<Arc<Compiled>, Vec<Problem>> {
        compile(self.workspace, self.context.engine, source, span)
    }

    /// The names in `compiled` that will have no value when it runs after the response, found before
    /// anything is sent. `yielded` are the names the cell itself yields before.
    pub fn missing(&mut self, compiled: &Compiled, source: SourceId, span: Span, yielded: &[&str]) -> Vec<Problem> {
        let is_graphql = self.workspace.cell(self.cell).is_graphql();
        let given = |name: &str| {
            (is_language_name(name) && name != "row")
                || is_type_name(name)
                || yielded.contains(&name)
                || is_late_name(name)
                || (is_graphql && is_graphql_name(name))
        };
        let mut problems = Vec::new();
        for name in compiled.names().filter(|name| !given(name)) {
            if let Err(found) = self.resolve(name, source, UseSite::In(span), &mut Phase::Request) {
                problems.extend(found);
            }
        }
        problems
    }

    /// Works out the expression at `span` of `source`.
    pub fn evaluate(&mut self, source: SourceId, span: Span, mut phase: Phase<'_, '_>) -> Result<Value, Vec<Problem>> {
        let text = span.of(&self.workspace.source(source).text);
        // A plain name is looked up and nothing else.
        if is_value_name(text) && !is_language_name(text) {
            return self.resolve(text, source, UseSite::Here(span), &mut phase);
        }
        let compiled = self.compile(source, span)?;
        let bindings = self.bind(&compiled, source, span, phase)?;
        self.context
            .engine
            .evaluate(&compiled, &bindings, self.context.random)
            .map_err(|error| vec![Problem::error(Code::FailedExpression, span, error.as_str()).in_source(source)])
    }

    /// Evaluates an expression that is not in a text of the workspace but was named at `at` of `source`.
    pub fn evaluate_text(&mut self, text: &str, source: SourceId, at: Span) -> Result<Value, Vec<Problem>> {
        let compiled = self.context.engine.compile(text).map_err(|errors| {
            let problem = |error: &CompileError| compile_problem(error, at, source);
            errors.iter().map(problem).collect::<Vec<_>>()
        })?;
        let bindings = self.bind(&compiled, source, at, Phase::Request)?;
        let value = self.context.engine.evaluate(&compiled, &bindings, self.context.random);
        value.map_err(|error| vec![Problem::error(Code::FailedExpression, at, error.as_str()).in_source(source)])
    }

    /// The text at `span` with its placeholders resolved; one that cannot be resolved stays as written.
    pub fn render(&mut self, source: SourceId, span: Span, mut phase: Phase<'_, '_>) -> String {
        let text = &self.workspace.source(source).text;
        let template = Template::parse(text, span, false, &mut Vec::new());
        let mut out = String::new();
        for segment in &template.segments {
            match segment {
                Segment::Text(span) => out.push_str(span.of(text)),
                Segment::Escape(_) => {}
                Segment::Placeholder { span, expression } => match self.evaluate(source, *expression, phase.reborrow())
                {
                    Ok(value) => out.push_str(&value.to_text().unwrap_or_else(|_| value.show().into())),
                    Err(_) => out.push_str(span.of(text)),
                },
            }
        }
        out
    }

    /// The values of all names that `compiled`, at `span`, uses. Reports all that are missing.
    pub fn bind<'c>(
        &mut self,
        compiled: &'c Compiled,
        source: SourceId,
        span: Span,
        mut phase: Phase<'_, '_>,
    ) -> Result<Bindings<'c>, Vec<Problem>> {
        let (mut bindings, mut problems) = (Bindings::default(), Vec::new());
        if compiled.reads_files() {
            bindings.files = Some(self.workspace.reader(source));
        }
        for name in compiled.names() {
            if name == "env" {
                match self.environment_variables(compiled, source, span) {
                    Ok(value) => bindings.insert(name, value),
                    Err(found) => problems.extend(found),
                }
                continue;
            }
            match self.resolve(name, source, UseSite::In(span), &mut phase) {
                Ok(value) => bindings.insert(name, value),
                Err(_) if is_type_name(name) => {}
                Err(found) => problems.extend(found),
            }
        }
        if problems.is_empty() { Ok(bindings) } else { Err(problems) }
    }

    /// The value of `env` for an expression: the variables that it names. All of them are secret.
    fn environment_variables(
        &mut self,
        compiled: &Compiled,
        source: SourceId,
        span: Span,
    ) -> Result<Value, Vec<Problem>> {
        let text = &self.workspace.source(source).text;
        let place = UseSite::In(span).place(self.context.engine, "env", text);
        let variables = &self.context.settings.variables;
        let withheld = |name: &&String| variables.withholds(name);
        if let Some(name) = compiled.required_variables().iter().find(withheld) {
            let message = format!("this workspace may not read the environment variable `{name}`");
            let problem = Problem::error(Code::MissingValue, place, message).with_hint(how_to_read(name));
            return Err(vec![problem.in_source(source)]);
        }
        let mut pairs = Vec::new();
        for name in compiled.variables() {
            if let Some(value) = variables.get(name) {
                let value = Value::text(value);
                let called = format!("env.{name}");
                let used = UsedSecret::new(value.clone(), &called, Destinations::Base, (source, place));
                self.cache.secrets.push(used);
                pairs.push((name.clone(), value));
            }
        }
        Ok(Value::map(pairs))
    }

    pub(super) fn answer(
        &self,
        name: &str,
        origin: SourceId,
        line: Span,
        question: Span,
    ) -> Result<(Value, bool), Vec<Problem>> {
        let question = question.of(&self.workspace.source(origin).text);
        self.context.answers.find(name, question).cloned().ok_or_else(|| {
            let message = format!("`{name}` must be prompted for, which is not possible here: “{question}”");
            let problem = Problem::error(Code::UnansweredPrompt, line, message).with_missing(name, None);
            vec![problem.with_hint(format!("pass `--set {name}=…`")).in_source(origin)]
        })
    }

    pub(super) fn evaluate_let(
        &mut self,
        name: &str,
        origin: SourceId,
        line: Span,
        expression: Span,
    ) -> Result<Value, Vec<Problem>> {
        if let Some(value) = self.cache.let_value(origin, line) {
            return Ok(value.clone());
        }
        if let Some(first) = self.stack.iter().position(|(_, source, span)| (*source, *span) == (origin, line)) {
            let names: Vec<&str> = self.stack[first..].iter().map(|(name, ..)| name.as_str()).chain([name]).collect();
            let message = format!("circular definition: {}", names.join(" → "));
            let problem = Problem::error(Code::VariableCycle, line, message)
                .with_hint("define one of them without the others")
                .in_source(origin);
            return Err(vec![problem]);
        }
        self.stack.push((name.to_owned(), origin, line));
        // A `let` is part of the request: the response cannot change what was sent.
        let outcome = self.evaluate(origin, expression, Phase::Request);
        self.stack.pop();
        let value = outcome?;
        self.cache.store_let(origin, line, value.clone());
        Ok(value)
    }

    /// The value of a name of the language; `None` if only the response has it.
    pub(super) fn language_value(&mut self, name: &str, phase: &mut Phase<'_, '_>) -> Option<Value> {
        let settings = self.context.settings;
        match name {
            "row" => self.cache.row.clone(),
            "environment" => Some(settings.environment.as_deref().map_or_else(Value::null, Value::from)),
            "request" => Some(Value::map([
                ("name", Value::from(&*self.workspace.cell(self.cell).name)),
                ("title", Value::from(self.workspace.title(self.cell))),
                ("file", Value::from(self.workspace.shown_path(self.cell.source))),
                ("tags", Value::list(self.workspace.tags(self.cell).into_iter().map(Value::from))),
            ])),
            _ => match phase.reborrow() {
                Phase::Request => None,
                Phase::Response(names) => names.get(name),
            },
        }
    }
}
