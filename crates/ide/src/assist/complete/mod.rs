//! Completion.

mod context;
mod described;
mod path;

use super::docs::{INSTRUCTIONS, LANGUAGE, Place};
use super::{IdeContext, cell_at, needs};
pub(super) use context::{Context, context};
use path::{Step, in_string, looped, path_start, split_root, steps};
use rustc_hash::FxHashSet;
use std::borrow::Cow;
use yieldtray_description::ValueStep;
use yieldtray_expression::{FunctionHelp, FunctionOrigin, functions};
use yieldtray_http::{FIELDS, METHODS, field};
use yieldtray_source::names::is_value_name;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::config::ValueSource;
use yieldtray_workspace::scope::{Binding, EvalCache, Origin, Resolver, ResponseScope};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CONTRACT_LABEL, CellId};

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

/// How near to a cell a value is given: the order in which values win.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Near {
    Set,
    Cell,
    Row,
    Yielded,
    Environment,
    File,
    Common,
    Everywhere,
}

impl Near {
    fn of(resolver: &Resolver<'_>, name: &str) -> Self {
        match resolver.candidates(name).next() {
            Some(Binding::Set(_)) => Near::Set,
            Some(Binding::Let { source, line, .. } | Binding::Ask { source, line, .. }) => {
                match resolver.workspace.cell(resolver.cell).span.contains(line) {
                    _ if source != resolver.cell.source => Near::Common,
                    true => Near::Cell,
                    false => Near::File,
                }
            }
            Some(Binding::Captured(_)) | None => Near::Yielded,
            Some(Binding::Entry(_, Some(_))) => Near::Environment,
            Some(Binding::Entry(_, None)) => Near::Everywhere,
        }
    }
}

/// The current value of a name, and its origin.
fn describe_value(resolver: &Resolver<'_>, name: &str, masker: &Masker) -> String {
    let workspace = resolver.workspace;
    let Some(found) = resolver.candidates(name).next() else { return "a value from a response".to_owned() };
    let value = match &found {
        Binding::Set(value) => Some(value.show()),
        Binding::Let { source, expression, .. } => Some(expression.of(&workspace.source(*source).text).to_owned()),
        Binding::Captured(captured) if !captured.secret => Some(captured.value.show()),
        Binding::Entry(entry, _) if !entry.secret => match &entry.source_kind {
            ValueSource::Value(value) => Some(value.show()),
            _ => None,
        },
        _ => None,
    };
    let origin = Origin::of(&found, workspace).describe(workspace);
    match value {
        Some(value) => format!("{}  {origin}", crate::assist::inlay_hints::short(&masker.mask(&value))),
        None => origin,
    }
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

    fn expression(&mut self, before: Span, after: bool) {
        let text = self.view.text(self.source);
        let written = before.of(text);
        if in_string(written) {
            return self.key(before, written);
        }
        // `body.lots[0].` and what is written of the next name.
        let start = path_start(written);
        let path = &written[start..];
        let word = path.rfind('.').map_or(start, |dot| start + dot + 1);
        let span = before.part(word, before.len());
        if let Some(dot) = path.rfind('.') {
            return self.members(span, &path[..dot], written, after);
        }
        if !written[word..].chars().next().is_none_or(|c| c.is_alphabetic() || c == '_') {
            return;
        }
        let mut names = self.values();
        names.retain(|name| picks(span.of(text), name));
        // More are not offered, and need no words.
        let details = self.about(&names[..names.len().min(MAX_ITEMS)]);
        for (place, name) in names.iter().enumerate() {
            self.add(span, CompletionKind::Value, name, details.get(place).map_or("", String::as_str), None);
        }
        self.begun = self.found.len();
        let has_rows = self.cell.is_some_and(|cell| self.view.workspace().rows_file(cell).is_some());
        let fits = |name: &str| name != "row" || has_rows;
        for word in LANGUAGE.iter().filter(|word| (after || !word.after) && fits(word.name)) {
            self.add(span, CompletionKind::Language, word.name, word.help, None);
        }
        for own in self.view.workspace().config.functions.iter() {
            let help = own.help.as_deref().unwrap_or(&own.is);
            self.add(span, CompletionKind::Function, &own.name, help, Some(format!("{}($1)", own.name)));
        }
        for function in functions().filter(|function| !function.is_method) {
            self.function(span, function.name, &function);
        }
    }

    /// The names that have a value for the cell.
    fn values(&self) -> Vec<Cow<'a, str>> {
        let workspace = self.view.workspace();
        let Some(cell) = self.cell.or_else(|| crate::assist::inlay_hints::cell_for(workspace, self.source, self.at))
        else {
            let entries = workspace.config.all_entries();
            return entries.map(|entry| Cow::from(entry.name.as_str())).collect();
        };
        let needs = needs(workspace, cell);
        let mut cache = EvalCache::default();
        let resolver = Resolver::new(self.view.context, cell, &needs, &mut cache);
        // Names captured by needed cells of other files, and by the cells of this file, the nearest first.
        let own = workspace.cells(cell.source).filter(|other| *other != cell);
        let mut own: Vec<CellId> = own.collect();
        own.sort_by_key(|other| (other.index > cell.index, other.index.abs_diff(cell.index)));
        let given_here = self.definition_line();
        let columns = workspace.columns(cell).into_iter().map(|name| (Near::Row, Cow::from(name)));
        let mut given: Vec<(Near, Cow<'a, str>)> = resolver
            .names()
            .into_iter()
            // A line does not offer the name it gives.
            .filter(|name| given_here.as_deref() != Some(*name))
            .map(|name| (Near::of(&resolver, name), Cow::from(name.to_owned())))
            .chain(columns)
            .collect();
        let yielding = needs.iter().copied().chain(own);
        given.extend(
            yielding
                .flat_map(|other| yieldtray_workspace::scope::yields(workspace, other))
                .map(|name| (Near::Yielded, Cow::from(name))),
        );
        // Nearest first; what is equally near stays as it was found.
        given.sort_by_key(|(near, _)| *near);
        given.into_iter().map(|(_, name)| name).collect()
    }

    /// The name that the line at the cursor gives a value, if it gives one.
    fn definition_line(&self) -> Option<String> {
        let text = self.view.text(self.source);
        let start = text[..self.at].rfind('\n').map_or(0, |at| at + 1);
        let line = text[start..self.at].trim_start().strip_prefix('%')?.trim_start();
        let (word, rest) = line.split_once(' ')?;
        let name = rest.trim_start().split([' ', '=']).next()?;
        matches!(word, "let" | "ask" | "yield").then(|| name.to_owned())
    }

    /// The current value and origin of each of these names, as far as both may be shown.
    fn about(&self, names: &[Cow<'_, str>]) -> Vec<String> {
        let workspace = self.view.workspace();
        let Some(cell) = self.cell.or_else(|| crate::assist::inlay_hints::cell_for(workspace, self.source, self.at))
        else {
            return vec!["a value".to_owned(); names.len()];
        };
        let needs = needs(workspace, cell);
        let mut cache = EvalCache::default();
        let resolver = Resolver::new(self.view.context, cell, &needs, &mut cache);
        let masker = crate::assist::inlay_hints::masker(self.view);
        names.iter().map(|name| describe_value(&resolver, name, &masker)).collect()
    }

    /// The members of `path` in the last response, or in a value of the language.
    fn members(&mut self, span: Span, path: &str, written: &str, after: bool) {
        let of_request = ["name", "title", "file", "tags"];
        let of_sent = ["method", "url", "headers", "body"];
        let mut all = |names: &[&str], detail: &str| {
            names.iter().for_each(|name| self.add(span, CompletionKind::Member, name, detail, None));
        };
        match path {
            "request" => return all(&of_request, "this request"),
            "sent" => return all(&of_sent, "what was sent"),
            "env" => {
                let variables = self.view.context.settings.variables.iter();
                let names: Vec<String> =
                    variables.map(|(name, _)| name.to_owned()).filter(|name| is_value_name(name)).collect();
                names
                    .iter()
                    .for_each(|name| self.add(span, CompletionKind::Member, name, "an environment variable", None));
                return;
            }
            "row" => {
                let columns = self.cell.map(|cell| self.view.workspace().columns(cell)).unwrap_or_default();
                columns.iter().for_each(|name| self.add(span, CompletionKind::Member, name, "a column", None));
                return;
            }
            _ => {}
        }
        let space = format!("{path}.");
        for function in functions() {
            if let Some(name) = function.name.strip_prefix(&space) {
                self.function(span, name, &function);
            }
        }
        let value = after.then(|| self.answered(path, written)).flatten();
        if after && value.is_none() {
            self.described_path(span, path, written);
        }
        if let Some(names) = value.as_ref().and_then(serde_json::Value::as_object) {
            for (name, value) in names.iter().filter(|(name, _)| is_value_name(name)) {
                self.add(span, CompletionKind::Member, name, kind(value), None);
            }
        }
        let of = match (path, &value) {
            ("text" | "url" | "reason", _) | (_, Some(serde_json::Value::String(_))) => "string",
            ("elapsed", _) => "duration",
            ("hops", _) | (_, Some(serde_json::Value::Array(_))) => "list",
            (_, Some(serde_json::Value::Object(_))) => "map",
            _ => return,
        };
        self.begun = self.found.len();
        for function in functions().filter(|function| function.receivers.iter().any(|receiver| receiver == of)) {
            self.function(span, function.name, &function);
        }
    }

    /// The members of `path` as the description has them, before there was any response.
    fn described_path(&mut self, span: Span, path: &str, written: &str) {
        let (root, rest) = split_root(path);
        let (root, mut found) = match root {
            "body" => ("body", Vec::new()),
            local => {
                let Some(over) = looped(written, local) else { return };
                let (root, rest) = split_root(over);
                (root, value_steps(rest).into_iter().chain([ValueStep::Item]).collect())
            }
        };
        found.extend(value_steps(rest));
        self.described_members(span, root, &found);
    }

    /// The value of `path` in the last response of the cell.
    fn answered(&self, path: &str, written: &str) -> Option<serde_json::Value> {
        let exchange = self.view.past.last(self.cell?)?;
        let (root, rest) = split_root(path);
        let mut value = match root {
            "body" | "headers" | "cookies" => ResponseScope::new(&exchange).get(root)?.to_json(),
            // The variable of a loop: one of what it goes over.
            local => {
                let over = looped(written, local)?;
                let list = self.answered(over, &written[..written.find(over)?])?;
                list.as_array()?.first()?.clone()
            }
        };
        for step in steps(rest) {
            value = match step {
                Step::Member(name) => value.get(name)?.clone(),
                Step::Index(index) => value.get(index)?.clone(),
            };
        }
        Some(value)
    }

    /// The keys for `headers["…`.
    fn key(&mut self, before: Span, written: &str) {
        let quote = written.rfind(['"', '\'']).unwrap_or_default();
        let root = written[..quote].trim_end();
        let Some(path) = root.strip_suffix('[') else { return };
        let start = path_start(path);
        let span = before.part(quote + 1, before.len());
        if let Some(value) = self.answered(&path[start..], written)
            && let Some(names) = value.as_object()
        {
            names.iter().for_each(|(name, value)| self.add(span, CompletionKind::Member, name, kind(value), None));
        }
        if path.ends_with("headers") {
            FIELDS.iter().for_each(|field| {
                self.add(span, CompletionKind::Header, &field.name.to_lowercase(), field.meaning, None)
            });
        }
    }

    fn instructions(&mut self, word: Span, cell: bool, tail: bool) {
        let text = self.view.text(self.source);
        // A space is between the sign and the word.
        let blank = if text[..word.start()].ends_with('%') { " " } else { "" };
        for known in INSTRUCTIONS {
            let fits = match known.place {
                Place::Any => true,
                Place::Preamble => !cell,
                Place::Cell => cell,
                Place::Tail => tail,
            };
            if fits {
                self.add(
                    word,
                    CompletionKind::Instruction,
                    known.word,
                    known.help,
                    Some(format!("{blank}{}", known.snippet)),
                );
            }
        }
    }

    fn argument(&mut self, word: &str, rest: Span, files: &dyn Fn(&str) -> Vec<String>) {
        let text = self.view.text(self.source);
        let written = rest.of(text);
        let workspace = self.view.workspace();
        // The last member of a list.
        let from = written.rfind(',').map_or(0, |comma| comma + 1);
        let from = from + written[from..].len() - written[from..].trim_start().len();
        let last = rest.part(from, rest.len());
        match word {
            "needs" | "play" => {
                let own = self.cell;
                for cell in workspace.cells(self.source).filter(|cell| Some(*cell) != own) {
                    self.add(last, CompletionKind::Cell, &workspace.cell(cell).name, workspace.title(cell), None);
                }
                let others = workspace.loaded().filter(|file| *file != self.source);
                for cell in others.flat_map(|file| workspace.cells(file)).collect::<Vec<_>>() {
                    let path = relative(&workspace.shown_path(self.source), &workspace.shown_path(cell.source));
                    let name = format!("{path}#{}", workspace.cell(cell).name);
                    self.add(last, CompletionKind::Cell, &name, workspace.title(cell), None);
                }
            }
            "waive" => {
                let shared = workspace.preambles(self.source).filter_map(|(origin, line)| match line.kind {
                    InstructionKind::Check { label: Some(label), expression, .. } => {
                        let text = &workspace.source(origin).text;
                        Some((label.of(text), expression.of(text)))
                    }
                    _ => None,
                });
                self.add(last, CompletionKind::Label, CONTRACT_LABEL, "validation by the description of the API", None);
                shared
                    .collect::<Vec<_>>()
                    .iter()
                    .for_each(|(label, check)| self.add(last, CompletionKind::Label, label, check, None));
            }
            "tag" => {
                let tags =
                    workspace.loaded().flat_map(|file| workspace.cells(file)).flat_map(|cell| workspace.tags(cell));
                tags.collect::<Vec<_>>()
                    .iter()
                    .for_each(|tag| self.add(last, CompletionKind::Label, tag, "a tag", None));
            }
            "auth" => match written.split_once(char::is_whitespace) {
                None => {
                    for (name, insert) in [
                        ("basic", "basic {{${1:user}\\}\\} {{${2:password}\\}\\}"),
                        ("bearer", "bearer {{${1:token}\\}\\}"),
                        ("digest", "digest {{${1:user}\\}\\} {{${2:password}\\}\\}"),
                        ("oauth2", "oauth2 ${1:profile}"),
                        ("none", "none"),
                    ] {
                        self.add(rest, CompletionKind::Text, name, "credentials", Some(insert.to_owned()));
                    }
                }
                Some(("oauth2", profile)) => {
                    let span = rest.part(rest.len() - profile.len(), rest.len());
                    for profile in &workspace.config.profiles {
                        self.add(span, CompletionKind::Label, &profile.name, "a profile of OAuth 2.0", None);
                    }
                }
                Some(_) => {}
            },
            "header" => match written.find(':') {
                None => self.headers(rest, ": "),
                Some(colon) => {
                    let value = rest.part(colon + 1, rest.len());
                    let blanks = value.len() - value.of(text).trim_start().len();
                    self.header_values(&written[..colon], value.part(blanks, value.len()));
                }
            },
            "cookies" => ["off", "on"].iter().for_each(|word| self.add(rest, CompletionKind::Text, word, "", None)),
            "insecure" => self.add(rest, CompletionKind::Text, "off", "", None),
            "path" => self.add(rest, CompletionKind::Text, "verbatim", "", None),
            "timeout" => {
                ["5s", "500ms", "2m"].iter().for_each(|word| self.add(rest, CompletionKind::Text, word, "", None))
            }
            "skip" => self.add(rest, CompletionKind::Text, "when", "a condition follows", Some("when ".to_owned())),
            "wait" => self.add(rest, CompletionKind::Text, "until", "a condition follows", Some("until ".to_owned())),
            "query" => self.described_query(rest),
            "variable" | "operation" => self.graphql_argument(word, rest),
            "contract" => {
                for api in workspace.apis() {
                    self.add(rest, CompletionKind::Label, &api.name, "a description of the API", None);
                }
            }
            "body" | "part" | "each" | "fragments" => self.files(word, rest, files),
            _ => {}
        }
    }

    /// The files that a path so far may become.
    fn files(&mut self, word: &str, rest: Span, files: &dyn Fn(&str) -> Vec<String>) {
        let written = rest.of(self.view.text(self.source));
        let start = match word {
            "each" => written.find('"').map(|quote| quote + 1),
            _ => written.find("from ").map(|from| from + "from ".len()),
        };
        let Some(start) = start else {
            let insert = if word == "each" { "row in \"$1\"" } else { "from $1" };
            if !written.contains(' ') && word != "part" {
                self.add(
                    rest,
                    CompletionKind::Text,
                    insert.trim_end_matches(['$', '1', '"']).trim_end(),
                    "a file follows",
                    Some(insert.to_owned()),
                );
            }
            return;
        };
        let path = &written[start..];
        let folder = path.rfind('/').map_or("", |slash| &path[..=slash]);
        let span = rest.part(start + folder.len(), rest.len());
        for name in files(folder) {
            self.add(span, CompletionKind::File, &name, "", None);
        }
    }

    fn headers(&mut self, span: Span, after: &str) {
        self.described_headers(span, after);
        for field in FIELDS {
            self.add(span, CompletionKind::Header, field.name, field.meaning, Some(format!("{}{after}", field.name)));
        }
    }

    fn header_values(&mut self, name: &str, span: Span) {
        let usual = field(name.trim()).map(|field| field.usual).unwrap_or_default();
        for value in usual {
            self.add(span, CompletionKind::Text, value, "", None);
        }
    }

    fn request(&mut self, line: Span) {
        let text = self.view.text(self.source);
        let written = line.of(text);
        let workspace = self.view.workspace();
        match written.rfind(' ') {
            None if !written.starts_with('/') => {
                for (name, help) in METHODS {
                    self.add(line, CompletionKind::Method, name, help, Some(format!("{name} ")));
                }
            }
            at => {
                let span = line.part(at.map_or(0, |at| at + 1), line.len());
                let method = at.map(|at| &written[..at]);
                self.described_targets(span, method);
                let cells = workspace.loaded().flat_map(|file| workspace.cells(file));
                let targets = cells.filter(|cell| Some(*cell) != self.cell).filter_map(|cell| {
                    let target = workspace.cell(cell).request.as_ref()?.target;
                    Some(target.of(&workspace.source(cell.source).text))
                });
                for target in targets.collect::<Vec<_>>() {
                    self.add(span, CompletionKind::Text, target, "another request's target", None);
                }
            }
        }
    }
}

fn value_steps(rest: &str) -> Vec<ValueStep> {
    let steps = steps(rest).into_iter().map(|step| match step {
        Step::Member(name) => ValueStep::Member(name.to_owned()),
        Step::Index(_) => ValueStep::Item,
    });
    steps.collect()
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

fn kind(value: &serde_json::Value) -> &'static str {
    match value {
        serde_json::Value::Null => "null",
        serde_json::Value::Bool(_) => "true or false",
        serde_json::Value::Number(_) => "a number",
        serde_json::Value::String(_) => "text",
        serde_json::Value::Array(_) => "a list",
        serde_json::Value::Object(_) => "a map",
    }
}

/// The path of a file as another one names it.
pub(in crate::assist) fn relative(from: &str, to: &str) -> String {
    let folder: Vec<&str> = from.split('/').rev().skip(1).collect::<Vec<_>>().into_iter().rev().collect();
    let target: Vec<&str> = to.split('/').collect();
    let shared = folder.iter().zip(&target).take_while(|(a, b)| a == b).count().min(target.len() - 1);
    let up = std::iter::repeat_n("..", folder.len() - shared);
    up.chain(target[shared..].iter().copied()).collect::<Vec<_>>().join("/")
}

/// A call of a function as it is inserted: a macro with its variable first.
fn call_of(name: &str, function: &FunctionHelp) -> String {
    match function.origin {
        FunctionOrigin::Macro if function.is_method => format!("{name}(${{1:one}}, $2)"),
        _ if function.is_bare => format!("{name}()"),
        _ => format!("{name}($1)"),
    }
}
