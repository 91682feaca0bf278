//! The packhouse's authorization server (RFC 6749): a page where a clerk agrees, codes for devices, tokens for machines.

pub(crate) mod assertion;
mod client;
mod consent;
mod device;
mod payroll;
mod proof;
mod token;

use crate::answer::{Problem, json_answer};
use crate::grants::{Code, DeviceCode, Granted};
use crate::state::Shared;
use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, Method, Request, Response, StatusCode, Uri, header};
use axum::middleware::map_request;
use axum::response::IntoResponse;
use axum::routing::{get, post};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde_json::json;
use sha2::{Digest, Sha256};
use std::sync::Arc;

/// A text that depends on the server's password and a number: the same each time, and known to nobody else.
fn derived(shared: &Shared, what: &str, number: u64) -> String {
    URL_SAFE_NO_PAD.encode(Sha256::digest(format!("{} {what} {number}", shared.server.password())))
}

/// The endpoints, and the payroll, which a token opens.
pub(crate) fn routes() -> Router<Arc<Shared>> {
    Router::new()
        .route("/.well-known/oauth-authorization-server", get(metadata))
        .route("/oauth/authorize", get(consent::page).post(consent::decided))
        .route("/oauth/device", get(device::page).post(device::entered))
        .route("/oauth/device-code", post(device::code))
        .route("/oauth/token", post(token::token).delete(forget))
        .route("/oauth/revoke", post(revoke))
        .route("/payroll", get(payroll::payroll))
        .layer(map_request(with_host))
}

/// The request with a `Host` field, which HTTP/2 has as a part of the target (RFC 9113 8.3.1).
async fn with_host(mut request: Request<Body>) -> Request<Body> {
    let authority = request.uri().authority().and_then(|host| HeaderValue::from_str(host.as_str()).ok());
    if let Some(host) = authority {
        request.headers_mut().insert(header::HOST, host);
    }
    request
}

/// The origin that the client sees.
fn issuer(shared: &Shared, headers: &HeaderMap) -> String {
    let host = headers.get(header::HOST).and_then(|value| value.to_str().ok()).unwrap_or("127.0.0.1");
    let scheme = if host.starts_with("localhost:") && shared.wants_certificates { "https" } else { "http" };
    format!("{scheme}://{host}")
}

/// Its metadata (RFC 8414).
pub(crate) async fn metadata(State(shared): State<Arc<Shared>>, headers: HeaderMap) -> Response<Body> {
    let issuer = issuer(&shared, &headers);
    let at = |path: &str| format!("{issuer}{path}");
    let document = json!({
        "issuer": issuer,
        "authorization_endpoint": at("/oauth/authorize"),
        "token_endpoint": at("/oauth/token"),
        "device_authorization_endpoint": at("/oauth/device-code"),
        "revocation_endpoint": at("/oauth/revoke"),
        "response_types_supported": ["code"],
        "code_challenge_methods_supported": ["S256"],
        "authorization_response_iss_parameter_supported": true,
        "dpop_signing_alg_values_supported": ["ES256"],
    });
    json_answer(StatusCode::OK, &document)
}

/// The grant of a request's token.
pub(crate) fn bearer(
    shared: &Shared,
    method: &Method,
    uri: &Uri,
    headers: &HeaderMap,
) -> Result<Granted, Box<Response<Body>>> {
    let closed = |challenge: &'static str| {
        let problem =
            Problem::new(StatusCode::UNAUTHORIZED, "the payroll is closed", "a token is wanted: POST /oauth/token");
        let mut response = problem.into_response();
        response.headers_mut().insert(header::WWW_AUTHENTICATE, HeaderValue::from_static(challenge));
        Box::new(response)
    };
    let given = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let (scheme, token) = given.split_once(' ').unwrap_or_default();
    let granted = shared.stock().authorization.access.get(token).cloned();
    let granted = granted.ok_or_else(|| closed("Bearer"))?;
    let Some(thumbprint) = granted.bound_to.as_deref() else {
        return if scheme == "Bearer" { Ok(granted) } else { Err(closed("Bearer")) };
    };
    let url = format!("{}{}", issuer(shared, headers), uri.path());
    let expected = proof::Expected { method: method.as_str(), url: &url, token: Some(token) };
    match proof::verify(shared, headers, &expected) {
        Ok(found) if scheme == "DPoP" && found == thumbprint => Ok(granted),
        Err(proof::Refused::Nonce) => Err(Box::new(with_nonce(shared, *closed("DPoP error=\"use_dpop_nonce\"")))),
        _ => Err(closed("DPoP error=\"invalid_token\"")),
    }
}

/// A response with the nonce that the next proof must have (RFC 9449 8).
fn with_nonce(shared: &Shared, mut response: Response<Body>) -> Response<Body> {
    if let Ok(nonce) = HeaderValue::from_str(&proof::nonce(shared)) {
        response.headers_mut().insert("dpop-nonce", nonce);
    }
    response
}

/// Revokes a token (RFC 7009).
pub(crate) async fn revoke(State(shared): State<Arc<Shared>>, headers: HeaderMap, body: Bytes) -> Response<Body> {
    let form = form(&body);
    if let Err(refused) = client::authenticate(&shared, &headers, &form) {
        return *refused;
    }
    let grants = &mut shared.stock().authorization;
    let token = field(&form, "token");
    grants.access.remove(token);
    if let Some(granted) = grants.refresh.remove(token) {
        grants.access.retain(|_, other| other.client != granted.client || other.user != granted.user);
    }
    StatusCode::OK.into_response()
}

/// Forgets all tokens, as a restarted office does.
pub(crate) async fn forget(State(shared): State<Arc<Shared>>) -> StatusCode {
    let grants = &mut shared.stock().authorization;
    grants.access.clear();
    grants.refresh.clear();
    StatusCode::NO_CONTENT
}

type Form = Vec<(String, String)>;

fn form(body: &[u8]) -> Form {
    serde_urlencoded::from_bytes(body).unwrap_or_default()
}

fn field<'f>(form: &'f Form, name: &str) -> &'f str {
    form.iter().find(|(own, _)| own == name).map(|(_, value)| value.as_str()).unwrap_or_default()
}

/// An error of RFC 6749 5.2.
fn refuse(status: StatusCode, error: &str, message: &str) -> Response<Body> {
    json_answer(status, &json!({ "error": error, "error_description": message }))
}

/// A text in HTML.
fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}

/// A page with a form.
fn html(status: StatusCode, title: &str, content: &str) -> Response<Body> {
    let page = format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>{title}</title>\
         <style>body{{font:1.1rem sans-serif;margin:4rem auto;max-width:32rem}}button{{font:inherit}}</style>\
         <h1>{title}</h1>{content}"
    );
    (status, [(header::CONTENT_TYPE, "text/html; charset=utf-8")], page).into_response()
}
