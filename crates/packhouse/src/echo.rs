//! Echoes requests.

use crate::answer::json_answer;
use axum::body::{Body, Bytes};
use axum::http::{HeaderMap, Method, Response, StatusCode, Uri};
use serde_json::{Value, json};

/// Returns the request as it arrived: method, target, header fields in order, body as text.
pub(crate) async fn echo(method: Method, uri: Uri, headers: HeaderMap, body: Bytes) -> Response<Body> {
    let fields: Vec<Value> =
        headers.iter().map(|(name, value)| json!([name.as_str(), String::from_utf8_lossy(value.as_bytes())])).collect();
    let target = uri.path_and_query().map_or_else(|| uri.to_string(), ToString::to_string);
    json_answer(
        StatusCode::OK,
        &json!({
            "method": method.as_str(),
            "target": target,
            "headers": fields,
            "body": String::from_utf8_lossy(&body),
        }),
    )
}
