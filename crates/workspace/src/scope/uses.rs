//! The names that a cell uses, found without sending anything.

use super::Binding;
use super::compile::place_of_name;
use crate::queries::{AuthLine, auth_of, sign_line};
use crate::scope::Resolver;
use crate::{CellId, Workspace};
use rustc_hash::FxHashMap;
use yieldtray_expression::{Engine, is_type_name};
use yieldtray_source::names::is_value_name;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::{
    Auth, Instruction, InstructionKind, Template, instructions, is_graphql_name, is_language_name, is_late_name,
};

/// An expression of a cell, or of a preamble that holds for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ExprLocation {
    /// The text it is in.
    pub source: SourceId,
    /// Its span.
    pub span: Span,
    /// True if it is evaluated only after the response.
    pub after: bool,
}

/// A name that a cell uses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameUse {
    /// The name.
    pub name: String,
    /// The expression that uses it.
    pub at: ExprLocation,
}

impl NameUse {
    /// The span of the name itself.
    pub fn span(&self, workspace: &Workspace, engine: &Engine) -> Span {
        let text = &workspace.source(self.at.source).text;
        if self.at.span.of(text) == self.name {
            self.at.span
        } else {
            place_of_name(engine, &self.name, text, self.at.span)
        }
    }
}

/// Every expression on the lines of `instruction`.
fn expressions_of(text: &str, source: SourceId, instruction: &Instruction, found: &mut Vec<ExprLocation>) {
    let mut take = |span: Span, after| found.push(ExprLocation { source, span, after });
    match instruction.kind {
        InstructionKind::Let { expression, .. } | InstructionKind::Variable { expression, .. } => {
            take(expression, false)
        }
        InstructionKind::Skip { condition, .. } => take(condition, false),
        InstructionKind::Yield { expression, .. } | InstructionKind::Check { expression, .. } => take(expression, true),
        InstructionKind::Wait { until, .. }
        | InstructionKind::Until(until)
        | InstructionKind::Expect { condition: until, .. }
        | InstructionKind::Follow { next: Some(until), .. } => take(until, true),
        InstructionKind::Play { with: Some(with), .. } => {
            InstructionKind::assignments(with, text).into_iter().for_each(|(_, expression)| take(expression, false));
        }
        InstructionKind::Ask { default, choices, .. } => {
            default.into_iter().chain(choices).for_each(|span| take(span, false))
        }
        _ => {}
    }
    let before = found.len();
    instruction.kind.texts().for_each(|span| marks(text, source, span, false, found));
    // The words of a check are written when the answer is there. The place to save to is known before: what
    // could not be saved is not sent.
    let after = matches!(
        instruction.kind,
        InstructionKind::Check { .. } | InstructionKind::Say(_) | InstructionKind::SayFrom(_)
    );
    found[before..].iter_mut().for_each(|placed| placed.after |= after);
}

/// The expressions of the marks in a piece of text.
fn marks(text: &str, source: SourceId, span: Span, body: bool, found: &mut Vec<ExprLocation>) {
    // Most lines have no mark, and need no more than this to know it.
    if memchr::memmem::find(span.of(text).as_bytes(), b"{{").is_some() {
        let template = Template::parse(text, span, body, &mut Vec::new());
        found.extend(template.expressions().map(|span| ExprLocation { source, span, after: false }));
    }
}

/// The expressions of a cell itself, its `let`s left out: those count only where they are used.
fn own_expressions(workspace: &Workspace, cell: CellId) -> Vec<ExprLocation> {
    let (source, own) = (cell.source, workspace.cell(cell));
    let text = &workspace.source(source).text;
    let mut found = Vec::new();
    if let Some(request) = &own.request {
        marks(text, source, request.target, false, &mut found);
    }
    for field in &own.fields {
        marks(text, source, field.value, false, &mut found);
    }
    marks(text, source, own.template_body(), true, &mut found);
    for instruction in own.instructions().filter(|line| !matches!(line.kind, InstructionKind::Let { .. })) {
        expressions_of(text, source, instruction, &mut found);
    }
    found
}

/// The expressions of the preambles that hold for a cell: headers, credentials and checks.
fn shared_expressions(workspace: &Workspace, cell: CellId, found: &mut Vec<ExprLocation>) {
    for (origin, instruction) in workspace.preambles(cell.source) {
        if matches!(instruction.kind, InstructionKind::Header { .. } | InstructionKind::Check { .. }) {
            expressions_of(&workspace.source(origin).text, origin, instruction, found);
        }
    }
    if let Some((origin, span)) = sign_line(workspace, cell)
        && let Some(profile) = workspace.config.signing_profile(span.of(&workspace.source(origin).text))
    {
        for entry in &profile.entries {
            marks(&workspace.source(entry.source).text, entry.source, entry.span, false, found);
        }
    }
    let Some(AuthLine { origin, line, auth, is_local }) = auth_of(workspace, cell) else { return };
    let text = &workspace.source(origin).text;
    // The cell's own line is among its own expressions.
    if !is_local {
        expressions_of(text, origin, line, found);
    }
    if let Auth::OAuth2(span) = auth
        && let Some(profile) = workspace.config.profile(span.of(text))
    {
        for entry in &profile.entries {
            marks(&workspace.source(entry.source).text, entry.source, entry.span, false, found);
        }
    }
}

/// Hands on the free names of an expression that can be read, but for the language's own.
fn each_name(workspace: &Workspace, engine: &Engine, at: ExprLocation, mut visit: impl FnMut(&str)) {
    let mut visit = |name: &str| {
        if !is_language_name(name) && (!(is_graphql_name(name) || is_late_name(name)) || defines_value(workspace, name))
        {
            visit(name);
        }
    };
    let text = at.span.of(&workspace.source(at.source).text);
    if is_value_name(text) {
        visit(text);
    } else {
        // A type's name is that of a value only where there is such a value.
        let is_value = |name: &str| !is_type_name(name) || defines_value(workspace, name);
        engine.each_name(text, |name| {
            if is_value(name) {
                visit(name);
            }
        });
    }
}

/// Whether a configuration or a line of a loaded file gives `name` a value.
fn defines_value(workspace: &Workspace, name: &str) -> bool {
    workspace.config.all_entries().any(|entry| entry.name == name)
        || workspace.loaded().any(|source| {
            let text = &workspace.source(source).text;
            let lines = workspace.source(source).inherited.iter().copied().chain([source]);
            let preambles = lines.flat_map(|origin| {
                instructions(&workspace.source(origin).file.preamble).map(move |line| (origin, line))
            });
            let own = workspace.cells(source).flat_map(|cell| workspace.cell(cell).instructions());
            let gives = |text: &str, line: &Instruction| match line.kind {
                InstructionKind::Let { name: own, .. }
                | InstructionKind::Ask { name: own, .. }
                | InstructionKind::Yield { name: own, .. } => own.of(text) == name,
                _ => false,
            };
            preambles.into_iter().any(|(origin, line)| gives(&workspace.source(origin).text, line))
                || own.into_iter().any(|line| gives(text, line))
        })
}

impl Resolver<'_> {
    /// The names among those the cell uses that no place gives a value now, but for those it yields
    /// itself before they are used.
    pub fn unresolved_names(&self) -> Vec<NameUse> {
        self.unresolved_among(self.names_used(), &PlayArgNames::of(self.workspace))
    }

    /// The same, of names that are known to be used, with what sequences give, gathered once for all cells.
    pub fn unresolved_among(&self, mut used: Vec<NameUse>, given: &PlayArgNames<'_>) -> Vec<NameUse> {
        let own: Vec<&str> =
            yields(self.workspace, self.cell).chain(received_names(self.workspace, self.cell)).collect();
        used.retain(|used| !(used.at.after && own.contains(&used.name.as_str())));
        used.retain(|used| self.candidates(&used.name).next().is_none());
        if !used.is_empty() && self.workspace.rows_file(self.cell).is_some() {
            let columns = self.workspace.columns(self.cell);
            used.retain(|used| !columns.contains(&used.name));
        }
        used.retain(|used| !given.gives(self.cell, &used.name));
        used
    }

    /// The values the cell uses, each once, those that its `let`s use too, in order of appearance; with
    /// `base` where a path is joined to it. The language's own names are left out.
    pub fn names_used(&self) -> Vec<NameUse> {
        let (workspace, cell) = (self.workspace, self.cell);
        let mut used: Vec<NameUse> = Vec::new();
        if let Some(request) = &workspace.cell(cell).request {
            let target = request.target;
            if target.of(&workspace.source(cell.source).text).starts_with('/') {
                used.push(NameUse {
                    name: "base".to_owned(),
                    at: ExprLocation { source: cell.source, span: target, after: false },
                });
            }
        }
        let mut waiting = own_expressions(workspace, cell);
        shared_expressions(workspace, cell, &mut waiting);
        waiting.reverse();
        while let Some(at) = waiting.pop() {
            each_name(workspace, self.context.engine, at, |name| {
                if used.iter().any(|known| known.name == name) {
                    return;
                }
                if let Some(Binding::Let { source, expression, .. }) = self.candidates(name).next() {
                    waiting.push(ExprLocation { source, span: expression, after: false });
                }
                used.push(NameUse { name: name.to_owned(), at });
            });
        }
        used
    }
}

/// The names a cell yields, in order.
pub fn yields(workspace: &Workspace, cell: CellId) -> impl Iterator<Item = &str> {
    let text = &workspace.source(cell.source).text;
    workspace.cell(cell).instructions().filter_map(move |line| match line.kind {
        InstructionKind::Yield { name, .. } => Some(name.of(text)),
        _ => None,
    })
}

/// The names that messages of a conversation get (`% expect … as NAME`), in order.
pub fn received_names(workspace: &Workspace, cell: CellId) -> impl Iterator<Item = &str> {
    let text = &workspace.source(cell.source).text;
    workspace.cell(cell).instructions().filter_map(move |line| match line.kind {
        InstructionKind::Expect { name, .. } => Some(name?.of(text)),
        _ => None,
    })
}

/// The names that sequences of the loaded files give the cells which they play. Gathering them walks over
/// every loaded cell, so whoever asks for many cells gathers them once.
pub struct PlayArgNames<'w>(FxHashMap<CellId, Vec<&'w str>>);

impl<'w> PlayArgNames<'w> {
    /// Gathers what the sequences of all loaded files give.
    pub fn of(workspace: &'w Workspace) -> Self {
        let mut given: FxHashMap<CellId, Vec<&str>> = FxHashMap::default();
        for source in workspace.loaded() {
            let text = &workspace.source(source).text;
            for line in workspace.cells(source).flat_map(|cell| workspace.cell(cell).instructions()) {
                let InstructionKind::Play { name, with: Some(with), .. } = line.kind else { continue };
                let (origin, name) = match name.of(text).rsplit_once('#') {
                    None => (Some(source), name.of(text)),
                    Some((path, name)) => (workspace.loaded_relative(source, path), name),
                };
                if let Some(cell) = origin.and_then(|origin| workspace.cell_named(origin, name)) {
                    let names = InstructionKind::assignments(with, text).into_iter().map(|(name, _)| name.of(text));
                    given.entry(cell).or_default().extend(names);
                }
            }
        }
        Self(given)
    }

    fn gives(&self, cell: CellId, name: &str) -> bool {
        self.0.get(&cell).is_some_and(|names| names.contains(&name))
    }
}
