//! Requests that are ready to be sent, and their signers.

use super::{Body, HttpVersion, Login, SendOptions};
use crate::origin_of;
use std::borrow::Cow;
use std::fmt;
use std::sync::Arc;
use thiserror::Error;
use url::Url;

/// Header fields, name and value, in order.
pub type HeaderFields = Vec<(Cow<'static, str>, Cow<'static, str>)>;

/// A request ready to go: every mark is resolved, every header decided.
#[derive(Clone)]
pub struct PreparedRequest {
    /// The method, as written.
    pub method: String,
    /// The URL, without credentials and fragment.
    pub url: Url,
    /// The request target as written, if it differs from the URL's path and query.
    pub verbatim_target: Option<String>,
    /// The version asked for, if any.
    pub version: Option<HttpVersion>,
    /// The header fields in the order they go out, but for those the connection writes.
    pub headers: HeaderFields,
    /// The body; `None` sends none at all.
    pub body: Option<Body>,
    /// How it is sent.
    pub sending: SendOptions,
    /// The login for a digest challenge (RFC 7616).
    pub digest: Option<Arc<Login>>,
    /// The signers, applied in this order when it is sent.
    pub signers: Vec<Arc<dyn Signer>>,
    /// Whether it begins a conversation over a WebSocket.
    pub conversation: bool,
    /// Whether its body holds a secret: then it is not repeated to another origin.
    pub secret_body: bool,
}

impl std::fmt::Debug for PreparedRequest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The rest of it may be secret.
        write!(f, "Prepared({} {})", self.method, origin_of(&self.url))
    }
}

impl PreparedRequest {
    /// A request with only a method and a URL.
    pub fn new(method: impl Into<String>, url: Url) -> Self {
        Self {
            method: method.into(),
            url,
            version: None,
            headers: Vec::new(),
            body: None,
            sending: SendOptions::default(),
            verbatim_target: None,
            digest: None,
            signers: Vec::new(),
            conversation: false,
            secret_body: false,
        }
    }

    /// The first value of a header field.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(own, _)| own.eq_ignore_ascii_case(name)).map(|(_, value)| &**value)
    }
}

/// The inputs of a signer at the moment a request is sent.
#[derive(Clone, Copy, Debug)]
pub struct SigningContext<'c> {
    /// The time, in seconds since 1970.
    pub now: i64,
    /// The nonce that the server asked for, if any.
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

    /// The nonce that the server wants to see in the next request, by the header fields of its response.
    fn nonce(&self, headers: &[(String, Vec<u8>)]) -> Option<String> {
        let _ = headers;
        None
    }

    /// Whether a response of this status refuses the request for a nonce that it did not have: it is worth another try.
    fn wants_nonce(&self, status: u16, headers: &[(String, Vec<u8>)]) -> bool {
        let _ = (status, headers);
        false
    }
}
