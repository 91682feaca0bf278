//! The errors in the response to a GraphQL request, each at its place in the document.

use crate::response_exprs::ResponseExpr;
use serde::Deserialize;
use yieldtray_http::Exchange;
use yieldtray_source::{Code, Problem, Span};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace, graphql_document};

/// Larger bodies are not read for their errors, in bytes.
const MAX_BODY_BYTES: usize = 16 << 20;

/// Of more errors only the first are reported.
const MAX_ERRORS: usize = 5;

#[derive(Deserialize)]
struct Response {
    #[serde(default)]
    errors: Vec<ResponseError>,
}

#[derive(Deserialize)]
struct ResponseError {
    #[serde(default)]
    message: String,
    #[serde(default)]
    locations: Vec<Location>,
    #[serde(default)]
    path: Vec<serde_json::Value>,
}

#[derive(Deserialize)]
struct Location {
    line: usize,
    column: usize,
}

/// The errors of the response to a cell, if it is a GraphQL request and none of its checks reads them.
pub(crate) fn graphql_errors(
    workspace: &Workspace,
    cell: CellId,
    exprs: &[ResponseExpr<'_>],
    exchange: &Exchange,
    masker: &Masker,
) -> Vec<Problem> {
    let are_checked =
        || exprs.iter().any(|expr| expr.is_check() && expr.expression.names().any(|name| name == "errors"));
    let Some(document) = graphql_document(workspace, cell) else { return Vec::new() };
    if exchange.body.len() > MAX_BODY_BYTES || are_checked() {
        return Vec::new();
    }
    let Ok(Response { errors }) = serde_json::from_slice(&exchange.body) else { return Vec::new() };
    let count = errors.len();
    let line = workspace.cell(cell).request.as_ref().map_or(Span::default(), |line| line.span);
    let document = document.ok();
    let mut problems = Vec::new();
    for (number, error) in errors.into_iter().take(MAX_ERRORS).enumerate() {
        let path: Vec<String> =
            error.path.iter().map(|own| own.as_str().map_or_else(|| own.to_string(), str::to_owned)).collect();
        let at = if path.is_empty() { String::new() } else { format!(" (at `{}`)", path.join(".")) };
        let message = masker.mask(&format!("the server reports: {}{at}", error.message)).into_owned();
        let place = document
            .as_ref()
            .and_then(|document| error.locations.iter().find_map(|place| document.place_of(place.line, place.column)));
        let (source, span) = match place {
            Some((source, start)) => {
                let text = &workspace.source(source).text[start..];
                let length = text.find(|c: char| !(c.is_alphanumeric() || c == '_')).unwrap_or(text.len()).max(1);
                (source, Span::new(start, start + length.min(text.len())))
            }
            None => (cell.source, line),
        };
        let mut problem = Problem::warning(Code::GraphqlErrors, span, message).in_source(source);
        if number == 0 && exchange.status < 400 {
            let word = if count == 1 { "an error" } else { "errors" };
            problem = problem.with_hint(format!(
                "the status is {}, but there is {word}: `% check errors == []` makes it fail",
                exchange.status
            ));
        }
        problems.push(problem);
    }
    problems
}
