//! JSON Web Tokens (RFC 7519) as JSON Web Signatures in compact form (RFC 7515 7.1).

use crate::key::SigningKey;
use crate::random::NoRandom;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde_json::{Map, Value};

/// A signed token. `header` has the members beside `alg`.
pub(crate) fn sign(mut header: Map<String, Value>, claims: &Value, key: &SigningKey) -> Result<String, NoRandom> {
    header.insert("alg".to_owned(), key.algorithm().jws_name().into());
    let encode = |value: &Value| URL_SAFE_NO_PAD.encode(value.to_string());
    let mut token = format!("{}.{}", encode(&Value::Object(header)), encode(claims));
    let signature = key.sign(token.as_bytes())?;
    token.push('.');
    token.push_str(&URL_SAFE_NO_PAD.encode(signature));
    Ok(token)
}

/// The claims of a token, whose signature is not verified.
pub(crate) fn claims(token: &str) -> Option<Value> {
    let mut parts = token.split('.');
    let (_, claims, _) = (parts.next()?, parts.next()?, parts.next()?);
    serde_json::from_slice(&URL_SAFE_NO_PAD.decode(claims).ok()?).ok()
}
