//! Proofs of possession (RFC 9449 4.3).

use super::assertion::now;
use super::derived;
use crate::state::Shared;
use axum::http::HeaderMap;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};
use serde_json::Value;
use sha2::{Digest, Sha256};

/// The claims that a proof must have.
pub(super) struct Expected<'e> {
    pub(super) method: &'e str,
    pub(super) url: &'e str,
    /// The token it goes with.
    pub(super) token: Option<&'e str>,
}

/// Why a proof is not accepted.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Refused {
    /// It has not the nonce.
    Nonce,
    /// Anything else.
    Invalid,
}

/// The nonce that proofs must have.
pub(super) fn nonce(shared: &Shared) -> String {
    derived(shared, "proof nonce", 0)
}

/// The thumbprint of the key that the proof of a request was signed with.
pub(super) fn verify(shared: &Shared, headers: &HeaderMap, expected: &Expected<'_>) -> Result<String, Refused> {
    let proof = headers.get("dpop").and_then(|value| value.to_str().ok()).ok_or(Refused::Invalid)?;
    let (signed, signature) = proof.rsplit_once('.').ok_or(Refused::Invalid)?;
    let (header, claims) = signed.split_once('.').ok_or(Refused::Invalid)?;
    let decode = |part: &str| URL_SAFE_NO_PAD.decode(part).map_err(|_| Refused::Invalid);
    let json = |part: &str| serde_json::from_slice::<Value>(&decode(part)?).map_err(|_| Refused::Invalid);
    let (header, claims) = (json(header)?, json(claims)?);
    let jwk = &header["jwk"];
    let coordinate = |name: &str| decode(jwk[name].as_str().unwrap_or_default());
    let point = [vec![4], coordinate("x")?, coordinate("y")?].concat();
    let signature = decode(signature)?;
    let is_signed =
        UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, point).verify(signed.as_bytes(), &signature).is_ok();
    let hash = expected.token.map(|token| URL_SAFE_NO_PAD.encode(Sha256::digest(token)));
    let fits = header["typ"] == "dpop+jwt"
        && header["alg"] == "ES256"
        && claims["htm"] == expected.method
        && claims["htu"] == expected.url
        && claims["ath"].as_str() == hash.as_deref()
        && claims["iat"].as_i64().is_some_and(|at| (now() - at).abs() < 60);
    let id = claims["jti"].as_str().ok_or(Refused::Invalid)?.to_owned();
    if !is_signed || !fits || !shared.stock().authorization.seen.insert(id) {
        return Err(Refused::Invalid);
    }
    if claims["nonce"].as_str() != Some(nonce(shared).as_str()) {
        return Err(Refused::Nonce);
    }
    let canonical = format!("{{\"crv\":{},\"kty\":{},\"x\":{},\"y\":{}}}", jwk["crv"], jwk["kty"], jwk["x"], jwk["y"]);
    Ok(URL_SAFE_NO_PAD.encode(Sha256::digest(canonical)))
}
