//! Authorization: a clerk who signed in, or a machine with a key.

use crate::answer::Problem;
use crate::state::Shared;
use axum::http::{HeaderMap, StatusCode, header};

/// Lets a request pass that carries a token, a session cookie or the key.
pub(crate) fn require(shared: &Shared, headers: &HeaderMap) -> Result<(), Problem> {
    let text = |name: &str| headers.get(name).map(|value| value.to_str().unwrap_or_default());
    if let Some(key) = text("x-api-key") {
        return if key == shared.server.api_key() {
            Ok(())
        } else {
            Err(Problem::new(StatusCode::FORBIDDEN, "the key is not known", "this X-Api-Key opens nothing here"))
        };
    }
    match token(headers) {
        Some(token) if shared.stock().tokens.contains(token) => Ok(()),
        Some(_) => {
            Err(Problem::new(StatusCode::UNAUTHORIZED, "the token is not known", "sign in again: POST /session"))
        }
        None => Err(Problem::new(
            StatusCode::UNAUTHORIZED,
            "nobody is signed in",
            "send `Authorization: Bearer …` from POST /session, or an X-Api-Key",
        )),
    }
}

/// The token of the header or of the cookie.
pub(crate) fn token(headers: &HeaderMap) -> Option<&str> {
    let bearer = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    let cookie = headers.get(header::COOKIE).and_then(|value| value.to_str().ok());
    bearer
        .and_then(|value| value.strip_prefix("Bearer "))
        .or_else(|| cookie?.split(';').find_map(|pair| pair.trim().strip_prefix("packhouse_session=")))
}
