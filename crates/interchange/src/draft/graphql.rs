//! Requests that are GraphQL: a JSON body with a document becomes the document itself, with its variables above it.

use super::{Body, ImportedRequest};
use serde_json::{Map, Value};
use yieldtray_description::operations;
use yieldtray_source::names::is_value_name;

impl ImportedRequest {
    /// Writes a JSON body of GraphQL over HTTP as a document. One that a cell could not send in the same way stays as it is.
    pub(super) fn turn_into_graphql(&mut self) {
        if let Some((document, lines)) = self.graphql_document() {
            self.lines.extend(lines);
            self.headers
                .retain(|(name, _)| !name.plain().is_some_and(|name| name.eq_ignore_ascii_case("content-type")));
            self.body = Body::Text(document.into());
        }
    }

    fn graphql_document(&self) -> Option<(String, Vec<String>)> {
        let Body::Text(text) = &self.body else { return None };
        if self.method.as_ref()?.plain()? != "POST" {
            return None;
        }
        let body: Map<String, Value> = serde_json::from_str(text.plain()?).ok()?;
        let document = body.get("query")?.as_str()?.trim();
        let known = |name: &String| matches!(name.as_str(), "query" | "operationName" | "variables");
        // What would be an instruction or an escape in a body is none in a document.
        let is_plain =
            !document.contains("{{") && !document.contains('\\') && !document.lines().any(|line| line.starts_with('%'));
        if !body.keys().all(known) || !is_plain {
            return None;
        }
        let all = operations(document).ok().filter(|all| !all.is_empty())?;
        let mut lines = vec!["% graphql".to_owned()];
        match body.get("operationName") {
            Some(Value::String(name)) if all.iter().any(|own| own.name.as_deref() == Some(name)) => {
                lines.push(format!("% operation {name}"));
            }
            None | Some(Value::Null) if all.len() == 1 => {}
            _ => return None,
        }
        match body.get("variables") {
            None | Some(Value::Null) => {}
            Some(Value::Object(variables)) => {
                for (name, value) in variables {
                    if !is_value_name(name) {
                        return None;
                    }
                    // JSON is an expression too.
                    lines.push(format!("% variable {name} = {value}"));
                }
            }
            Some(_) => return None,
        }
        Some((document.to_owned(), lines))
    }
}
