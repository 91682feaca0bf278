//! Why an imported request cannot be written as a cell.

use thiserror::Error;

/// Why an imported request cannot be written as a cell.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RequestError {
    /// Its URL has another scheme than `http` and `https`.
    #[error("`{0}` addresses cannot be sent to: only `http` and `https`")]
    Scheme(String),
    /// Its method is not a token (RFC 9110 9.1).
    #[error("its method is no token (RFC 9110 9)")]
    Method,
    /// The name of a header field is not a token (RFC 9110 5.1).
    #[error("a header's name is no token (RFC 9110 5.1)")]
    HeaderName,
    /// The value of this header field has a control character (RFC 9110 5.5).
    #[error("the header field `{0}` has a line end or another control character in it")]
    HeaderValue(String),
}
