//! Completion.

mod context;
mod described;
mod expression;
mod line;
mod path;

use super::{IdeContext, cell_at};
pub(super) use context::{Context, context};
pub(in crate::assist) use line::relative;
use rustc_hash::FxHashSet;
use yieldtray_expression::{FunctionHelp, FunctionOrigin};
use yieldtray_source::{SourceId, Span};
use yieldtray_workspace::CellId;

/// Something that may be written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Suggestion {
    /// How it is shown.
    pub label: String,
    /// The kind of the item.
    pub sort: CompletionKind,
    /// A few words beside it.
    pub detail: String,
    /// The text to insert in place of `span`; `${1:text}` and `$1` are tab stops, a literal `$` is `\$`.
    pub insert: String,
    /// The text that is replaced: what was typed of it so far.
    pub span: Span,
}

/// The items, the nearest first.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Suggestions {
    /// Items that are offered at most: as many as a person looks through.
    pub list: Vec<Suggestion>,
    /// Whether there is more of it: other letters pick other things.
    pub more: bool,
}

/// Items of one kind that are offered at most.
const MAX_ITEMS: usize = 100;

/// The sorts of things that may be written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs)] // the names say it
pub enum CompletionKind {
    Value,
    Function,
    Language,
    Member,
    Header,
    Text,
    Method,
    Instruction,
    Cell,
    Label,
    File,
}

/// The items at byte `at` of a text. `files` lists the files and folders below a folder, which is relative to that of
/// the text; a folder ends in `/`.
pub fn complete(view: IdeContext<'_>, source: SourceId, at: usize, files: &dyn Fn(&str) -> Vec<String>) -> Suggestions {
    let text = view.text(source);
    let own = cell_at(view.workspace(), source, at);
    let mut writer =
        Writer { view, source, cell: own, at, found: Vec::new(), known: FxHashSet::default(), more: false, begun: 0 };
    match context(view, source, at) {
        Context::Expression { before, after } => writer.expression(before, after),
        Context::Instruction { word, cell, tail } => writer.instructions(word, cell, tail),
        Context::Argument { word, rest } => writer.argument(word.of(text), rest, files),
        Context::Header(name) => writer.headers(name, ": "),
        Context::HeaderValue { name, value } => writer.header_values(name.of(text), value),
        Context::Request(line) => writer.request(line),
        Context::Other => writer.body(),
    }
    Suggestions { list: writer.found, more: writer.more }
}

struct Writer<'a> {
    view: IdeContext<'a>,
    source: SourceId,
    cell: Option<CellId>,
    at: usize,
    found: Vec<Suggestion>,
    known: FxHashSet<(CompletionKind, String)>,
    more: bool,
    /// How many there were when the sort began that is being added.
    begun: usize,
}

impl<'a> Writer<'a> {
    fn add(&mut self, span: Span, sort: CompletionKind, label: &str, detail: &str, insert: Option<String>) {
        // The prefix filters; names may come from several places.
        let written = span.of(self.view.text(self.source));
        if !picks(written, label) {
            return;
        }
        if self.found.len() - self.begun >= MAX_ITEMS {
            self.more = true;
            return;
        }
        if !self.known.insert((sort, label.to_owned())) {
            return;
        }
        let insert = insert.unwrap_or_else(|| literal(label));
        self.found.push(Suggestion { label: label.to_owned(), sort, detail: detail.to_owned(), insert, span });
    }

    /// A function by its name, or by what is left of that after its name space.
    fn function(&mut self, span: Span, name: &str, function: &FunctionHelp) {
        self.add(span, CompletionKind::Function, name, function.help, Some(call_of(name, function)));
    }
}

/// True if the typed letters occur in a name, in their order.
fn picks(written: &str, name: &str) -> bool {
    let mut letters = name.chars().flat_map(char::to_lowercase);
    written.chars().flat_map(char::to_lowercase).all(|wanted| letters.any(|letter| letter == wanted))
}

/// Text as a snippet writes it.
fn literal(text: &str) -> String {
    text.replace('\\', "\\\\").replace('$', "\\$").replace('}', "\\}")
}

/// A call of a function as it is inserted: a macro with its variable first.
fn call_of(name: &str, function: &FunctionHelp) -> String {
    match function.origin {
        FunctionOrigin::Macro if function.is_method => format!("{name}(${{1:one}}, $2)"),
        _ if function.is_bare => format!("{name}()"),
        _ => format!("{name}($1)"),
    }
}
