//! The ID token that comes with an access token (OpenID Connect Core 1.0). It is not used for anything, but one that is not for
//! this sign-in shows that the code was somebody else's. Its signature is not verified: it comes from the token endpoint itself
//! (3.1.3.7, item 6).

use super::TokenError;
use super::metadata::is_same_issuer;
use crate::jwt;
use serde_json::Value;

/// Whether an ID token is for this client and this sign-in, by 3.1.3.7.
pub(crate) fn check(
    id_token: &str,
    issuer: Option<&str>,
    client: &str,
    nonce: &str,
    now: i64,
) -> Result<(), TokenError> {
    let claims = jwt::claims(id_token).ok_or(TokenError::IdToken("it is not a JSON Web Token"))?;
    let is_from = |issuer: &str| claims["iss"].as_str().is_some_and(|named| is_same_issuer(named, issuer));
    if issuer.is_some_and(|issuer| !is_from(issuer)) {
        return Err(TokenError::IdToken("its `iss` is another issuer"));
    }
    let is_ours = match &claims["aud"] {
        Value::String(audience) => audience == client,
        Value::Array(audiences) => audiences.iter().any(|audience| audience == client),
        _ => false,
    };
    if !is_ours {
        return Err(TokenError::IdToken("its `aud` is another client"));
    }
    if claims["exp"].as_i64().is_none_or(|expires_at| expires_at <= now) {
        return Err(TokenError::IdToken("it has expired"));
    }
    if claims["nonce"].as_str() != Some(nonce) {
        return Err(TokenError::IdToken("its `nonce` is not that of this sign-in"));
    }
    Ok(())
}
