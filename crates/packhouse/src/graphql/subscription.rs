//! Subscriptions over server-sent events (GraphQL over SSE, distinct connections).

use crate::readings::reading;
use apollo_compiler::executable::{Field, Operation};
use apollo_compiler::response::JsonMap;
use axum::body::{Body, Bytes};
use axum::http::{Response, StatusCode, header};
use axum::response::IntoResponse;
use futures_util::stream;
use serde_json::{Map, Value, json};
use std::convert::Infallible;

/// The readings that a subscription asks for, each as a response, and the end.
pub(super) fn answer(operation: &Operation, variables: &JsonMap) -> Response<Body> {
    let Some(field) = fields(&operation.selection_set).next() else {
        return StatusCode::BAD_REQUEST.into_response();
    };
    let count = field.argument_by_name("count").ok().and_then(|argument| match argument.as_variable() {
        Some(name) => variables.get(name.as_str())?.as_i64(),
        None => argument.to_i32().map(i64::from),
    });
    let mut events: Vec<String> = (1..=count.unwrap_or(3).clamp(0, 1_000))
        .map(|number| {
            let reading = reading(number.unsigned_abs());
            let members = fields(&field.selection_set)
                .map(|member| (member.response_key().to_string(), reading[member.name.as_str()].clone()));
            let data = json!({ field.response_key().to_string(): Value::Object(members.collect::<Map<_, _>>()) });
            format!("event: next\ndata: {}\n\n", json!({ "data": data }))
        })
        .collect();
    events.push("event: complete\ndata:\n\n".to_owned());
    let pieces = stream::iter(events.into_iter().map(|event| Ok::<_, Infallible>(Bytes::from(event))));
    ([(header::CONTENT_TYPE, "text/event-stream")], Body::from_stream(pieces)).into_response()
}

fn fields(selections: &apollo_compiler::executable::SelectionSet) -> impl Iterator<Item = &Field> {
    selections.selections.iter().filter_map(|selection| selection.as_field().map(|field| &**field))
}
