use super::missing;
use crate::config::how_to_read;
use crate::config::{Entry, Outside};
use crate::config::{Environment, Variables};
use crate::scope::ResponseNames;
use crate::scope::{Tray, Yielded};
use crate::secret::{Destinations, UsedSecret};
use crate::{CellId, Workspace};
use rustc_hash::FxHashMap;
use std::sync::Arc;
use url::Url;
use yieldtray_expression::{Bindings, Compiled, Engine, Fault, Value, is_type_name};
use yieldtray_http::origin_of;
use yieldtray_source::Span;
use yieldtray_source::names::is_value_name;
use yieldtray_source::scan::calls_and_names;
use yieldtray_source::{Code, Problem, SourceId};
use yieldtray_syntax as syntax;
use yieldtray_syntax::{Instruction, Kind, Segment, Template, is_language_name};

/// What the caller chose: the same for a whole run.
#[derive(Clone, Default)]
pub struct Settings {
    /// The chosen environment.
    pub environment: Option<String>,
    /// `--set NAME=VALUE`, in order; the last of a name wins.
    pub set: Vec<(String, Value)>,
    /// The environment variables, which `env.NAME` reads.
    pub variables: Variables,
    /// Whether somebody can be asked for the values of `% ask`.
    pub can_ask: bool,
    /// Origins that every secret may be sent to in this process (`--secrets-to`).
    pub secrets_to: Vec<String>,
}

impl std::fmt::Debug for Settings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The values may be secrets.
        let set: Vec<&str> = self.set.iter().map(|(name, _)| name.as_str()).collect();
        let environment = &self.environment;
        f.debug_struct("Settings").field("environment", environment).field("set", &set).finish_non_exhaustive()
    }
}

impl Settings {
    /// The value that `--set` gives to a name.
    pub fn set_value(&self, name: &str) -> Option<&Value> {
        self.set.iter().rev().find(|(set, _)| set == name).map(|(_, value)| value)
    }
}

/// What somebody answered to the questions of `% ask`: one answer a name and question, for the whole run.
#[derive(Clone, Default)]
pub struct Answers(FxHashMap<(Box<str>, Box<str>), (Value, bool)>);

impl Answers {
    /// Keeps an answer, and whether it is secret.
    pub fn give(&mut self, name: &str, question: &str, value: Value, secret: bool) {
        self.0.insert((name.into(), question.into()), (value, secret));
    }

    /// The answer to a question.
    pub fn get(&self, name: &str, question: &str) -> Option<&Value> {
        self.find(name, question).map(|(value, _)| value)
    }

    fn find(&self, name: &str, question: &str) -> Option<&(Value, bool)> {
        if self.0.is_empty() { None } else { self.0.get(&(name.into(), question.into())) }
    }
}

/// Where values are looked for: the same for all cells of a run at one moment.
#[derive(Clone, Copy)]
pub struct Reach<'a> {
    /// The files and the configuration.
    pub workspace: &'a Workspace,
    /// Runs expressions.
    pub engine: &'a Engine,
    /// What the caller chose.
    pub settings: &'a Settings,
    /// What responses yielded.
    pub tray: &'a Tray,
    /// What somebody answered.
    pub answers: &'a Answers,
}

impl<'a> Reach<'a> {
    /// Where values come from beside the texts.
    pub fn outside(&self) -> Outside<'a> {
        self.workspace.outside(&self.settings.variables)
    }
}

/// What was worked out for one cell: a `let` has one value from the request to the last check.
#[derive(Default)]
pub struct Memo {
    lets: FxHashMap<(SourceId, Span), Value>,
    /// The row of `% each` that the cell is sent for.
    pub row: Option<Value>,
    /// What `% play … with` gives the cell.
    pub with: Vec<(String, Value)>,
    /// Secrets that were looked up.
    pub secrets: Vec<UsedSecret>,
    /// How many of them were taken by [`Self::new_secrets`].
    told: usize,
    /// The place of the request in the plan of its run.
    place: Option<usize>,
}

impl std::fmt::Debug for Memo {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The values may be secrets.
        write!(f, "Memo({} lets, {} secrets)", self.lets.len(), self.secrets.len())
    }
}

impl Memo {
    /// A memo of a cell that is sent for this row, if for one, and that a sequence gives these values.
    pub fn given(row: Option<Value>, with: Vec<(String, Value)>) -> Self {
        Self { row, with, ..Self::default() }
    }

    /// The same of a request at this place in the plan of its run: of the values of other files' cells it sees those
    /// that were captured by steps before it.
    #[must_use]
    pub fn at(mut self, place: usize) -> Self {
        self.place = Some(place);
        self
    }

    /// The values of the secrets that were looked up since this was last called, to be masked from now on.
    pub fn new_secrets(&mut self) -> impl Iterator<Item = Value> + '_ {
        let from = std::mem::replace(&mut self.told, self.secrets.len());
        self.secrets[from..].iter().map(|secret| secret.value.clone())
    }
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

/// Finds the values one cell sees. First found wins: `--set`, the cell's own `let` and `ask`, the
/// tray, the environment, the file's `let`, `_common.http` (the nearest first), `[values]`.
pub struct Lookup<'a> {
    /// Where it looks.
    pub reach: Reach<'a>,
    /// The files and the configuration.
    pub workspace: &'a Workspace,
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
#[derive(Clone, Copy)]
#[allow(missing_docs)] // each variant's line says what its fields are
pub enum Found<'a> {
    /// `--set`
    Set(&'a Value),
    /// `% let` or `% ask` of the cell itself, or `% let` of a preamble: the text and the line.
    Line(SourceId, &'a Instruction),
    /// On the tray.
    Yielded(&'a Yielded),
    /// A configuration's entry, and the environment it stands in.
    Entry(&'a Entry, Option<&'a Environment>),
}

impl<'a> Lookup<'a> {
    /// A look-up for `cell`, which directly needs `needs`.
    pub fn new(reach: Reach<'a>, cell: CellId, needs: &'a [CellId], memo: &'a mut Memo) -> Self {
        Self { reach, workspace: reach.workspace, cell, needs, memo, chain: Vec::new() }
    }

    /// Compiles the expression at `span`; its faults become problems with their place.
    pub fn compile(&self, source: SourceId, span: Span) -> Result<Arc<Compiled>, Vec<Problem>> {
        compile(self.workspace, self.reach.engine, source, span)
    }

    /// The names in `compiled` that will have no value when it runs after the response, found before
    /// anything is sent. `yielded` are the names the cell itself yields before.
    pub fn missing(&mut self, compiled: &Compiled, source: SourceId, span: Span, yielded: &[&str]) -> Vec<Problem> {
        let given =
            |name: &str| (is_language_name(name) && name != "row") || is_type_name(name) || yielded.contains(&name);
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
        if is_value_name(text) && !is_language_name(text) {
            return self.resolve(text, source, At::Here(span), &mut stage);
        }
        let compiled = self.compile(source, span)?;
        let bindings = self.bind(&compiled, source, span, stage)?;
        self.reach
            .engine
            .evaluate(&compiled, &bindings)
            .map_err(|message| vec![Problem::mistake(Code::FailedExpression, span, message).in_source(source)])
    }

    /// Works out an expression that stands in no text of the workspace, but is named at `at` of `source`.
    pub fn evaluate_text(&mut self, text: &str, source: SourceId, at: Span) -> Result<Value, Vec<Problem>> {
        let compiled = self.reach.engine.compile(text).map_err(|faults| {
            let problem = |fault: &Fault| {
                Problem::mistake(fault.code, at, fault.message.clone())
                    .with_hint_if(fault.hint.clone())
                    .in_source(source)
            };
            faults.iter().map(problem).collect::<Vec<_>>()
        })?;
        let bindings = self.bind(&compiled, source, at, Stage::Before)?;
        let value = self.reach.engine.evaluate(&compiled, &bindings);
        value.map_err(|message| vec![Problem::mistake(Code::FailedExpression, at, message).in_source(source)])
    }

    /// The text at `span` with its marks resolved; a mark that cannot be is left as it stands.
    pub fn words(&mut self, source: SourceId, span: Span, mut stage: Stage<'_, '_>) -> String {
        let text = &self.workspace.source(source).text;
        let template = Template::parse(text, span, false, &mut Vec::new());
        let mut out = String::new();
        for segment in &template.segments {
            match segment {
                Segment::Text(span) => out.push_str(span.of(text)),
                Segment::Escape(_) => {}
                Segment::Mark { span, expression } => match self.evaluate(source, *expression, stage.again()) {
                    Ok(value) => out.push_str(&value.to_text().unwrap_or_else(|_| value.show().into())),
                    Err(_) => out.push_str(span.of(text)),
                },
            }
        }
        out
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
            match self.resolve(name, source, At::In(span), &mut stage) {
                Ok(value) => bindings.insert(name, value),
                Err(_) if is_type_name(name) => {}
                Err(found) => problems.extend(found),
            }
        }
        if problems.is_empty() { Ok(bindings) } else { Err(problems) }
    }

    /// Every place that gives `name` a value to the cell, the one that wins first.
    pub fn places<'n>(&self, name: &'n str) -> impl Iterator<Item = Found<'a>> + use<'a, 'n> {
        let Reach { workspace, settings, tray, .. } = self.reach;
        let (cell, needs, place) = (self.cell, self.needs, self.memo.place);
        let source = cell.source;
        let set = settings.set_value(name).into_iter().map(Found::Set);
        let own = move || giving_line(workspace, name, source, &workspace.cell(cell).items);
        let yielded = move || tray.get_at(name, source, needs, place).map(Found::Yielded);
        let environment = settings.environment.as_deref().and_then(|chosen| workspace.config.environment(chosen));
        let entries = environment.into_iter().flat_map(move |environment| {
            let named = environment.values.iter().filter(move |entry| entry.name == name);
            named.map(move |entry| Found::Entry(entry, Some(environment)))
        });
        let commons = &workspace.source(source).commons;
        let preambles = [source].into_iter().chain(commons.iter().rev().copied());
        let shared =
            preambles.filter_map(move |home| giving_line(workspace, name, home, &workspace.source(home).file.preamble));
        let everywhere = workspace.config.values.iter().filter(move |entry| entry.name == name);
        set.chain(std::iter::once_with(own).flatten())
            .chain(std::iter::once_with(yielded).flatten())
            .chain(entries)
            .chain(shared)
            .chain(everywhere.map(|entry| Found::Entry(entry, None)))
    }

    /// The value of one name, used at `at`.
    fn resolve(
        &mut self,
        name: &str,
        source: SourceId,
        at: At,
        stage: &mut Stage<'_, '_>,
    ) -> Result<Value, Vec<Problem>> {
        if is_language_name(name) {
            return self.language_value(name, stage).ok_or_else(|| {
                let place = at.place(name, &self.workspace.source(source).text);
                let waiting = self.chain.last().map(|(waiting, ..)| waiting.as_str());
                vec![missing::response_name(name, place, waiting).in_source(source)]
            });
        }
        let first = self.places(name).next();
        // What a sequence gives its cell is meant for it: only `--set` says otherwise.
        if !self.memo.with.is_empty()
            && !matches!(first, Some(Found::Set(_)))
            && let Some((_, value)) = self.memo.with.iter().find(|(given, _)| given == name)
        {
            return Ok(value.clone());
        }
        // A row gives way to `--set` and to the cell's own lines alone.
        if let Some(row) = &self.memo.row
            && !first.as_ref().is_some_and(|found| self.is_nearer_than_a_row(found))
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
            Found::Set(value) => {
                let declared = self.workspace.config.entry(self.reach.settings.environment.as_deref(), name);
                let of_entry = declared.filter(|entry| entry.secret).map(destinations_of);
                (value.clone(), of_entry.or_else(|| self.is_declared_secret(name).then(|| self.of_a_question())))
            }
            Found::Yielded(yielded) => {
                let captured = || Destinations::CapturedFrom(yielded.origin.clone());
                (yielded.value.clone(), yielded.secret.then(captured))
            }
            Found::Line(home, line) => match line.kind {
                Kind::Let { expression, .. } => (self.work_out(name, home, line.span, expression)?, None),
                Kind::Ask { question, secret, .. } => {
                    let (value, of_secret) = self.answer(name, home, line.span, question)?;
                    (value, (secret || of_secret).then(|| self.of_a_question()))
                }
                _ => unreachable!("only `let` and `ask` give values"),
            },
            Found::Entry(entry, _) => match entry.value(&self.reach.outside()) {
                Ok(value) => {
                    defined_at = Some((entry.source, entry.span));
                    (value.clone(), entry.secret.then(|| destinations_of(entry)))
                }
                Err(absent) => {
                    let place = at.place(name, &self.workspace.source(source).text);
                    let problem = Problem::mistake(Code::AbsentSource, place, absent.message.clone())
                        .with_hint(absent.hint.clone())
                        .with_also(entry.source, entry.span, "it is described here");
                    return Err(vec![problem.in_source(source)]);
                }
            },
        };
        if let Some(destinations) = destinations {
            let place = at.place(name, &self.workspace.source(source).text);
            let used = UsedSecret::new(value.clone(), name, destinations, (source, place));
            self.memo.secrets.push(UsedSecret { defined_at, ..used });
        }
        Ok(value)
    }

    /// Where the answer to a question may be sent. Without a `base` it was typed for this very request.
    fn of_a_question(&self) -> Destinations {
        if self.base_origin().is_some() { Destinations::Base } else { Destinations::Any }
    }

    /// The origin of `base`, as the command line or a configuration gives it: what a request file or a response
    /// says decides nothing about secrets.
    pub(crate) fn base_origin(&self) -> Option<String> {
        let Reach { workspace, settings, .. } = self.reach;
        let entry = || {
            let entry = workspace.config.entry(settings.environment.as_deref(), "base")?;
            entry.value(&self.reach.outside()).ok()
        };
        let base = settings.set_value("base").or_else(entry)?.to_text().ok()?;
        Url::parse(&base).ok().filter(Url::has_host).map(|url| origin_of(&url))
    }

    /// The value of `env` for an expression: the variables that it names. All of them are secret.
    fn environment_variables(
        &mut self,
        compiled: &Compiled,
        source: SourceId,
        span: Span,
    ) -> Result<Value, Vec<Problem>> {
        let text = &self.workspace.source(source).text;
        let place = At::In(span).place("env", text);
        let variables = &self.reach.settings.variables;
        let withheld = |name: &&String| variables.withholds(name);
        if let Some(name) = compiled.required_variables().iter().find(withheld) {
            let message = format!("this workspace may not read the environment variable `{name}`");
            let problem = Problem::mistake(Code::MissingValue, place, message).with_hint(how_to_read(name));
            return Err(vec![problem.in_source(source)]);
        }
        let mut pairs = Vec::new();
        for name in compiled.variables() {
            if let Some(value) = variables.get(name) {
                let value = Value::text(value);
                let called = format!("env.{name}");
                let used = UsedSecret::new(value.clone(), &called, Destinations::Base, (source, place));
                self.memo.secrets.push(used);
                pairs.push((name.clone(), value));
            }
        }
        Ok(Value::map(pairs))
    }

    fn is_nearer_than_a_row(&self, found: &Found<'_>) -> bool {
        let own = |source, line: &Instruction| {
            source == self.cell.source && self.workspace.cell(self.cell).span.contains(line.span)
        };
        matches!(found, Found::Set(_)) || matches!(found, Found::Line(source, line) if own(*source, line))
    }

    /// Whether the configuration or the cell itself says that a value of that name is secret.
    fn is_declared_secret(&self, name: &str) -> bool {
        let text = &self.workspace.source(self.cell.source).text;
        self.workspace.config.is_secret(name)
            || self.workspace.cell(self.cell).instructions().any(|line| match line.kind {
                Kind::Ask { name: own, secret, .. } | Kind::Yield { name: own, secret, .. } => {
                    secret && own.of(text) == name
                }
                _ => false,
            })
    }

    fn answer(&self, name: &str, home: SourceId, line: Span, question: Span) -> Result<(Value, bool), Vec<Problem>> {
        let question = question.of(&self.workspace.source(home).text);
        self.reach.answers.find(name, question).cloned().ok_or_else(|| {
            let message = format!("`{name}` is asked for, but nobody can be asked here: “{question}”");
            let problem = Problem::mistake(Code::NotAnswered, line, message);
            vec![problem.with_hint(format!("pass `--set {name}=…`")).in_source(home)]
        })
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

    /// What the language itself gives; `None` where only the response can.
    fn language_value(&mut self, name: &str, stage: &mut Stage<'_, '_>) -> Option<Value> {
        let settings = self.reach.settings;
        match name {
            "row" => self.memo.row.clone(),
            "environment" => Some(settings.environment.as_deref().map_or_else(Value::null, Value::from)),
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
    pub fn names(&self) -> Vec<&'a str> {
        let workspace = self.workspace;
        let entries = workspace.config.entries_for(self.reach.settings.environment.as_deref());
        let own = workspace.cell(self.cell).instructions().map(|instruction| (self.cell.source, instruction));
        let declared = workspace.preambles(self.cell.source).chain(own).filter_map(|(source, instruction)| {
            let text = &workspace.source(source).text;
            match instruction.kind {
                Kind::Let { name, .. } | Kind::Ask { name, .. } | Kind::Yield { name, .. } => Some(name.of(text)),
                _ => None,
            }
        });
        let set = self.reach.settings.set.iter().map(|(name, _)| name.as_str());
        entries.map(|entry| entry.name.as_str()).chain(declared).chain(set).collect()
    }
}

/// Where a secret of a configuration may be sent.
fn destinations_of(entry: &Entry) -> Destinations {
    match entry.origins.is_empty() {
        true => Destinations::Base,
        false => Destinations::Listed(entry.origins.clone()),
    }
}

/// The last `let` or `ask` of that name among `items`.
fn giving_line<'a>(
    workspace: &'a Workspace,
    name: &str,
    home: SourceId,
    items: &'a [syntax::Item],
) -> Option<Found<'a>> {
    let text = &workspace.source(home).text;
    let gives = |line: &&Instruction| match line.kind {
        Kind::Let { name: own, .. } | Kind::Ask { name: own, .. } => own.of(text) == name,
        _ => false,
    };
    syntax::instructions(items).filter(gives).last().map(|line| Found::Line(home, line))
}

/// Compiles the expression at `span` of `source`; its faults become problems with their place.
pub fn compile(
    workspace: &Workspace,
    engine: &Engine,
    source: SourceId,
    span: Span,
) -> Result<Arc<Compiled>, Vec<Problem>> {
    engine.compile(span.of(&workspace.source(source).text)).map_err(|faults| {
        let problem = |fault: &Fault| {
            let place = span.part(fault.span.start().min(span.len()), fault.span.end().min(span.len()));
            let problem = Problem::mistake(fault.code, place, fault.message.clone())
                .with_hint_if(fault.hint.clone())
                .in_source(source);
            Problem { meant: fault.meant.clone().map(Box::new), ..problem }
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
        match self {
            At::Here(span) => span,
            At::In(span) => place_of_name(name, text, span),
        }
    }
}

/// Where `name` stands in the expression at `span`, or all of it where it is not written there.
pub(crate) fn place_of_name(name: &str, text: &str, span: Span) -> Span {
    let expression = span.of(text);
    calls_and_names(expression)
        .into_iter()
        .find(|identifier| !identifier.member && !identifier.call && identifier.span.of(expression) == name)
        .map_or(span, |identifier| span.part(identifier.span.start(), identifier.span.end()))
}
