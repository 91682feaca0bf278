//! The packhouse as a GraphQL API (GraphQL over HTTP): queries by GET and POST, mutations by POST, files as parts.

mod resolvers;
mod subscription;
mod upload;

use crate::answer::json_answer;
use crate::state::Shared;
use crate::{Server, access};
use apollo_compiler::parser::Parser;
use apollo_compiler::resolvers::Execution;
use apollo_compiler::response::{GraphQLError, JsonMap};
use apollo_compiler::validation::Valid;
use apollo_compiler::{ExecutableDocument, Schema};
use axum::body::{Body, Bytes};
use axum::extract::{Query, State};
use axum::http::{HeaderMap, HeaderValue, Method, Response, StatusCode, header};
use resolvers::Root;
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::HashMap;
use std::sync::{Arc, LazyLock};

/// Fields may be nested so deep.
const MAX_DEPTH: usize = 60;

/// Tokens that a document may have.
const MAX_TOKENS: usize = 20_000;

/// `None` only if the text beside this file were not valid, which a test rules out.
static SCHEMA: LazyLock<Option<Valid<Schema>>> =
    LazyLock::new(|| Schema::parse_and_validate(include_str!("schema.graphql"), "schema.graphql").ok());

/// A request, however it was sent.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase")]
struct GraphQlRequest {
    query: String,
    operation_name: Option<String>,
    variables: Option<JsonMap>,
}

/// The media types of responses.
#[derive(Clone, Copy, PartialEq)]
enum Form {
    /// `application/graphql-response+json`: the status says how it went.
    GraphQl,
    /// `application/json`: 200 for every request that could be read.
    Json,
}

/// Answers a request.
pub(crate) async fn graphql(
    State(shared): State<Arc<Shared>>,
    method: Method,
    Query(query): Query<HashMap<String, String>>,
    headers: HeaderMap,
    body: Bytes,
) -> Response<Body> {
    let text = |name| headers.get(name).and_then(|value: &HeaderValue| value.to_str().ok()).unwrap_or_default();
    let form = match text(header::ACCEPT).contains("application/graphql-response+json") {
        true => Form::GraphQl,
        false => Form::Json,
    };
    let request = match method {
        Method::GET => of_query(&query),
        _ => of_body(text(header::CONTENT_TYPE), &body).await,
    };
    let request = match request {
        Ok(request) => request,
        Err(message) => return answer(form, StatusCode::BAD_REQUEST, &json!({ "errors": [{ "message": message }] })),
    };
    if text(header::ACCEPT).contains("text/event-stream")
        && let Some(stream) = subscribe(&request)
    {
        return stream;
    }
    let is_clerk = access::require(&shared, &headers).is_ok();
    match execute(&shared, &request, method == Method::GET, is_clerk) {
        Ok(response) => answer(form, StatusCode::OK, &response),
        Err(errors) => {
            let status = if form == Form::GraphQl { StatusCode::BAD_REQUEST } else { StatusCode::OK };
            answer(form, status, &json!({ "errors": errors }))
        }
    }
}

/// The stream of a subscription, if the document is one.
fn subscribe(request: &GraphQlRequest) -> Option<Response<Body>> {
    let schema = SCHEMA.as_ref()?;
    let mut parser = Parser::new().recursion_limit(MAX_DEPTH).token_limit(MAX_TOKENS);
    let document = parser.parse_executable(schema, &request.query, "request").ok()?.validate(schema).ok()?;
    let operation = document.operations.get(request.operation_name.as_deref()).ok()?;
    let variables = request.variables.clone().unwrap_or_default();
    operation.is_subscription().then(|| subscription::answer(operation, &variables))
}

fn answer(form: Form, status: StatusCode, value: &Value) -> Response<Body> {
    let mut answer = json_answer(status, value);
    if form == Form::GraphQl {
        let media = HeaderValue::from_static("application/graphql-response+json; charset=utf-8");
        answer.headers_mut().insert(header::CONTENT_TYPE, media);
    }
    answer
}

fn of_query(query: &HashMap<String, String>) -> Result<GraphQlRequest, String> {
    let variables = match query.get("variables") {
        Some(text) => {
            Some(serde_json::from_str(text).map_err(|error| format!("`variables` is not a JSON object: {error}"))?)
        }
        None => None,
    };
    let document = query.get("query").ok_or("the parameter `query` is missing")?;
    Ok(GraphQlRequest { query: document.clone(), operation_name: query.get("operationName").cloned(), variables })
}

async fn of_body(media: &str, body: &Bytes) -> Result<GraphQlRequest, String> {
    let essence = media.split(';').next().unwrap_or_default().trim();
    let value: Value = match essence {
        "application/json" => serde_json::from_slice(body).map_err(|error| format!("the body is not JSON: {error}"))?,
        "multipart/form-data" => upload::request(media, body).await?,
        other => return Err(format!("`{other}` is not a media type of GraphQL requests")),
    };
    serde_json::from_value(value).map_err(|error| format!("the body is not a GraphQL request: {error}"))
}

/// The response to a document, or why it could not be executed.
fn execute(
    shared: &Shared,
    request: &GraphQlRequest,
    is_get: bool,
    is_clerk: bool,
) -> Result<Value, Vec<GraphQLError>> {
    let failed = |message: &str| vec![GraphQLError::new(message, None, &Default::default())];
    let Some(schema) = &*SCHEMA else { return Err(failed("the schema is not valid")) };
    let mut parser = Parser::new().recursion_limit(MAX_DEPTH).token_limit(MAX_TOKENS);
    let parsed: Result<ExecutableDocument, _> = parser.parse_executable(schema, &request.query, "request");
    let errors =
        |errors: &apollo_compiler::validation::DiagnosticList| errors.iter().map(|error| error.to_json()).collect();
    let parsed: ExecutableDocument = parsed.map_err(|error| -> Vec<GraphQLError> { errors(&error.errors) })?;
    let document = parsed.validate(schema).map_err(|error| -> Vec<GraphQLError> { errors(&error.errors) })?;
    let refused = |error: apollo_compiler::request::RequestError| vec![error.to_graphql_error(&document.sources)];
    let operation = document.operations.get(request.operation_name.as_deref()).map_err(refused)?;
    if is_get && operation.is_mutation() {
        return Err(failed("a mutation must be sent with POST"));
    }
    let variables = request.variables.clone().unwrap_or_default();
    let root = Root { shared, is_clerk, is_mutation: operation.is_mutation() };
    let execution = Execution::new(schema, &document)
        .operation(operation)
        .raw_variable_values(&variables)
        // Whoever looks at the server that counts must know what it is.
        .enable_schema_introspection(shared.server == Server::Local);
    let mut response = execution.execute_sync(&root).map_err(refused)?;
    for error in &mut response.errors {
        error.message = error.message.trim_start_matches("resolver error: ").to_owned();
    }
    Ok(serde_json::to_value(response).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(query: &str, variables: Value, is_clerk: bool) -> Value {
        let shared = Shared::new(Server::Local, false);
        let variables = serde_json::from_value(variables).expect("an object");
        let request = GraphQlRequest { query: query.to_owned(), operation_name: None, variables: Some(variables) };
        execute(&shared, &request, false, is_clerk).unwrap_or_else(|errors| json!({ "errors": errors }))
    }

    #[test]
    fn a_query_gives_what_it_selects() {
        let found =
            run("query($id: ID!) { lot(id: $id) { id state grower { name } } }", json!({ "id": "L-2038" }), false);
        let lot = json!({ "id": "L-2038", "state": "CLOSED", "grower": { "name": "Marlow Ridge" } });
        assert_eq!(found, json!({ "data": { "lot": lot } }));
        let page = run("{ lots(first: 2) { nodes { id } next total } }", json!({}), false);
        assert_eq!(page["data"]["lots"]["next"], "L-2039");
        let found = run(
            "{ search(text: \"gala\") { __typename ... on Lot { id } } numbered(id: \"G-11\") { id } }",
            json!({}),
            false,
        );
        assert_eq!(found["data"]["search"], json!([{ "__typename": "Lot", "id": "L-2038" }]));
    }

    #[test]
    fn what_is_not_for_everybody_is_an_error_beside_the_rest() {
        let found = run("{ lot(id: \"L-2038\") { id price } }", json!({}), false);
        assert_eq!(found["data"]["lot"], json!({ "id": "L-2038", "price": null }));
        assert_eq!(found["errors"][0]["path"], json!(["lot", "price"]));
        let found = run("mutation { bookLot(lot: { grower: \"G-99\", bins: 3 }) { id } }", json!({}), true);
        assert_eq!(found["errors"][0]["message"], "G-99 is no grower of ours");
        assert_eq!(found["data"], Value::Null);
    }

    #[test]
    fn a_document_without_end_is_refused() {
        let deep = "{ growers ".repeat(10_000);
        assert!(run(&deep, json!({}), false)["errors"].as_array().is_some_and(|errors| !errors.is_empty()));
    }
}
