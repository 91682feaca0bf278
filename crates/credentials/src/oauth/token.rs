//! Tokens.

use crate::ProofKey;
use std::fmt;

/// A token that ends this soon, in seconds, is renewed first: the request takes time too.
const EXPIRY_LEEWAY_SECONDS: i64 = 10;

/// How a token is presented.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TokenKind {
    /// By itself (RFC 6750).
    Bearer,
    /// With a proof of possession of this key (RFC 9449).
    Bound(ProofKey),
}

/// A token of one profile. It is never printed.
#[derive(Clone, PartialEq, Eq)]
pub struct Token {
    /// The profile of the configuration it was obtained by.
    pub profile: String,
    /// A fingerprint that distinguishes it from a token obtained with other parameters of the same profile.
    pub fingerprint: String,
    /// The token itself.
    pub access: String,
    /// How it is presented.
    pub kind: TokenKind,
    /// Its refresh token.
    pub refresh: Option<String>,
    /// Its scopes, separated by spaces, if they are known.
    pub scope: Option<String>,
    /// When it ends, in seconds since 1970; `None` where nobody says.
    pub expires_at: Option<i64>,
    /// True if it was obtained in this run, rather than loaded from the state.
    pub obtained_now: bool,
}

impl Token {
    /// Whether it can still be used for a request that is sent now.
    pub fn lasts(&self, now: i64) -> bool {
        self.expires_at.is_none_or(|expires_at| expires_at > now.saturating_add(EXPIRY_LEEWAY_SECONDS))
    }
}

impl fmt::Debug for Token {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Token({})", self.profile)
    }
}
