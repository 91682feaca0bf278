//! A request of the command line, completed from the description of the API: prompts for what it requires, and a body to
//! start from.

use serde_json::Value;
use std::collections::BTreeSet;
use yieldtray_description::{Api, Content, Operation, Parameter};
use yieldtray_source::names::is_value_name;
use yieldtray_syntax::is_language_name;
use yieldtray_workspace::Workspace;

/// The request `METHOD TARGET` with what its operation requires; as it is if the API has no such operation.
pub(crate) fn complete(workspace: &Workspace, text: &str, with_body: bool) -> String {
    complete_described(workspace, text, with_body).unwrap_or_else(|| text.to_owned())
}

fn complete_described(workspace: &Workspace, text: &str, with_body: bool) -> Option<String> {
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
                yieldtray_description::Matched::Operation(path) => contract.api().operation(method, &path).ok()??,
                _ => continue,
            },
        };
        return Some(Composer::new(contract.api(), &operation).compose(method, target, with_body));
    }
    None
}

struct Composer<'a> {
    api: &'a Api,
    operation: &'a Operation,
    names: BTreeSet<String>,
    head: Vec<String>,
    fields: Vec<String>,
}

impl<'a> Composer<'a> {
    fn new(api: &'a Api, operation: &'a Operation) -> Self {
        Self { api, operation, names: BTreeSet::new(), head: Vec::new(), fields: Vec::new() }
    }

    fn compose(mut self, method: &str, target: &str, with_body: bool) -> String {
        let mut target = target.to_owned();
        let query = target.split_once('?').map(|(_, query)| query.to_owned()).unwrap_or_default();
        let is_given = |name: &str| query.split('&').any(|pair| pair.split('=').next() == Some(name));
        for parameter in &self.operation.parameters {
            match parameter.place.as_str() {
                "path" => {
                    let mark = format!("{{{}}}", parameter.name);
                    if target.contains(&mark) {
                        let name = self.ask(parameter);
                        target = target.replace(&mark, &format!("{{{{{name}}}}}"));
                    }
                }
                "query" if parameter.required && !is_given(&parameter.name) => {
                    let name = self.ask(parameter);
                    self.head.push(format!("% query {} = {{{{{name}}}}}", parameter.name));
                }
                "header" if parameter.required => {
                    let name = self.ask(parameter);
                    self.fields.push(format!("{}: {{{{{name}}}}}", parameter.name));
                }
                _ => {}
            }
        }
        let mut body = None;
        if with_body && let Some((content, example)) = self.body() {
            if content.media_type != "application/json" {
                self.fields.push(format!("Content-Type: {}", content.media_type));
            }
            body = Some(example);
        }
        let mut text = String::new();
        self.head.iter().for_each(|line| text.push_str(&format!("{line}\n")));
        text.push_str(&format!("{method} {target}"));
        self.fields.iter().for_each(|line| text.push_str(&format!("\n{line}")));
        text.extend(body.map(|body| format!("\n\n{body}")));
        text
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
        let words = [parameter.name.as_str(), about, &kind].into_iter().filter(|word| !word.is_empty());
        let question = words.collect::<Vec<_>>().join(", ").replace(['"', '{', '}', '\r'], "'");
        let example = parameter.example.as_ref().filter(|example| !example.is_array() && !example.is_object());
        let default = example.map(|example| format!(" default {example}")).unwrap_or_default();
        self.head.push(format!("% ask {name} \"{question}\"{default}"));
        name
    }

    /// The body to start from.
    fn body(&self) -> Option<(&'a Content, String)> {
        let contents = self.operation.body.iter().flat_map(|body| &body.content);
        let content = contents.min_by_key(|content| !content.is_json())?;
        let example = match (&content.example, &content.schema) {
            (Some(example), _) => Some(example.clone()),
            (None, Some(schema)) => self.api.sample(schema, "body").ok().flatten(),
            (None, None) => None,
        };
        let text = match example.unwrap_or_default() {
            Value::String(text) => text,
            Value::Null => return None,
            other => serde_json::to_string_pretty(&other).unwrap_or_default(),
        };
        Some((content, text))
    }
}
