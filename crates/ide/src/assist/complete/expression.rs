//! Completion in expressions: names with values, functions, members of what a path leads to.

use super::path::{Step, in_string, looped, path_start, split_root, steps};
use super::{CompletionKind, MAX_ITEMS, Writer, picks};
use crate::assist::docs::LANGUAGE;
use crate::assist::needs;
use std::borrow::Cow;
use yieldtray_description::ValueStep;
use yieldtray_expression::functions;
use yieldtray_http::FIELDS;
use yieldtray_source::Span;
use yieldtray_source::names::is_value_name;
use yieldtray_workspace::CellId;
use yieldtray_workspace::config::ValueSource;
use yieldtray_workspace::scope::{Binding, EvalCache, Origin, Resolver, ResponseScope};
use yieldtray_workspace::secret::Masker;

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

impl<'a> Writer<'a> {
    pub(super) fn expression(&mut self, before: Span, after: bool) {
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
}

fn value_steps(rest: &str) -> Vec<ValueStep> {
    let steps = steps(rest).into_iter().map(|step| match step {
        Step::Member(name) => ValueStep::Member(name.to_owned()),
        Step::Index(_) => ValueStep::Item,
    });
    steps.collect()
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
