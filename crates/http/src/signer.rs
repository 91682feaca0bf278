//! What is added to a request when it goes out, since it depends on all of it.

use crate::{Exchange, HeaderFields, PreparedRequest};
use std::fmt;
use thiserror::Error;

/// What a request is signed with at the moment it goes out.
#[derive(Clone, Copy, Debug)]
pub struct SigningContext<'c> {
    /// The time, in seconds since 1970.
    pub now: i64,
    /// What the server wants to see in the next request, if it said so.
    pub nonce: Option<&'c str>,
    /// The SHA-256 digest of the body, if the signer needs it.
    pub body_digest: Option<[u8; 32]>,
}

/// Why a request cannot be signed.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("cannot sign the request: {0}")]
pub struct SignError(pub String);

/// Adds header fields that depend on the whole request: a signature, or a proof of possession of a key. It is dropped where a redirect
/// leads to another origin.
pub trait Signer: fmt::Debug + Send + Sync {
    /// Whether it needs the digest of the body of this request.
    fn needs_body_digest(&self, request: &PreparedRequest) -> bool {
        let _ = request;
        false
    }

    /// The header fields to add; they replace those of the same names.
    ///
    /// # Errors
    /// If the request has not what it must sign.
    fn sign(&self, request: &PreparedRequest, context: &SigningContext<'_>) -> Result<HeaderFields, SignError>;

    /// The nonce that the server wants to see in the next request.
    fn nonce(&self, answer: &Exchange) -> Option<String> {
        let _ = answer;
        None
    }

    /// Whether the response refuses the request for a nonce that it did not have: it is worth another try.
    fn wants_nonce(&self, answer: &Exchange) -> bool {
        let _ = answer;
        false
    }
}
