//! GraphQL requests over HTTP (the draft of GraphQL over HTTP): a JSON body, query parameters for GET, and parts for
//! uploads.

use super::multipart::{self, Part};
use super::write::TemplateRenderer;
use crate::scope::Phase;
use crate::{LoadedApi, graphql_api_of, graphql_document};
use serde_json::{Map, Value, json};
use url::form_urlencoded;
use yieldtray_description::operations;
use yieldtray_http::{Body, BodyPart};
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::InstructionKind;

/// The parts of a request.
pub(super) struct GraphQlRequest {
    query: String,
    operation: Option<String>,
    variables: Map<String, Value>,
    /// Whether it is answered by a stream of events.
    pub(super) is_subscription: bool,
}

/// Whether the operation of a document is a subscription.
fn is_subscription(document: &str, operation: Option<&str>) -> bool {
    // Most documents need not be read for it.
    document.contains("subscription")
        && operations(document).is_ok_and(|all| {
            let chosen = all.iter().find(|one| operation.is_none() || one.name.as_deref() == operation);
            chosen.is_some_and(|chosen| chosen.kind == "subscription")
        })
}

impl TemplateRenderer<'_, '_> {
    /// The GraphQL request of the cell; `None` if it is none, or a problem was reported.
    pub(super) fn graphql(&mut self, source: SourceId) -> Option<GraphQlRequest> {
        let workspace = self.resolver.workspace;
        let cell = self.resolver.cell;
        let document = match graphql_document(workspace, cell)? {
            Ok(document) => document,
            Err(problem) => {
                self.problems.push(problem);
                return None;
            }
        };
        let text = &workspace.source(source).text;
        let mut variables = Map::new();
        for line in workspace.cell(cell).instructions() {
            let InstructionKind::Variable { name, expression } = line.kind else { continue };
            match self.resolver.evaluate(source, expression, Phase::Request) {
                Ok(value) => drop(variables.insert(name.of(text).to_owned(), value.to_json())),
                Err(problems) => self.problems.extend(problems),
            }
        }
        let operation = document.operation.as_ref().map(|(name, _)| name.clone());
        let is_subscription = is_subscription(&document.text, operation.as_deref());
        let request = GraphQlRequest { query: document.text.clone(), operation, variables, is_subscription };
        // With a schema, values of wrong types are found before the server finds them.
        if let Some(schema) = graphql_api_of(workspace, cell).and_then(LoadedApi::schema)
            && !self.has_uploads()
            && let Some(message) =
                schema.variable_problem(&request.query, request.operation.as_deref(), &request.variables)
        {
            let first = workspace.cell(cell).instructions().find_map(|line| match line.kind {
                InstructionKind::Variable { expression, name } if message.contains(name.of(text)) => Some(expression),
                _ => None,
            });
            let span = first.unwrap_or_else(|| self.graphql_line());
            self.problems.push(Problem::error(Code::InvalidGraphql, span, message).in_source(source));
        }
        Some(request)
    }

    fn graphql_line(&self) -> Span {
        let lines = self.resolver.workspace.cell(self.resolver.cell).instructions();
        let mut lines = lines.filter(|line| line.kind == InstructionKind::GraphQl);
        lines.next().map(|line| line.span).unwrap_or_default()
    }

    fn has_uploads(&self) -> bool {
        let lines = self.resolver.workspace.cell(self.resolver.cell).instructions();
        lines.into_iter().any(|line| matches!(line.kind, InstructionKind::Part { .. }))
    }

    /// The body of a request that is not a GET, and its media type.
    pub(super) fn graphql_body(
        &mut self,
        source: SourceId,
        request: &GraphQlRequest,
    ) -> (Option<Body>, Option<String>) {
        if !self.has_uploads() {
            return (Some(request.json().to_string().into()), Some("application/json".to_owned()));
        }
        self.multipart(source, request)
    }

    /// Uploads as parts: the request, which variable each file is, and the files.
    fn multipart(&mut self, source: SourceId, request: &GraphQlRequest) -> (Option<Body>, Option<String>) {
        let workspace = self.resolver.workspace;
        let mut files = Vec::new();
        for line in workspace.cell(self.resolver.cell).instructions() {
            if let InstructionKind::Part { name, content } = line.kind {
                files.extend(self.part(source, name, content));
            }
        }
        let mut operations = request.json();
        let (mut map, mut parts) = (Map::new(), Vec::new());
        for (number, file) in files.into_iter().enumerate() {
            let mut place = &mut operations["variables"];
            for segment in file.name.split('.') {
                place = match segment.parse::<usize>() {
                    Ok(at) => {
                        if !place.is_array() {
                            *place = json!([]);
                        }
                        let list = place.as_array_mut().map_or(0, |list| {
                            while list.len() <= at.min(1_000) {
                                list.push(Value::Null);
                            }
                            list.len()
                        });
                        &mut place[at.min(list.saturating_sub(1))]
                    }
                    Err(_) => {
                        if !place.is_object() {
                            *place = json!({});
                        }
                        &mut place[segment]
                    }
                };
            }
            *place = Value::Null;
            map.insert(number.to_string(), json!([format!("variables.{}", file.name)]));
            parts.push(Part { name: number.to_string(), ..file });
        }
        let field = |name: &str, value: &Value| Part {
            name: name.to_owned(),
            filename: None,
            media: Some("application/json".to_owned()),
            piece: BodyPart::Bytes(value.to_string().into()),
        };
        let mut all = vec![field("operations", &operations), field("map", &Value::Object(map))];
        all.extend(parts);
        let boundary = self.resolver.context.random.boundary();
        let media = format!("multipart/form-data; boundary={boundary}");
        (Some(multipart::body(all, &boundary)), Some(media))
    }
}

impl GraphQlRequest {
    fn json(&self) -> Value {
        let mut body = Map::new();
        body.insert("query".to_owned(), Value::from(self.query.as_str()));
        if let Some(operation) = &self.operation {
            body.insert("operationName".to_owned(), Value::from(operation.as_str()));
        }
        if !self.variables.is_empty() {
            body.insert("variables".to_owned(), Value::Object(self.variables.clone()));
        }
        Value::Object(body)
    }

    /// The query parameters of a GET, without `?`.
    pub(super) fn parameters(&self) -> String {
        let mut pairs = form_urlencoded::Serializer::new(String::new());
        pairs.append_pair("query", &self.query);
        if let Some(operation) = &self.operation {
            pairs.append_pair("operationName", operation);
        }
        if !self.variables.is_empty() {
            pairs.append_pair("variables", &Value::Object(self.variables.clone()).to_string());
        }
        pairs.finish()
    }
}
