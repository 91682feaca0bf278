//! Proofs of possession of a key (DPoP, RFC 9449).

use crate::jwt;
use crate::key::{KeyError, SigningKey};
use crate::random::{NoRandom, unguessable};
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use serde_json::{Map, json};
use sha2::{Digest, Sha256};
use std::fmt;
use url::Url;
use yieldtray_http::{HeaderFields, PreparedRequest, SignError, Signer, SigningContext};

/// The key that a token is bound to. It is kept with the token and never printed.
#[derive(Clone)]
pub struct ProofKey {
    key: SigningKey,
    pkcs8: Vec<u8>,
}

impl fmt::Debug for ProofKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("ProofKey")
    }
}

impl PartialEq for ProofKey {
    fn eq(&self, other: &Self) -> bool {
        self.pkcs8 == other.pkcs8
    }
}

impl Eq for ProofKey {}

impl ProofKey {
    /// A new key on P-256.
    ///
    /// # Errors
    /// If the system has no random bytes.
    pub fn generate() -> Result<Self, KeyError> {
        Self::of(SigningKey::generate()?)
    }

    /// The key of a text that [`to_text`](Self::to_text) gave.
    pub fn from_text(text: &str) -> Option<Self> {
        Self::of(STANDARD.decode(text).ok()?).ok()
    }

    fn of(pkcs8: Vec<u8>) -> Result<Self, KeyError> {
        Ok(Self { key: SigningKey::from_pkcs8(&pkcs8)?, pkcs8 })
    }

    /// The private key as a text, to be kept with the token.
    pub fn to_text(&self) -> String {
        STANDARD.encode(&self.pkcs8)
    }

    /// A proof for a request (RFC 9449 4.2): `token` is the access token it carries, `nonce` what the server gave.
    ///
    /// # Errors
    /// If the system has no random bytes.
    pub fn proof(
        &self,
        method: &str,
        url: &Url,
        token: Option<&str>,
        nonce: Option<&str>,
        now: i64,
    ) -> Result<String, NoRandom> {
        let mut target = url.clone();
        target.set_query(None);
        target.set_fragment(None);
        let mut header = Map::new();
        header.insert("typ".to_owned(), "dpop+jwt".into());
        header.insert("jwk".to_owned(), self.key.public_jwk());
        let mut claims = json!({ "jti": unguessable()?, "htm": method, "htu": target.as_str(), "iat": now });
        if let Some(token) = token {
            claims["ath"] = URL_SAFE_NO_PAD.encode(Sha256::digest(token)).into();
        }
        if let Some(nonce) = nonce {
            claims["nonce"] = nonce.into();
        }
        jwt::sign(header, &claims, &self.key)
    }
}

/// A token that is presented with a proof in each request (RFC 9449 7). It is never printed.
pub struct BoundToken {
    /// The token.
    pub access: String,
    /// The key it is bound to.
    pub key: ProofKey,
}

impl fmt::Debug for BoundToken {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("BoundToken")
    }
}

impl Signer for BoundToken {
    fn sign(&self, request: &PreparedRequest, context: &SigningContext<'_>) -> Result<HeaderFields, SignError> {
        let proof = self.key.proof(&request.method, &request.url, Some(&self.access), context.nonce, context.now);
        Ok(vec![("DPoP".into(), proof.map_err(|error| SignError(error.to_string()))?.into())])
    }

    fn nonce(&self, headers: &[(String, Vec<u8>)]) -> Option<String> {
        field(headers, "dpop-nonce")
    }

    fn wants_nonce(&self, status: u16, headers: &[(String, Vec<u8>)]) -> bool {
        let challenge = field(headers, "www-authenticate").unwrap_or_default();
        status == 401 && challenge.contains("use_dpop_nonce") && self.nonce(headers).is_some()
    }
}

/// The first header field of that name.
fn field(headers: &[(String, Vec<u8>)], name: &str) -> Option<String> {
    let found = headers.iter().find(|(own, _)| own.eq_ignore_ascii_case(name));
    found.map(|(_, value)| String::from_utf8_lossy(value).into_owned())
}
