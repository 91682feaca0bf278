//! Completion from the description of the API: paths, parameters, bodies, members of responses, GraphQL.

use super::{CompletionKind, Writer, literal};
use crate::assist::graphql_cursor::{Cursor, Place, word_around};
use crate::described::Described;
use std::sync::Arc;
use yieldtray_description::{Api, ApiKind, SchemaMember, ValueStep, operations};
use yieldtray_source::Span;
use yieldtray_workspace::{CellId, LoadedApi, graphql_api_of, graphql_document};

impl Writer<'_> {
    fn described(&self) -> Option<Described<'_>> {
        Described::of(self.view.workspace(), self.cell?)
    }

    /// The paths of the description, for a method if one is written.
    pub(super) fn described_targets(&mut self, span: Span, method: Option<&str>) {
        let workspace = self.view.workspace();
        let apis: Vec<&Arc<Api>> = workspace.apis().iter().filter_map(|api| api.api()).collect();
        for api in apis.iter().filter(|api| api.info().kind == ApiKind::OpenApi) {
            for operation in api.operations().unwrap_or_default() {
                if method.is_some_and(|method| method != operation.method) || operation.deprecated {
                    continue;
                }
                let detail = operation.summary.as_deref().unwrap_or(&operation.method);
                let mut insert = String::new();
                for (number, piece) in operation.path.split('{').enumerate() {
                    match piece.split_once('}').filter(|_| number > 0) {
                        Some((name, rest)) => {
                            insert.push_str(&format!("{{{{${{{number}:{name}}}"));
                            insert.push_str("\\}\\}");
                            insert.push_str(&literal(rest));
                        }
                        None => insert.push_str(&literal(piece)),
                    }
                }
                self.add(span, CompletionKind::Text, &operation.path, detail, Some(insert));
            }
        }
    }

    /// The names of query parameters, or the values of one.
    pub(super) fn described_query(&mut self, rest: Span) {
        let written = rest.of(self.view.text(self.source)).to_owned();
        let Some(described) = self.described() else { return };
        let parameters = described.operation.parameters.iter().filter(|own| own.place == "query");
        let found: Vec<(String, String)> = match written.split_once('=') {
            None => parameters
                .filter(|own| {
                    !described.query.iter().any(|(name, span)| *name == own.name && span.start() != rest.start())
                })
                .map(|own| {
                    (own.name.clone(), own.description.clone().unwrap_or_else(|| "a query parameter".to_owned()))
                })
                .collect(),
            Some((name, _)) => {
                let own = parameters.filter(|own| own.name == name.trim()).find_map(|own| own.schema.clone());
                own.map(|schema| values(described.api, &schema)).unwrap_or_default()
            }
        };
        match written.find('=') {
            None => {
                for (name, detail) in found {
                    let insert = format!("{} = ${{1:value}}", literal(&name));
                    self.add(rest, CompletionKind::Text, &name, first_line(&detail), Some(insert));
                }
            }
            Some(equals) => {
                let value = rest.part(equals + 1, rest.len());
                let blanks = value.len() - value.of(self.view.text(self.source)).trim_start().len();
                let span = value.part(blanks, value.len());
                found.iter().for_each(|(value, detail)| self.add(span, CompletionKind::Text, value, detail, None));
            }
        }
    }

    /// The names of the headers that the operation has.
    pub(super) fn described_headers(&mut self, span: Span, after: &str) {
        let Some(described) = self.described() else { return };
        let headers: Vec<(String, String)> = described
            .operation
            .parameters
            .iter()
            .filter(|own| own.place == "header")
            .map(|own| {
                (own.name.clone(), own.description.clone().unwrap_or_else(|| "a header of this operation".to_owned()))
            })
            .collect();
        for (name, detail) in headers {
            self.add(
                span,
                CompletionKind::Header,
                &name,
                first_line(&detail),
                Some(format!("{}{after}", literal(&name))),
            );
        }
    }

    /// What may be written in the body: members of JSON, or a GraphQL document.
    pub(super) fn body(&mut self) {
        let Some(cell) = self.cell else { return };
        let workspace = self.view.workspace();
        let own = workspace.cell(cell);
        if self.at < own.body.start() || own.body.end() < self.at {
            return;
        }
        match own.is_graphql() {
            true => self.graphql(cell),
            false => self.json_body(own.body),
        }
    }

    fn json_body(&mut self, body: Span) {
        let text = self.view.text(self.source);
        let before = &text[body.start()..self.at];
        let Some(place) = json_place(before) else { return };
        let Some(described) = self.described() else { return };
        let schemas = described.operation.body_schemas();
        let members = described.api.members_at(&schemas, &place.path);
        let span = Span::new(self.at - place.written, self.at);
        match &place.member {
            None => {
                for member in members.iter().filter(|member| !place.known.contains(&member.path)) {
                    let value = match member.type_words.as_str() {
                        "string" | "string or null" | "" => "\"$1\"".to_owned(),
                        "array" => "[$1]".to_owned(),
                        "object" => "{ $1 \\}".to_owned(),
                        _ => "$1".to_owned(),
                    };
                    let insert = match place.in_string {
                        true => literal(&member.path),
                        false => format!("\"{}\": {value}", literal(&member.path)),
                    };
                    self.add(span, CompletionKind::Member, &member.path, &detail(member), Some(insert));
                }
            }
            Some(name) => {
                let choices = members.iter().find(|member| member.path == *name).map(|member| member.choices.clone());
                for choice in choices.unwrap_or_default() {
                    let shown = if place.in_string { choice.trim_matches('"').to_owned() } else { choice };
                    self.add(span, CompletionKind::Text, &shown, "an allowed value", None);
                }
            }
        }
    }

    /// The members of `path` of the response as it is described.
    pub(super) fn described_members(&mut self, span: Span, root: &str, steps: &[ValueStep]) {
        if root != "body" {
            return;
        }
        let Some(described) = self.described() else { return };
        let members = described.api.members_at(&described.operation.response_schemas(), steps);
        for member in members.iter().filter(|own| yieldtray_source::names::is_value_name(&own.path)) {
            self.add(span, CompletionKind::Member, &member.path, &detail(member), None);
        }
    }

    fn graphql(&mut self, cell: CellId) {
        let workspace = self.view.workspace();
        let Some(Ok(document)) = graphql_document(workspace, cell) else { return };
        let Some(at) = document.offset_of(self.source, self.at) else { return };
        let Some(api) = graphql_api_of(workspace, cell).and_then(LoadedApi::api) else { return };
        let start = word_around(&document.text, at).start;
        let span = Span::new(self.at - (at - start), self.at);
        let Some(place) = Cursor::read(api, &document.text, start).place() else { return };
        match place {
            Place::Field { owner, after_spread } => {
                if after_spread {
                    self.add(span, CompletionKind::Text, "on", "a fragment of a type", Some("on $1".to_owned()));
                    for name in fragments(&document.text) {
                        self.add(span, CompletionKind::Text, &name, "a fragment", None);
                    }
                    return;
                }
                let record = api.type_named(&owner).ok().flatten().unwrap_or_default();
                for field in &record.fields {
                    let about = field.description.as_deref().map(first_line).unwrap_or_default();
                    let about = match &field.deprecated {
                        Some(why) => format!("{}  deprecated: {}", field.type_name, first_line(why)),
                        None => format!("{}  {about}", field.type_name),
                    };
                    self.add(span, CompletionKind::Member, &field.name, about.trim_end(), None);
                }
                self.add(span, CompletionKind::Member, "__typename", "String!  the name of the type", None);
            }
            Place::Argument { of } => {
                for own in of {
                    let description = own.description.as_deref().map(first_line).unwrap_or_default();
                    let about = format!("{}  {description}", own.type_name);
                    let insert = format!("{}: $1", own.name);
                    self.add(span, CompletionKind::Member, &own.name, about.trim_end(), Some(insert));
                }
            }
            Place::Value { type_name } => {
                let record = api.type_named(yieldtray_description::named_type(&type_name)).ok().flatten();
                for value in record.iter().flat_map(|record| &record.values) {
                    self.add(
                        span,
                        CompletionKind::Text,
                        &value.name,
                        value.description.as_deref().map_or("", first_line),
                        None,
                    );
                }
                for variable in variables(&document.text) {
                    self.add(
                        span,
                        CompletionKind::Value,
                        &format!("${variable}"),
                        "a variable",
                        Some(format!("\\${variable}")),
                    );
                }
            }
            Place::Variable => {
                for variable in variables(&document.text) {
                    self.add(span, CompletionKind::Value, &variable, "a variable", None);
                }
            }
            Place::Type { after_on } => {
                let roots = api.level(None).ok().flatten().unwrap_or_default();
                let fits = |kind: &str| match after_on {
                    true => matches!(kind, "object" | "interface" | "union" | "query" | "mutation"),
                    false => matches!(kind, "input" | "enum" | "scalar"),
                };
                for place in roots.places.iter().filter(|place| fits(&place.kind)) {
                    self.add(span, CompletionKind::Member, &place.name, &place.kind, None);
                }
                if !after_on {
                    for name in ["ID", "String", "Int", "Float", "Boolean"] {
                        self.add(span, CompletionKind::Member, name, "scalar", None);
                    }
                }
            }
            Place::Top => {
                for (word, insert) in [
                    ("query", "query ${1:Name} {\n  $2\n\\}"),
                    ("mutation", "mutation ${1:Name} {\n  $2\n\\}"),
                    ("fragment", "fragment ${1:Name} on ${2:Type} {\n  $3\n\\}"),
                ] {
                    self.add(span, CompletionKind::Text, word, "", Some(insert.to_owned()));
                }
            }
        }
    }

    /// The variables that the document declares, or its operations.
    pub(super) fn graphql_argument(&mut self, word: &str, rest: Span) {
        let Some(cell) = self.cell else { return };
        let Some(Ok(document)) = graphql_document(self.view.workspace(), cell) else { return };
        let all = operations(&document.text).unwrap_or_default();
        for operation in &all {
            match (word, &operation.name) {
                ("operation", Some(name)) => self.add(rest, CompletionKind::Label, name, operation.kind, None),
                ("variable", _) if !rest.of(self.view.text(self.source)).contains('=') => {
                    for own in &operation.variables {
                        let insert = format!("{} = ${{1:value}}", own.name);
                        self.add(rest, CompletionKind::Value, &own.name, &own.type_name, Some(insert));
                    }
                }
                _ => {}
            }
        }
    }
}

fn detail(member: &SchemaMember) -> String {
    let required = if member.required { " (required)" } else { "" };
    let about = member.description.as_deref().map(first_line).unwrap_or_default();
    format!("{}{required}  {about}", member.type_words).trim().to_owned()
}

fn first_line(text: &str) -> &str {
    text.lines().next().unwrap_or_default()
}

/// The values that a schema lists, and its default.
fn values(api: &Api, schema: &serde_json::Value) -> Vec<(String, String)> {
    let resolved = api.resolved(schema).unwrap_or_default();
    let plain = |value: &serde_json::Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let mut found: Vec<(String, String)> = Vec::new();
    for value in resolved.get("enum").and_then(serde_json::Value::as_array).into_iter().flatten() {
        found.push((plain(value), "an allowed value".to_owned()));
    }
    found.extend(resolved.get("default").map(|value| (plain(value), "the default".to_owned())));
    found
}

/// The names of the fragments of a document.
fn fragments(text: &str) -> Vec<String> {
    let mut words = text.split(|c: char| !(c.is_alphanumeric() || c == '_')).filter(|word| !word.is_empty());
    let mut found = Vec::new();
    while let Some(word) = words.next() {
        if word == "fragment" {
            found.extend(words.next().map(str::to_owned));
        }
    }
    found
}

/// The variables that a document declares: `$name:`.
fn variables(text: &str) -> Vec<String> {
    let names = text.split('$').skip(1).filter_map(|rest| {
        let end = rest.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(rest.len());
        rest[end..].trim_start().starts_with(':').then(|| rest[..end].to_owned())
    });
    let mut names: Vec<String> = names.filter(|name| !name.is_empty()).collect();
    names.dedup();
    names
}

/// Where a position is in a JSON text.
#[derive(Debug, Default, PartialEq)]
struct JsonPlace {
    path: Vec<ValueStep>,
    /// The member whose value is written; `None` where a name is.
    member: Option<String>,
    /// The names that the object has before.
    known: Vec<String>,
    /// How many bytes of the name or value are written.
    written: usize,
    in_string: bool,
}

/// The place at the end of a JSON text that is not complete.
fn json_place(text: &str) -> Option<JsonPlace> {
    struct Level {
        is_object: bool,
        name: Option<String>,
        known: Vec<String>,
    }
    let mut levels: Vec<Level> = Vec::new();
    let mut chars = text.char_indices();
    let mut word = String::new();
    while let Some((at, c)) = chars.next() {
        match c {
            '"' => {
                let mut string = String::new();
                let closed = loop {
                    match chars.next() {
                        None => break false,
                        Some((_, '\\')) => drop(chars.next()),
                        Some((_, '"')) => break true,
                        Some((_, c)) => string.push(c),
                    }
                };
                if !closed {
                    let level = levels.last()?;
                    return Some(JsonPlace {
                        path: path(levels.iter().map(|own| (own.is_object, own.name.clone()))),
                        member: level.name.clone(),
                        known: level.known.clone(),
                        written: text.len() - at - 1,
                        in_string: true,
                    });
                }
                word = string;
            }
            '{' | '[' => {
                levels.push(Level { is_object: c == '{', name: None, known: Vec::new() });
                word.clear();
            }
            '}' | ']' => {
                levels.pop();
                word.clear();
            }
            ':' => {
                if let Some(level) = levels.last_mut() {
                    level.known.push(word.clone());
                    level.name = Some(std::mem::take(&mut word));
                }
            }
            ',' => {
                word.clear();
                if let Some(level) = levels.last_mut() {
                    level.name = None;
                }
            }
            c if c.is_whitespace() => {}
            c => word.push(c),
        }
    }
    let level = levels.last().filter(|level| level.is_object)?;
    let written = text.len() - text.rfind(|c: char| !(c.is_alphanumeric() || c == '_')).map_or(0, |at| at + 1);
    let value_written = level.name.is_some() && text.trim_end().ends_with('"');
    (!value_written).then(|| JsonPlace {
        path: path(levels.iter().map(|own| (own.is_object, own.name.clone()))),
        member: level.name.clone(),
        known: level.known.clone(),
        written,
        in_string: false,
    })
}

/// The steps to the innermost object.
fn path(levels: impl Iterator<Item = (bool, Option<String>)>) -> Vec<ValueStep> {
    let all: Vec<(bool, Option<String>)> = levels.collect();
    let outer = all.len().saturating_sub(1);
    let steps = all.into_iter().take(outer).filter_map(|(is_object, name)| match is_object {
        true => name.map(ValueStep::Member),
        false => Some(ValueStep::Item),
    });
    steps.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_in_json_is_found_while_it_is_written() {
        let place = |text| json_place(text).expect("a place");
        let names = |text| place(text).known;
        assert_eq!(names("{ \"a\": 1, "), ["a"]);
        assert_eq!(place("{ \"lot\": { \"bi").path, [ValueStep::Member("lot".to_owned())]);
        assert!(place("{ \"lot\": { \"bi").in_string);
        assert_eq!(place("{ \"state\": \"o").member.as_deref(), Some("state"));
        assert_eq!(place("{ \"lots\": [ { ").path, [ValueStep::Member("lots".to_owned()), ValueStep::Item]);
        assert_eq!(json_place("[1, "), None);
        assert_eq!(json_place("{ \"a\": \"b\" "), None);
    }
}
