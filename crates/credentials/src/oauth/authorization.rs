//! Authorization in a browser (RFC 6749 4.1) that comes back to a loopback address (RFC 8252 7.3), with a proof key (RFC 7636).

use super::TokenError;
use super::params::TokenParams;
use crate::random::{NoRandom, unguessable};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use sha2::{Digest, Sha256};
use std::fmt;
use thiserror::Error;
use url::{Host, Url, form_urlencoded};

/// Where the browser comes back to: a loopback address, by default with whatever port is free.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RedirectAddress {
    host: String,
    port: Option<u16>,
    path: String,
}

impl Default for RedirectAddress {
    fn default() -> Self {
        Self { host: "127.0.0.1".to_owned(), port: None, path: "/callback".to_owned() }
    }
}

/// A redirect URL that this program cannot receive.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error(
    "must be an http URL of this machine, for example `http://127.0.0.1/callback` or `http://localhost:4617/callback`"
)]
pub struct NotLoopback;

impl RedirectAddress {
    /// The address of a URL. Without a port any free one is used (RFC 8252 7.3).
    ///
    /// # Errors
    /// If it is not an http URL with a loopback host.
    pub fn parse(text: &str) -> Result<Self, NotLoopback> {
        let url = Url::parse(text).map_err(|_| NotLoopback)?;
        let host = match url.host().ok_or(NotLoopback)? {
            Host::Ipv4(address) if address.is_loopback() => address.to_string(),
            Host::Ipv6(address) if address.is_loopback() => format!("[{address}]"),
            Host::Domain("localhost") => "localhost".to_owned(),
            _ => return Err(NotLoopback),
        };
        let plain =
            url.scheme() == "http" && url.query().is_none() && url.fragment().is_none() && url.username().is_empty();
        let path = url.path().to_owned();
        if plain { Ok(Self { host, port: url.port(), path }) } else { Err(NotLoopback) }
    }

    /// The addresses to listen at, as `HOST:PORT` with port 0 for any: `localhost` may be either of two.
    pub fn listen_at(&self) -> Vec<String> {
        let port = self.port.unwrap_or(0);
        match self.host.as_str() {
            "localhost" => vec![format!("127.0.0.1:{port}"), format!("[::1]:{port}")],
            host => vec![format!("{host}:{port}")],
        }
    }

    /// The redirect URI, once the port is known.
    pub fn uri(&self, port: u16) -> String {
        format!("http://{}:{port}{}", self.host, self.path)
    }

    /// The path that the browser comes back to.
    pub fn path(&self) -> &str {
        &self.path
    }
}

/// What a person is shown: the page of the authorization server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BrowserSignIn {
    /// The page.
    pub page: Url,
}

/// What became of a redirect.
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
            if let Some(scope) = &params.scope {
                query.append_pair("scope", scope);
            }
            if is_openid(params) {
                query.append_pair("nonce", &self.nonce);
            }
            let audience = params.audience.iter().map(|audience| ("audience", audience.as_str()));
            let resources = params.resources.iter().map(|resource| ("resource", resource.as_str()));
            let extra = params.extra.iter().map(|(name, text)| (name.as_str(), text.as_str()));
            query.extend_pairs(audience.chain(resources).chain(extra));
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
            && found.trim_end_matches('/') != expected.as_str().trim_end_matches('/')
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
        let started = Started::new("http://127.0.0.1:1/callback".to_owned()).unwrap();
        let issuer = Url::parse("https://door.packhouse.example").unwrap();
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
            let error = code(query.clone()).unwrap_err();
            assert!(error.contains(why), "{query}: {error}");
        }
    }

    #[test]
    fn only_this_machine_receives_a_redirect() {
        let parsed = |text: &str| RedirectAddress::parse(text).map(|address| (address.listen_at(), address.uri(9)));
        let one = |listen: &str, uri: &str| Ok((vec![listen.to_owned()], uri.to_owned()));
        assert_eq!(parsed("http://127.0.0.1/in"), one("127.0.0.1:0", "http://127.0.0.1:9/in"));
        assert_eq!(parsed("http://[::1]:4617/"), one("[::1]:4617", "http://[::1]:9/"));
        let both = vec!["127.0.0.1:0".to_owned(), "[::1]:0".to_owned()];
        assert_eq!(parsed("http://localhost/in"), Ok((both, "http://localhost:9/in".to_owned())));
        for text in
            ["http://packhouse.example/in", "https://127.0.0.1/in", "http://10.0.0.1/", "in", "http://127.0.0.1/?a"]
        {
            assert_eq!(RedirectAddress::parse(text), Err(NotLoopback), "{text}");
        }
    }
}
