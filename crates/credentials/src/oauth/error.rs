//! Errors of the flows that obtain a token.

use crate::key::KeyError;
use crate::random::NoRandom;
use std::time::Duration;
use thiserror::Error;

/// The error of a flow that gives no token. Text of the server is part of the message.
#[derive(Debug, Error)]
pub enum TokenError {
    /// The server refuses.
    #[error("{host} responded with {status} ({why})")]
    Refused {
        /// The host of the server.
        host: String,
        /// The status of the response.
        status: u16,
        /// The `error` of the response with its description, or the reason phrase.
        why: String,
    },
    /// The token is of a type that cannot be used.
    #[error("unsupported token type `{kind}`: only {supported} is supported")]
    Kind {
        /// Its `token_type`.
        kind: String,
        /// The supported type.
        supported: &'static str,
    },
    /// The person or the server ended the authorization with an error (RFC 6749 4.1.2.1).
    #[error("the authorization server refused: {0}")]
    NotAuthorized(String),
    /// The redirect is not the one of this sign-in (RFC 6749 10.12).
    #[error("the redirect has another `state` than this sign-in: it was not started here, and its code is not used")]
    State,
    /// Another server answered than the one that was asked (RFC 9207 2.4).
    #[error("the redirect names the issuer `{found}`, but `{expected}` was asked: its code is not used")]
    Issuer {
        /// The `iss` of the redirect.
        found: String,
        /// The issuer of the profile.
        expected: String,
    },
    /// The redirect has neither a code nor an error.
    #[error("the redirect has no `code`")]
    NoCode,
    /// The sign-in was not completed in time.
    #[error("the sign-in was not completed within {} s", .0.as_secs_f64())]
    SignInTimedOut(Duration),
    /// The code of a device expired.
    #[error("the code expired before it was entered")]
    CodeExpired,
    /// The ID token is not for this sign-in (OpenID Connect Core 3.1.3.7).
    #[error("the ID token is not valid: {0}")]
    IdToken(&'static str),
    /// The metadata cannot be used (RFC 8414).
    #[error("the metadata of `{issuer}` cannot be used: {why}")]
    Metadata {
        /// The issuer identifier.
        issuer: String,
        /// Why.
        why: String,
    },
    /// There is no such endpoint.
    #[error("no {what} endpoint: set `{key}`, or `issuer` for discovery")]
    NoEndpoint {
        /// Which endpoint.
        what: &'static str,
        /// The key of the profile that sets it.
        key: &'static str,
    },
    /// A response is not what its standard says.
    #[error("{host} sent an invalid response: {why}")]
    Invalid {
        /// The host of the server.
        host: String,
        /// The violation.
        why: &'static str,
    },
    /// Metadata names an endpoint that must not be used.
    #[error("the {what} endpoint `{url}` is refused: {why}")]
    Endpoint {
        /// Which endpoint.
        what: &'static str,
        /// Its URL.
        url: String,
        /// Why.
        why: String,
    },
    /// A key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The system has no random bytes.
    #[error(transparent)]
    NoRandom(#[from] NoRandom),
}

impl TokenError {
    /// Whether it may be over soon, whatever the profile says: the server is out of order, or has too much to do.
    pub fn is_temporary(&self) -> bool {
        matches!(self, TokenError::Refused { status: 429 | 500.., .. })
    }
}
