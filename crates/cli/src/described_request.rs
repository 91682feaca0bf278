//! A request of the command line, completed from the description of the API: prompts for what it requires, and a body to
//! start from.

use serde_json::Value;
use std::collections::BTreeSet;
use yieldtray_description::{Api, Matched, Operation, Parameter};
use yieldtray_interchange::draft::{Body, ImportedRequest, RequestError};
use yieldtray_source::names::is_value_name;
use yieldtray_source::scan;
use yieldtray_syntax::{ValueText, is_language_name};
use yieldtray_workspace::Workspace;

/// The request `METHOD TARGET` with what its operation requires; as it is if the API has no such operation.
///
/// # Errors
/// If the description names what no request can have.
pub(crate) fn complete(workspace: &Workspace, text: &str, with_body: bool) -> Result<String, RequestError> {
    match complete_described(workspace, text, with_body) {
        Some(request) => request.cell(),
        None => Ok(text.to_owned()),
    }
}

fn complete_described(workspace: &Workspace, text: &str, with_body: bool) -> Option<ImportedRequest> {
    let (method, target) = text.split_once(' ')?;
    // One with headers or a body says itself what it is.
    if text.contains('\n') || !target.starts_with('/') {
        return None;
    }
    let path = target.split('?').next()?;
    for api in workspace.apis() {
        let Ok(contract) = &api.contract else { continue };
        let exact = contract.api().operation(method, path).ok()?;
        let operation = match exact {
            Some(operation) => operation,
            None => match contract.matched_path(method, path)? {
                Matched::Operation(path) => contract.api().operation(method, &path).ok()??,
                _ => continue,
            },
        };
        let composer = Composer { api: contract.api(), names: BTreeSet::new(), request: ImportedRequest::default() };
        return Some(composer.compose(&operation, method, target, with_body));
    }
    None
}

/// Writes the request. What the description says is text and nothing else, whatever it contains.
struct Composer<'a> {
    api: &'a Api,
    names: BTreeSet<String>,
    request: ImportedRequest,
}

impl Composer<'_> {
    fn compose(mut self, operation: &Operation, method: &str, target: &str, with_body: bool) -> ImportedRequest {
        self.request.title = operation.summary.title();
        self.request.method = Some(method.into());
        let query = target.split_once('?').map_or("", |(_, query)| query);
        let is_given = |name: &str| query.split('&').any(|pair| pair.split('=').next() == Some(name));
        let mut in_path: Vec<(String, String)> = Vec::new();
        for parameter in &operation.parameters {
            match parameter.place.as_str() {
                "path" => {
                    let mark = format!("{{{}}}", parameter.name);
                    if target.contains(&mark) {
                        in_path.push((mark, self.ask(parameter)));
                    }
                }
                "query" if parameter.required && !is_given(&parameter.name) => {
                    let value = ValueText::value(self.ask(parameter));
                    self.request.parameters.push((parameter.name.as_str().into(), value));
                }
                "header" if parameter.required => {
                    let value = ValueText::value(self.ask(parameter));
                    self.request.headers.push((parameter.name.as_str().into(), value));
                }
                _ => {}
            }
        }
        self.request.target = target_of(target, &in_path);
        if with_body {
            self.add_body(operation);
        }
        self.request
    }

    /// Has a parameter asked for, and gives the name of its value.
    fn ask(&mut self, parameter: &Parameter) -> String {
        let plain: String = parameter.name.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect();
        let mut name = plain.to_ascii_lowercase();
        if !is_value_name(&name) || is_language_name(&name) {
            name = format!("the_{name}");
        }
        while !self.names.insert(name.clone()) {
            name.push('_');
        }
        let about = parameter.description.as_deref().and_then(|text| text.lines().next()).unwrap_or_default();
        let kind = parameter.schema.as_ref().map(|schema| self.api.describe_schema(schema)).unwrap_or_default();
        let mut question = parameter.name.clone();
        if !about.is_empty() {
            question.push_str(&format!(": {}", about.trim_end_matches('.')));
        }
        if !kind.is_empty() {
            question.push_str(&format!(" ({kind})"));
        }
        let question = question.replace(|c: char| c.is_control() || matches!(c, '"' | '{' | '}' | '\\'), "'");
        // A scalar of JSON is a literal of an expression too.
        let example = parameter.example.as_ref().filter(|example| !example.is_array() && !example.is_object());
        let default = example.map(|example| format!(" default {example}")).unwrap_or_default();
        self.request.lines.push(format!("% ask {name} \"{question}\"{default}"));
        name
    }

    /// The body to start from.
    fn add_body(&mut self, operation: &Operation) {
        let Some(content) = operation.body.as_ref().and_then(|body| body.preferred_content()) else { return };
        let text = match self.api.example(content, "body").ok().flatten().unwrap_or_default() {
            Value::String(text) => text,
            Value::Null => return,
            other => serde_json::to_string_pretty(&other).unwrap_or_default(),
        };
        if content.media_type != "application/json" {
            self.request.headers.push(("Content-Type".into(), content.media_type.as_str().into()));
        }
        self.request.body = Body::Text(text.into());
    }
}

/// The target as it was typed, with its placeholders, and with values in place of the path parameters.
fn target_of(typed: &str, in_path: &[(String, String)]) -> ValueText {
    let (mut target, mut rest) = (ValueText::default(), typed);
    while let Some(c) = rest.chars().next() {
        if rest.starts_with("{{")
            && let Some(end) = scan::mark_end(rest, 2)
        {
            target.push_value(&rest[2..end]);
            rest = &rest[end + 2..];
        } else if let Some((mark, name)) = in_path.iter().find(|(mark, _)| rest.starts_with(mark.as_str())) {
            target.push_value(name.as_str());
            rest = &rest[mark.len()..];
        } else {
            target.push(c);
            rest = &rest[c.len_utf8()..];
        }
    }
    target
}
