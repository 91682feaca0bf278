//! The names in a text, with their referents.

use super::{cell_at, named_cell};
use yieldtray_expression::{Engine, IdentifierRole};
use yieldtray_source::names::is_value_name;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::{
    Auth, Cell, Instruction, InstructionKind, PartContent, Template, instructions, is_language_name,
};
use yieldtray_workspace::{CellId, Workspace};

/// A name in a text, and what it names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Occurrence {
    /// The name itself.
    pub span: Span,
    /// Its referent.
    pub what: Referent,
}

/// The referent of a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // each variant's line says what its fields are
pub enum Referent {
    /// A value; whether it is given here, and after the response.
    Value { given: bool, after: bool },
    /// A name of the language itself, such as `status`.
    Language,
    /// A variable of a loop inside an expression.
    Local,
    /// A member of something: `id` in `body.id`.
    Member,
    /// A function that is called.
    Function,
    /// A cell; whether it gets its name here, and which one it is if it is there.
    Cell { given: bool, cell: Option<CellId> },
    /// The label of a check; whether it gets it here.
    Label { given: bool },
    /// A file, relative to this one.
    File,
    /// A profile of `[oauth2]`.
    Profile { given: bool },
    /// A profile of `[signing]`.
    Signing,
    /// A header field.
    Header,
    /// The method of a request.
    Method,
    /// The word of an instruction.
    Instruction,
}

/// Every name in a request file, in order.
pub fn in_requests(workspace: &Workspace, engine: &Engine, source: SourceId) -> Vec<Occurrence> {
    let own = workspace.source(source);
    let mut finder = Finder { workspace, engine, source, text: &own.text, found: Vec::new() };
    instructions(&own.file.preamble).for_each(|line| finder.instruction(line));
    for (index, cell) in own.file.cells.iter().enumerate() {
        finder.cell(cell, CellId { source, index: index as u32 });
    }
    finder.found.sort_by_key(|found| (found.span.start(), found.span.end()));
    finder.found
}

/// The names in the part of a request file that contains byte `at`: a cell, or the lines before the first.
pub(super) fn near(workspace: &Workspace, engine: &Engine, source: SourceId, at: usize) -> Vec<Occurrence> {
    let own = workspace.source(source);
    let mut finder = Finder { workspace, engine, source, text: &own.text, found: Vec::new() };
    match cell_at(workspace, source, at) {
        Some(id) => finder.cell(workspace.cell(id), id),
        None => instructions(&own.file.preamble).for_each(|line| finder.instruction(line)),
    }
    finder.found
}

/// The names that a configuration gives and uses.
pub fn in_configuration(workspace: &Workspace, engine: &Engine, source: SourceId) -> Vec<Occurrence> {
    let config = &workspace.config;
    let text = &workspace.source(source).text;
    let mut finder = Finder { workspace, engine, source, text, found: Vec::new() };
    let entries = config.all_entries().filter(|entry| entry.source == source);
    finder.found.extend(entries.map(|entry| {
        let span = bare(text, entry.span);
        Occurrence { span, what: Referent::Value { given: true, after: false } }
    }));
    let profiles = config.profiles.iter().flat_map(|profile| &profile.entries);
    let entries = profiles.chain(config.signing.iter().flat_map(|profile| &profile.entries));
    for entry in entries.filter(|entry| entry.source == source) {
        finder.template(entry.span, false, false);
    }
    for function in config.functions.iter().filter(|function| function.source == source) {
        let expression = bare(text, function.body);
        let what = |name: &str| !function.params.iter().any(|param| param == name);
        finder.expression(expression, false);
        finder.found.retain(|found| !expression.contains(found.span) || what(found.span.of(text)));
    }
    finder.found.sort_by_key(|found| (found.span.start(), found.span.end()));
    finder.found
}

/// A name or text of TOML without its quotes.
fn bare(text: &str, span: Span) -> Span {
    let written = span.of(text);
    let quotes = ["\"\"\"", "'''", "\"", "'"]
        .into_iter()
        .find(|quote| written.len() >= 2 * quote.len() && written.starts_with(quote) && written.ends_with(quote));
    quotes.map_or(span, |quote| span.part(quote.len(), span.len() - quote.len()))
}

struct Finder<'w> {
    workspace: &'w Workspace,
    engine: &'w Engine,
    source: SourceId,
    text: &'w str,
    found: Vec<Occurrence>,
}

impl Finder<'_> {
    fn add(&mut self, span: Span, what: Referent) {
        self.found.push(Occurrence { span, what });
    }

    fn cell(&mut self, cell: &Cell, id: CellId) {
        let named = cell.instructions().any(|line| matches!(line.kind, InstructionKind::Name(_)));
        // A title names the cell where no line does.
        if !named && !cell.title.is_empty() {
            self.add(cell.title, Referent::Cell { given: true, cell: Some(id) });
        }
        for line in cell.instructions() {
            if let InstructionKind::Name(name) = line.kind {
                self.add(name, Referent::Cell { given: true, cell: Some(id) });
            }
            self.instruction(line);
        }
        if let Some(request) = &cell.request {
            if let Some(method) = request.method {
                self.add(method, Referent::Method);
            }
            self.template(request.target, false, false);
        }
        for field in &cell.fields {
            self.add(field.name, Referent::Header);
            self.template(field.value, false, false);
        }
        self.template(cell.template_body(), true, false);
    }

    fn instruction(&mut self, line: &Instruction) {
        let text = self.text;
        let rest = line.span.part(1, line.span.len()).trimmed(text);
        let word = rest.of(text).find(|c: char| c.is_ascii_whitespace()).unwrap_or(rest.len());
        self.add(rest.part(0, word), Referent::Instruction);
        let given = |after| Referent::Value { given: true, after };
        match line.kind {
            InstructionKind::Let { name, expression } => {
                self.add(name, given(false));
                self.expression(expression, false);
            }
            InstructionKind::Yield { name, expression, .. } => {
                self.add(name, given(true));
                self.expression(expression, true);
            }
            InstructionKind::Ask { name, default, choices, .. } => {
                self.add(name, given(false));
                default.into_iter().chain(choices).for_each(|span| self.expression(span, false));
            }
            InstructionKind::Check { label, expression, hint } => {
                if let Some(label) = label {
                    self.add(label, Referent::Label { given: true });
                }
                self.expression(expression, true);
                hint.into_iter().for_each(|hint| self.template(hint, false, true));
            }
            InstructionKind::Waive(list) => {
                InstructionKind::list(list, text).for_each(|label| self.add(label, Referent::Label { given: false }));
            }
            InstructionKind::Needs(list) => InstructionKind::list(list, text).for_each(|name| self.named_cell(name)),
            InstructionKind::Play { name, with, .. } => {
                self.named_cell(name);
                for (name, expression) in with.map(|with| InstructionKind::assignments(with, text)).unwrap_or_default()
                {
                    self.add(name, given(false));
                    self.expression(expression, false);
                }
            }
            InstructionKind::Skip { condition, .. } => self.expression(condition, false),
            InstructionKind::Wait { until: condition, .. }
            | InstructionKind::Until(condition)
            | InstructionKind::Follow { next: Some(condition), .. } => self.expression(condition, true),
            InstructionKind::Expect { condition, name, .. } => {
                self.expression(condition, true);
                name.into_iter().for_each(|name| self.add(name, given(true)));
            }
            InstructionKind::Sign(Some(profile)) if !profile.of(text).contains("{{") => {
                self.add(profile, Referent::Signing);
            }
            InstructionKind::Header { name, .. } => self.add(name, Referent::Header),
            InstructionKind::Auth(Auth::OAuth2(profile)) if !profile.of(text).contains("{{") => {
                self.add(profile, Referent::Profile { given: false });
            }
            InstructionKind::Variable { expression, .. } => self.expression(expression, false),
            InstructionKind::BodyFrom { path, .. }
            | InstructionKind::Fragments(path)
            | InstructionKind::SayFrom(path)
            | InstructionKind::Each(path)
            | InstructionKind::Part { content: PartContent::File { path, .. }, .. }
                if !path.of(text).contains("{{") =>
            {
                self.add(path, Referent::File);
            }
            _ => {}
        }
        if !matches!(line.kind, InstructionKind::Check { .. }) {
            line.kind.texts().collect::<Vec<_>>().into_iter().for_each(|span| self.template(span, false, false));
        }
    }

    /// `name` or `file.http#name`
    fn named_cell(&mut self, span: Span) {
        let name = span.of(self.text);
        let own = match name.rfind('#') {
            Some(hash) => {
                self.add(span.part(0, hash), Referent::File);
                span.part(hash + 1, name.len())
            }
            None => span,
        };
        self.add(own, Referent::Cell { given: false, cell: named_cell(self.workspace, self.source, name) });
    }

    fn template(&mut self, span: Span, body: bool, after: bool) {
        if memchr::memmem::find(span.of(self.text).as_bytes(), b"{{").is_some() {
            let template = Template::parse(self.text, span, body, &mut Vec::new());
            template.expressions().for_each(|expression| self.expression(expression, after));
        }
    }

    fn expression(&mut self, span: Span, after: bool) {
        let expression = span.of(self.text);
        let value = Referent::Value { given: false, after };
        if is_value_name(expression) {
            return self.add(span, if is_language_name(expression) { Referent::Language } else { value });
        }
        for identifier in self.engine.identifiers(expression) {
            let name = identifier.span.of(expression);
            let what = match identifier.role {
                IdentifierRole::Value if is_language_name(name) => Referent::Language,
                IdentifierRole::Value => value,
                IdentifierRole::Local => Referent::Local,
                IdentifierRole::Function => Referent::Function,
                IdentifierRole::Member => Referent::Member,
            };
            self.add(span.part(identifier.span.start(), identifier.span.end()), what);
        }
    }
}
