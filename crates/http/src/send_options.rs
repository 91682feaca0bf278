//! How a request is sent.

use std::time::Duration;

/// How a request is sent: by its cell, the preambles over it, the configuration, or as usual.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SendOptions {
    /// How long the exchange may take, redirects included.
    pub timeout: Duration,
    /// How long a server may ask to wait with 429 or 503 (RFC 9110 10.2.3), so that the request is sent again.
    pub retry_after: Option<Duration>,
    /// How many redirects are followed.
    pub redirects: u8,
    /// Whether cookies are sent and taken.
    pub cookies: bool,
    /// Whether any certificate will do.
    pub insecure: bool,
    /// Whether the client's certificate may be shown: to the origin of `base` alone.
    pub certificate: bool,
    /// Whether the path goes out as it is written, steps (`.`, `..`) and all.
    pub verbatim_path: bool,
}

impl Default for SendOptions {
    fn default() -> Self {
        Self {
            timeout: Duration::from_secs(30),
            retry_after: None,
            redirects: 10,
            cookies: true,
            insecure: false,
            certificate: true,
            verbatim_path: false,
        }
    }
}
