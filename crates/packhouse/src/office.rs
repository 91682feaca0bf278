//! The office: a ledger behind digest credentials (RFC 7616), a payroll behind tokens (RFC 6749).

use crate::answer::{Problem, json_answer};
use crate::state::Shared;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, Method, Response, StatusCode, Uri, header};
use axum::response::IntoResponse;
use serde_json::json;
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::sync::Arc;

const REALM: &str = "packhouse office";
const CLIENT: &str = "packhouse-desk";

/// A token that ends soon ends after this many seconds, any other after an hour.
const BRIEF: u32 = 5;

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

/// Gives tokens: for client credentials, a clerk's password, or a token to renew. With the scope `brief`
/// they end after five seconds.
pub(crate) async fn token(State(shared): State<Arc<Shared>>, headers: HeaderMap, body: Bytes) -> Response<Body> {
    let form: HashMap<String, String> = serde_urlencoded::from_bytes(&body).unwrap_or_default();
    let field = |name: &str| form.get(name).map(String::as_str).unwrap_or_default();
    let refuse = |status, error: &str, message: &str| {
        json_answer(status, &json!({ "error": error, "error_description": message }))
    };
    if !is_client(&shared, &headers, field("client_id"), field("client_secret")) {
        return refuse(StatusCode::UNAUTHORIZED, "invalid_client", "this client is not known");
    }
    let renewed = match field("grant_type") {
        "client_credentials" => false,
        "password" if (field("username"), field("password")) == (shared.server.clerk(), shared.server.password()) => {
            false
        }
        "refresh_token" if shared.stock().refreshes.remove(field("refresh_token")) => true,
        "password" | "refresh_token" => {
            return refuse(StatusCode::BAD_REQUEST, "invalid_grant", "this grant is not valid, or has ended");
        }
        _ => return refuse(StatusCode::BAD_REQUEST, "unsupported_grant_type", "no such grant"),
    };
    let mut stock = shared.stock();
    stock.granted += 1;
    let number = stock.granted;
    let access = hex(&format!("{} access {number}", shared.server.password()));
    let refresh = hex(&format!("{} refresh {number}", shared.server.password()));
    stock.payroll.insert(access.clone());
    stock.refreshes.insert(refresh.clone());
    let seconds = if field("scope") == "brief" { BRIEF } else { 3_600 };
    json_answer(
        StatusCode::OK,
        &json!({
            "access_token": access, "token_type": "Bearer", "expires_in": seconds, "refresh_token": refresh,
            "scope": field("scope"), "renewed": renewed,
        }),
    )
}

fn is_client(shared: &Shared, headers: &HeaderMap, id: &str, secret: &str) -> bool {
    let basic = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    let wanted = format!("{CLIENT}:{}", shared.server.api_key());
    match basic.and_then(|value| value.strip_prefix("Basic ")) {
        Some(given) => given == base64(wanted.as_bytes()),
        None => format!("{id}:{secret}") == wanted,
    }
}

fn base64(bytes: &[u8]) -> String {
    use base64::Engine;
    base64::engine::general_purpose::STANDARD.encode(bytes)
}

/// The payroll, for whoever carries a token of ours; and how many were given so far.
pub(crate) async fn payroll(State(shared): State<Arc<Shared>>, headers: HeaderMap) -> Result<Response<Body>, Problem> {
    let stock = shared.stock();
    let token = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()?.strip_prefix("Bearer "));
    if token.is_none_or(|token| !stock.payroll.contains(token)) {
        return Err(Problem::new(
            StatusCode::UNAUTHORIZED,
            "the payroll is closed",
            "a token is wanted: POST /oauth/token",
        ));
    }
    Ok(json_answer(StatusCode::OK, &json!({ "clerks": 3, "tokens_given": stock.granted })))
}

/// Forgets all tokens, as a restarted office does.
pub(crate) async fn forget(State(shared): State<Arc<Shared>>) -> StatusCode {
    let mut stock = shared.stock();
    stock.payroll.clear();
    stock.refreshes.clear();
    StatusCode::NO_CONTENT
}
