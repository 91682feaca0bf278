//! The version of HTTP that a request asks for.

/// A version of HTTP.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HttpVersion {
    /// HTTP/1.1 (RFC 9112).
    Http11,
    /// HTTP/2 (RFC 9113), also without TLS.
    Http2,
}
