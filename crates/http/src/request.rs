//! Requests that are ready to be sent.

use super::{Body, HttpVersion, Login, SendOptions, Signer};
use crate::origin_of;
use std::borrow::Cow;
use std::sync::Arc;
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
    /// What signs it when it goes out, in this order.
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
