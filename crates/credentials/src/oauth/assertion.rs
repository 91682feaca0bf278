//! Assertions: signed statements about a client or a user (RFC 7523 3).

use super::params::AssertionKey;
use crate::jwt;
use crate::random::{NoRandom, unguessable};
use serde_json::{Map, Value, json};

/// How long an assertion holds, in seconds: it is used at once.
const LIFETIME_SECONDS: i64 = 120;

/// An assertion of `issuer` about `subject` for `audience`, where its key names no other.
pub(crate) fn sign(
    key: &AssertionKey,
    issuer: &str,
    subject: &str,
    audience: &str,
    claims: &[(String, String)],
    now: i64,
) -> Result<String, NoRandom> {
    let mut header = Map::new();
    header.insert("typ".to_owned(), "JWT".into());
    if let Some(id) = &key.id {
        header.insert("kid".to_owned(), id.as_str().into());
    }
    let mut all = json!({
        "iss": issuer, "sub": subject, "aud": key.audience.as_deref().unwrap_or(audience),
        "iat": now, "exp": now.saturating_add(LIFETIME_SECONDS), "jti": unguessable()?,
    });
    for (name, text) in claims {
        all[name] = Value::from(text.as_str());
    }
    jwt::sign(header, &all, &key.key)
}
