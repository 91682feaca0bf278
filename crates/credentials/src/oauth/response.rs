//! The response of a token endpoint (RFC 6749 5).

use super::TokenError;
use super::token::{Token, TokenKind};
use crate::ProofKey;
use serde_json::Value;
use yieldtray_http::Exchange;

/// A response with a token.
pub(crate) struct Granted {
    pub(crate) token: Token,
    pub(crate) id_token: Option<String>,
}

/// A response without one: the `error`, and what is shown of it.
pub(crate) struct Refusal {
    pub(crate) error: String,
    pub(crate) shown: TokenError,
}

/// The properties of the token that are not in the response.
pub(crate) struct Expected<'e> {
    pub(crate) profile: &'e str,
    pub(crate) fingerprint: &'e str,
    pub(crate) scope: Option<&'e str>,
    /// The refresh token that was used: it stays in force if no other comes (RFC 6749 6).
    pub(crate) refresh: Option<&'e str>,
    pub(crate) proof_key: Option<&'e ProofKey>,
    pub(crate) host: &'e str,
    pub(crate) now: i64,
}

/// The token in a response.
pub(crate) fn read(answer: &Exchange, expected: &Expected<'_>) -> Result<Granted, Refusal> {
    let body: Value = serde_json::from_slice(&answer.body).unwrap_or_default();
    let text = |key: &str| body[key].as_str().map(str::to_owned);
    let Some(access) = text("access_token").filter(|access| answer.status == 200 && !access.is_empty()) else {
        return Err(refusal(answer, &body, expected.host));
    };
    let kind = text("token_type").unwrap_or_else(|| "Bearer".to_owned());
    let kind = match expected.proof_key {
        Some(key) if kind.eq_ignore_ascii_case("dpop") => TokenKind::Bound(key.clone()),
        None if kind.eq_ignore_ascii_case("bearer") => TokenKind::Bearer,
        found => {
            let supported =
                if found.is_some() { "`DPoP` (the profile has `token_type = \"dpop\"`)" } else { "`Bearer`" };
            return Err(Refusal { error: String::new(), shown: TokenError::Kind { kind, supported } });
        }
    };
    let seconds = body["expires_in"].as_i64().or_else(|| body["expires_in"].as_str()?.parse().ok());
    let token = Token {
        profile: expected.profile.to_owned(),
        fingerprint: expected.fingerprint.to_owned(),
        access,
        kind,
        refresh: text("refresh_token").or_else(|| expected.refresh.map(str::to_owned)),
        scope: text("scope").or_else(|| expected.scope.map(str::to_owned)).filter(|scope| !scope.is_empty()),
        expires_at: seconds.map(|seconds| expected.now.saturating_add(seconds.max(0))),
        obtained_now: true,
    };
    Ok(Granted { token, id_token: text("id_token") })
}

/// The refusal in a response (RFC 6749 5.2).
pub(crate) fn refusal(answer: &Exchange, body: &Value, host: &str) -> Refusal {
    let text = |key: &str| body[key].as_str().map(str::to_owned);
    let error = text("error").unwrap_or_default();
    let why = match (error.is_empty(), text("error_description")) {
        (false, Some(words)) => format!("{error}: {words}"),
        (false, None) => error.clone(),
        _ if answer.status == 200 => "the response has no `access_token`".to_owned(),
        _ => answer.reason.clone(),
    };
    Refusal { error, shown: TokenError::Refused { host: host.to_owned(), status: answer.status, why } }
}
