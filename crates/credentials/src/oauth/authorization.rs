//! Authorization in a browser (RFC 6749 4.1) that comes back to a loopback address (RFC 8252 7.3), with a proof key (RFC 7636).

use super::TokenError;
use super::metadata::is_same_issuer;
use super::params::TokenParams;
use crate::random::{NoRandom, unguessable};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use sha2::{Digest, Sha256};
use std::fmt;
use url::{Url, form_urlencoded};

/// The page of the authorization server, which a person is shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BrowserSignIn {
    /// The page.
    pub page: Url,
}

/// The outcome of a redirect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RedirectOutcome {
    /// The sign-in goes on.
    Accepted,
    /// It ended with an error, which the flow returns next.
    Refused,
}

/// A sign-in that was started: what its redirect must show, and what its code is redeemed with.
pub(crate) struct Started {
    state: String,
    /// The verifier of the code (RFC 7636 4.1).
    pub(crate) verifier: String,
    /// The nonce of the ID token (OpenID Connect Core 3.1.2.1).
    pub(crate) nonce: String,
    /// The redirect URI, which the request for the token repeats.
    pub(crate) redirect_uri: String,
}

impl fmt::Debug for Started {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Started")
    }
}

impl Started {
    pub(crate) fn new(redirect_uri: String) -> Result<Self, NoRandom> {
        Ok(Self { state: unguessable()?, verifier: unguessable()?, nonce: unguessable()?, redirect_uri })
    }

    /// The page of the authorization server (RFC 6749 4.1.1, RFC 7636 4.3).
    pub(crate) fn page(&self, endpoint: &Url, params: &TokenParams) -> BrowserSignIn {
        let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(&self.verifier));
        let mut page = endpoint.clone();
        {
            let mut query = page.query_pairs_mut();
            query
                .append_pair("response_type", "code")
                .append_pair("client_id", &params.client.id)
                .append_pair("redirect_uri", &self.redirect_uri)
                .append_pair("state", &self.state)
                .append_pair("code_challenge", &challenge)
                .append_pair("code_challenge_method", "S256");
            query.extend_pairs(params.target());
            if is_openid(params) {
                query.append_pair("nonce", &self.nonce);
            }
            query.extend_pairs(&params.extra);
        }
        BrowserSignIn { page }
    }

    /// The code in the query of a redirect (RFC 6749 4.1.2, RFC 9207).
    pub(crate) fn code(&self, query: &str, issuer: Option<&Url>) -> Result<String, TokenError> {
        let mut fields: Vec<(String, String)> = form_urlencoded::parse(query.as_bytes()).into_owned().collect();
        let mut take = |name: &str| {
            let at = fields.iter().position(|(own, _)| own == name)?;
            Some(fields.swap_remove(at).1)
        };
        if take("state").as_deref() != Some(self.state.as_str()) {
            return Err(TokenError::State);
        }
        if let (Some(found), Some(expected)) = (take("iss"), issuer)
            && !is_same_issuer(&found, expected.as_str())
        {
            return Err(TokenError::Issuer { found, expected: expected.to_string() });
        }
        if let Some(error) = take("error") {
            let why = take("error_description").map_or(error.clone(), |words| format!("{error}: {words}"));
            return Err(TokenError::NotAuthorized(why));
        }
        take("code").filter(|code| !code.is_empty()).ok_or(TokenError::NoCode)
    }
}

/// Whether an ID token is asked for.
pub(crate) fn is_openid(params: &TokenParams) -> bool {
    params.scope.as_deref().is_some_and(|scope| scope.split(' ').any(|scope| scope == "openid"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_redirect_is_accepted_only_for_its_own_sign_in() {
        let started = Started::new("http://127.0.0.1:1/callback".to_owned()).expect("it is valid");
        let issuer = Url::parse("https://door.packhouse.example").expect("it is valid");
        let code = |query: String| started.code(&query, Some(&issuer)).map_err(|error| error.to_string());
        let state = &started.state;
        assert_eq!(code(format!("code=c1&state={state}")), Ok("c1".to_owned()));
        assert_eq!(code(format!("code=c1&state={state}&iss=https://door.packhouse.example/")), Ok("c1".to_owned()));
        for (query, why) in [
            ("code=c1".to_owned(), "another `state`"),
            ("code=c1&state=guessed".to_owned(), "another `state`"),
            (format!("code=c1&state={state}&iss=https://other.example"), "names the issuer `https://other.example`"),
            (format!("error=access_denied&error_description=not+today&state={state}"), "access_denied: not today"),
            (format!("code=&state={state}"), "has no `code`"),
        ] {
            let error = code(query.clone()).expect_err("it is refused");
            assert!(error.contains(why), "{query}: {error}");
        }
    }
}
