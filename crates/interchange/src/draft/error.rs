//! Why an imported request cannot be written as a cell.

use thiserror::Error;

/// Why an imported request cannot be written as a cell.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RequestError {
    /// Its URL has another scheme than `http` and `https`.
    #[error("unsupported scheme `{0}`: only `http` and `https`")]
    Scheme(String),
    /// Its method is not a token (RFC 9110 9.1).
    #[error("its method is not a token (RFC 9110 9)")]
    Method,
    /// The name of a header field is not a token (RFC 9110 5.1).
    #[error("a header name is not a token (RFC 9110 5.1)")]
    HeaderName,
    /// The value of this header field has a control character (RFC 9110 5.5).
    #[error("the header `{0}` contains a line end or another control character")]
    HeaderValue(String),
}
