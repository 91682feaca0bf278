//! The office: a ledger behind digest credentials (RFC 7616).

use crate::answer::{Problem, json_answer};
use crate::state::Shared;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderMap, Method, Response, StatusCode, Uri, header};
use axum::response::IntoResponse;
use serde_json::json;
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::sync::Arc;

const REALM: &str = "packhouse office";

fn hex(text: &str) -> String {
    Sha256::digest(text).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The ledger, for the clerk who can prove to know the password.
pub(crate) async fn ledger(
    State(shared): State<Arc<Shared>>,
    method: Method,
    uri: Uri,
    headers: HeaderMap,
) -> Response<Body> {
    let nonce = hex(&format!("{} nonce", shared.server.password()));
    let given = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    let answer = given.and_then(|value| value.strip_prefix("Digest "));
    if answer.is_some_and(|answer| proves(&shared, &method, &uri, answer, &nonce)) {
        return json_answer(StatusCode::OK, &json!({ "season": 2026, "balance": 18_204.5 }));
    }
    let problem = Problem::new(StatusCode::UNAUTHORIZED, "the ledger is closed", "digest credentials are wanted");
    let mut response = problem.into_response();
    let challenge = format!("Digest realm=\"{REALM}\", qop=\"auth\", algorithm=SHA-256, nonce=\"{nonce}\"");
    if let Ok(value) = challenge.parse() {
        response.headers_mut().insert(header::WWW_AUTHENTICATE, value);
    }
    response
}

/// Whether the digest matches RFC 7616 3.4.1.
fn proves(shared: &Shared, method: &Method, uri: &Uri, answer: &str, nonce: &str) -> bool {
    let fields: HashMap<&str, &str> = answer
        .split(", ")
        .filter_map(|pair| pair.split_once('='))
        .map(|(name, value)| (name.trim(), value.trim().trim_matches('"')))
        .collect();
    let field = |name: &str| fields.get(name).copied().unwrap_or_default();
    let secret = hex(&format!("{}:{REALM}:{}", shared.server.clerk(), shared.server.password()));
    let target = uri.path_and_query().map_or("/", |target| target.as_str());
    let request = hex(&format!("{method}:{target}"));
    let expected = hex(&format!("{secret}:{nonce}:{}:{}:auth:{request}", field("nc"), field("cnonce")));
    field("nonce") == nonce && field("username") == shared.server.clerk() && field("response") == expected
}
