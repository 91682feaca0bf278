//! The packhouse's own description (OpenAPI 3.1), and how it is found: by a link (RFC 8631), and in the catalog of APIs
//! (RFC 9727).

use crate::answer::json_answer;
use axum::body::Body;
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use axum::response::IntoResponse;
use serde_json::json;

/// The packhouse's description (OpenAPI 3.1).
pub const OPENAPI: &str = include_str!("openapi.json");

/// Changes whenever the description does.
const ETAG: &str = "\"packhouse-2026.11\"";

/// The description.
pub(crate) async fn openapi(headers: HeaderMap) -> Response<Body> {
    let known = headers.get(header::IF_NONE_MATCH).and_then(|value| value.to_str().ok());
    if known == Some(ETAG) {
        return (StatusCode::NOT_MODIFIED, [(header::ETAG, ETAG)]).into_response();
    }
    ([(header::CONTENT_TYPE, "application/json"), (header::ETAG, ETAG)], OPENAPI).into_response()
}

/// The start page, which links to the description.
pub(crate) async fn start() -> Response<Body> {
    let mut answer = json_answer(StatusCode::OK, &json!({ "name": "packhouse", "description": "/openapi.json" }));
    let link = HeaderValue::from_static("</openapi.json>; rel=\"service-desc\"; type=\"application/json\"");
    answer.headers_mut().insert(header::LINK, link);
    answer
}

/// The catalog of APIs.
pub(crate) async fn catalog() -> Response<Body> {
    let links = json!({ "linkset": [
        { "anchor": "/", "service-desc": [{ "href": "/openapi.json", "type": "application/json" }] },
        { "anchor": "/graphql", "service-desc": [{ "href": "/graphql", "type": "application/graphql-response+json" }] },
    ] });
    ([(header::CONTENT_TYPE, "application/linkset+json")], links.to_string()).into_response()
}
