//! The tokens of a run, and the requests for them.

use rustc_hash::{FxHashMap, FxHashSet};
use yieldtray_credentials::oauth::Token;
use yieldtray_http::Failure;
use yieldtray_workspace::request::Tokens;

/// Tokens by profile (`[oauth2.PROFILE]`).
pub(crate) struct OAuthState {
    tokens: Tokens,
    /// Profiles for which no token could be obtained, and why.
    failed_profiles: FxHashMap<String, Failure>,
    /// Profiles whose stored token the server rejected.
    revoked: Vec<String>,
    /// Profiles whose token is being requested.
    requested: FxHashSet<String>,
}

impl OAuthState {
    pub(crate) fn new(tokens: Tokens) -> Self {
        let (failed_profiles, requested) = (FxHashMap::default(), FxHashSet::default());
        Self { tokens, failed_profiles, revoked: Vec::new(), requested }
    }

    pub(crate) fn tokens(&self) -> &Tokens {
        &self.tokens
    }

    /// Notes that a token is wanted. Returns whether nobody has requested it yet.
    pub(crate) fn begin_request(&mut self, profile: &str) -> bool {
        self.requested.insert(profile.to_owned())
    }

    /// Notes that a request for a token has ended.
    pub(crate) fn end_request(&mut self, profile: &str) {
        self.requested.remove(profile);
    }

    pub(crate) fn store(&mut self, token: Token) {
        self.tokens.put(token);
    }

    /// Drops the token of a profile, which the server does not accept any more.
    pub(crate) fn revoke(&mut self, profile: &str) {
        self.tokens.drop_profile(profile);
        self.revoked.push(profile.to_owned());
    }

    pub(crate) fn fail(&mut self, profile: &str, failure: Failure) {
        self.failed_profiles.insert(profile.to_owned(), failure);
    }

    /// Why no token could be obtained for a profile, if that was tried.
    pub(crate) fn failure(&self, profile: &str) -> Option<&Failure> {
        self.failed_profiles.get(profile)
    }

    /// Profiles whose stored token was rejected, and that have no other now.
    pub(crate) fn revoked(&self) -> impl Iterator<Item = &str> {
        let has_token = |profile: &&str| self.tokens.iter().any(|token| token.profile == *profile);
        self.revoked.iter().map(String::as_str).filter(move |profile| !has_token(profile))
    }
}
