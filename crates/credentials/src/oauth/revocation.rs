//! Revoking a token at its server (RFC 7009).

use super::form::Requester;
use super::metadata;
use super::params::TokenParams;
use super::response::refusal;
use super::{Endpoints, Token, TokenError};
use std::sync::Arc;
use yieldtray_http::{Exchange, PreparedRequest};

/// The steps by which a token is revoked: first the refresh token, whose access tokens go with it where the server supports that.
#[derive(Debug)]
pub struct RevocationFlow {
    params: TokenParams,
    endpoints: Endpoints,
    /// Where the metadata may be, the next one last.
    locations: Vec<url::Url>,
    /// The tokens to revoke with their types, the next one last.
    left: Vec<(&'static str, String)>,
}

impl RevocationFlow {
    /// The steps for this token.
    pub fn new(params: TokenParams, token: &Token) -> Self {
        let mut left = vec![("access_token", token.access.clone())];
        left.extend(token.refresh.clone().map(|refresh| ("refresh_token", refresh)));
        let endpoints = params.endpoints.clone();
        let issuer = endpoints.issuer.as_ref().filter(|_| endpoints.revocation.is_none());
        let mut locations = issuer.map(metadata::locations).unwrap_or_default();
        locations.reverse();
        Self { params, endpoints, locations, left }
    }

    /// The next request; `None` when all is revoked.
    ///
    /// # Errors
    /// If the server has no endpoint for it.
    pub fn next(&self, now: i64) -> Result<Option<Arc<PreparedRequest>>, TokenError> {
        let requester = Requester { params: &self.params, endpoints: &self.endpoints, now };
        let Some(url) = &self.endpoints.revocation else {
            let missing = TokenError::NoEndpoint { what: "revocation", key: "revocation_url" };
            return self.locations.last().map(|url| Some(requester.get(url.clone()))).ok_or(missing);
        };
        let Some((kind, token)) = self.left.last() else { return Ok(None) };
        let fields = vec![("token", token.clone()), ("token_type_hint", (*kind).to_owned())];
        requester.post(url, fields, None).map(Some)
    }

    /// Takes the response to the request that [`next`](Self::next) gave.
    ///
    /// # Errors
    /// If the server refuses.
    pub fn received(&mut self, answer: &Exchange) -> Result<(), TokenError> {
        if self.endpoints.revocation.is_none() {
            self.locations.pop();
            if let (200, Some(issuer)) = (answer.status, self.endpoints.issuer.clone()) {
                metadata::complete(&mut self.endpoints, &issuer, &answer.body)?;
            }
            return Ok(());
        }
        if answer.status != 200 {
            let host = answer.sent.url.host_str().unwrap_or_default();
            let body = serde_json::from_slice(&answer.body).unwrap_or_default();
            return Err(refusal(answer, &body, host).shown);
        }
        self.left.pop();
        Ok(())
    }
}
