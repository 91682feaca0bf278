//! Signing in, with a cookie.

use crate::access;
use crate::answer::{Fields, Problem, json_answer, object};
use crate::state::Shared;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use serde_json::json;
use sha2::{Digest, Sha256};
use std::sync::Arc;

pub(crate) async fn health(State(shared): State<Arc<Shared>>) -> Response<Body> {
    json_answer(StatusCode::OK, &json!({ "status": "open", "server": shared.server.name() }))
}

pub(crate) async fn sign_in(
    State(shared): State<Arc<Shared>>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response<Body>, Problem> {
    let mut fields = Fields::new(object(&headers, &body)?);
    let (email, password) = (fields.text("email"), fields.text("password"));
    fields.need("email", &email);
    fields.need("password", &password);
    fields.finish()?;
    if email.as_deref() != Some(shared.server.clerk()) || password.as_deref() != Some(shared.server.password()) {
        let detail = "no clerk has this e-mail address and password";
        return Err(Problem::new(StatusCode::UNAUTHORIZED, "not signed in", detail));
    }
    let mut stock = shared.stock();
    stock.signed_in += 1;
    // The same in each run, so that demos and tests repeat; other on each server.
    let digest = Sha256::digest(format!("{} shift {}", shared.server.password(), stock.signed_in));
    let token: String = digest.iter().take(20).map(|byte| format!("{byte:02x}")).collect();
    stock.tokens.insert(token.clone());
    let mut answer =
        json_answer(StatusCode::OK, &json!({ "token": token, "clerk": shared.server.clerk(), "shift_minutes": 480 }));
    let cookie = format!("packhouse_session={token}; Path=/; HttpOnly; SameSite=Lax");
    if let Ok(cookie) = HeaderValue::from_str(&cookie) {
        answer.headers_mut().append(header::SET_COOKIE, cookie);
    }
    Ok(answer)
}

pub(crate) async fn sign_out(State(shared): State<Arc<Shared>>, headers: HeaderMap) -> Result<StatusCode, Problem> {
    access::require(&shared, &headers)?;
    if let Some(token) = access::token(&headers) {
        shared.stock().tokens.remove(token);
    }
    Ok(StatusCode::NO_CONTENT)
}
