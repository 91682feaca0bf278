//! The payroll, which a token opens.

use super::bearer;
use crate::answer::json_answer;
use crate::state::Shared;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderMap, Method, Response, StatusCode, Uri};
use serde_json::json;
use std::sync::Arc;

/// The payroll, for whoever carries a token of ours; and how many were given so far.
pub(crate) async fn payroll(
    State(shared): State<Arc<Shared>>,
    method: Method,
    uri: Uri,
    headers: HeaderMap,
) -> Response<Body> {
    let granted = match bearer(&shared, &method, &uri, &headers) {
        Ok(granted) => granted,
        Err(refused) => return *refused,
    };
    let body = json!({
        "clerks": 3, "tokens_given": shared.stock().authorization.given, "scope": granted.scope, "client": granted.client,
        "user": granted.user, "audience": granted.audience,
    });
    json_answer(StatusCode::OK, &body)
}
