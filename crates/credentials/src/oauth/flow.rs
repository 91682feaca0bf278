//! The steps by which a token is obtained.

use super::authorization::{RedirectOutcome, Started, is_openid};
use super::device::{self, DeviceSignIn, Waiting};
use super::form::{Fields, Requester};
use super::params::{Grant, TokenParams};
use super::response::{self, Expected, Granted, Refusal};
use super::{BrowserSignIn, Endpoints, RedirectAddress, Token, TokenError, TokenKind, assertion, id_token, metadata};
use crate::ProofKey;
use std::sync::Arc;
use std::time::Duration;
use url::Url;
use yieldtray_http::{Exchange, PreparedRequest};

/// The grant types of RFC 8628 3.4, RFC 7523 2.1 and RFC 8693 2.1.
const DEVICE_CODE: &str = "urn:ietf:params:oauth:grant-type:device_code";
const JWT_BEARER: &str = "urn:ietf:params:oauth:grant-type:jwt-bearer";
const TOKEN_EXCHANGE: &str = "urn:ietf:params:oauth:grant-type:token-exchange";

/// The next step.
#[derive(Debug)]
pub enum Step {
    /// Send this, and hand the response to [`TokenFlow::received`].
    Send(Arc<PreparedRequest>),
    /// Listen at [`TokenFlow::redirect_address`], and hand the port to [`TokenFlow::listening`].
    Listen,
    /// Show this page, and hand the query that the browser comes back with to [`TokenFlow::redirected`].
    Browse(BrowserSignIn),
    /// Show this page and its code, and go on.
    ShowCode(DeviceSignIn),
    /// Wait this long, and go on.
    Pause(Duration),
    /// This is the token.
    Done(Box<Token>),
}

/// The state of a flow.
#[derive(Debug)]
enum State {
    /// Nothing happened yet.
    Begin,
    /// The metadata is asked for at the first of these.
    Discovering(Vec<Url>),
    /// A port is needed.
    Listening,
    /// The browser is away.
    Browsing(Started),
    /// The browser came back with a code.
    HasCode(Started, String),
    /// A code for a person is asked for.
    DeviceRequested,
    /// It came, and is to be shown.
    ShowDevice(DeviceSignIn, Waiting),
    /// The code was not entered yet.
    DeviceWaiting(Waiting),
    /// A pause is over, and the server is asked again.
    DeviceAsking(Waiting),
    /// The server is asked for the token with these fields, a refresh token among them.
    Refreshing(Fields),
    /// The server is asked for the token with these fields.
    Requested(Fields),
    /// The token is there.
    Done(Box<Token>),
}

/// The steps by which a token is obtained. It holds secrets and is never printed.
#[derive(Debug)]
pub struct TokenFlow {
    params: TokenParams,
    endpoints: Endpoints,
    state: State,
    /// The token that is renewed, until that is refused.
    renews: Option<Token>,
    renewed: bool,
    proof_key: Option<ProofKey>,
    /// The nonce for the next proof (RFC 9449 8).
    proof_nonce: Option<String>,
    /// The nonce of an ID token that must come.
    id_nonce: Option<String>,
    error: Option<TokenError>,
}

impl TokenFlow {
    /// The steps for a token with these parameters. One that has expired is renewed if it can be.
    ///
    /// # Errors
    /// If a key for it cannot be made.
    pub fn new(params: TokenParams, expired: Option<Token>) -> Result<Self, TokenError> {
        let renews = expired.filter(|token| token.refresh.is_some());
        let proof_key = match (&renews, params.bound) {
            (Some(Token { kind: TokenKind::Bound(key), .. }), true) => Some(key.clone()),
            (_, true) => Some(ProofKey::generate()?),
            _ => None,
        };
        let endpoints = params.endpoints.clone();
        Ok(Self {
            params,
            endpoints,
            state: State::Begin,
            renews,
            renewed: false,
            proof_key,
            proof_nonce: None,
            id_nonce: None,
            error: None,
        })
    }

    /// The profile.
    pub fn profile(&self) -> &str {
        &self.params.profile
    }

    /// The token endpoint, once it is known.
    pub fn endpoint(&self) -> Option<&Url> {
        self.endpoints.token.as_ref().or(self.endpoints.issuer.as_ref())
    }

    /// Whether the token came by a refresh token.
    pub fn renewed(&self) -> bool {
        self.renewed
    }

    /// Where the browser comes back to.
    pub fn redirect_address(&self) -> &RedirectAddress {
        &self.params.redirect
    }

    /// How long the browser is waited for.
    pub fn sign_in_timeout(&self) -> Duration {
        self.params.sign_in_timeout
    }

    /// The next step; `now` in seconds since 1970.
    ///
    /// # Errors
    /// If there will be no token.
    pub fn next(&mut self, now: i64) -> Result<Step, TokenError> {
        if let Some(error) = self.error.take() {
            return Err(error);
        }
        loop {
            match std::mem::replace(&mut self.state, State::Begin) {
                State::Begin => {
                    if let Some(locations) = self.undiscovered() {
                        self.state = State::Discovering(locations);
                        continue;
                    }
                    return self.begin(now);
                }
                State::Discovering(locations) => {
                    let Some(url) = locations.first() else {
                        let issuer = self.endpoints.issuer.as_ref().map(Url::to_string).unwrap_or_default();
                        return Err(TokenError::Metadata {
                            issuer,
                            why: "no document was found (RFC 8414 3)".to_owned(),
                        });
                    };
                    let request = self.requester(now).get(url.clone());
                    self.state = State::Discovering(locations);
                    return Ok(Step::Send(request));
                }
                State::Listening => {
                    self.state = State::Listening;
                    return Ok(Step::Listen);
                }
                State::Browsing(started) => {
                    let endpoint = self.endpoints.authorization.as_ref();
                    let missing = TokenError::NoEndpoint { what: "authorization", key: "authorization_url" };
                    let page = started.page(endpoint.ok_or(missing)?, &self.params);
                    self.state = State::Browsing(started);
                    return Ok(Step::Browse(page));
                }
                State::HasCode(started, code) => {
                    let fields = vec![
                        ("grant_type", "authorization_code".to_owned()),
                        ("code", code),
                        ("redirect_uri", started.redirect_uri.clone()),
                        ("code_verifier", started.verifier.clone()),
                    ];
                    self.id_nonce = is_openid(&self.params).then_some(started.nonce);
                    return self.request(fields, State::Requested, now);
                }
                State::ShowDevice(shown, waiting) => {
                    self.state = State::DeviceWaiting(waiting);
                    return Ok(Step::ShowCode(shown));
                }
                State::DeviceWaiting(waiting) => {
                    if now >= waiting.ends_at {
                        return Err(TokenError::CodeExpired);
                    }
                    let pause = waiting.interval;
                    self.state = State::DeviceAsking(waiting);
                    return Ok(Step::Pause(pause));
                }
                State::DeviceAsking(waiting) => {
                    let fields =
                        vec![("grant_type", DEVICE_CODE.to_owned()), ("device_code", waiting.device_code.clone())];
                    return self.request(fields, |_| State::DeviceAsking(waiting), now);
                }
                State::Done(token) => return Ok(Step::Done(token)),
                // With the nonce that the server asked for.
                State::Refreshing(fields) => return self.request(fields, State::Refreshing, now),
                State::Requested(fields) => return self.request(fields, State::Requested, now),
                State::DeviceRequested => return self.request_device_code(now),
            }
        }
    }

    /// Takes the port at which the redirect is listened for.
    ///
    /// # Errors
    /// If the system has no random bytes.
    pub fn listening(&mut self, port: u16) -> Result<(), TokenError> {
        self.state = State::Browsing(Started::new(self.params.redirect.uri(port))?);
        Ok(())
    }

    /// Takes the query that the browser came back with.
    pub fn redirected(&mut self, query: &str) -> RedirectOutcome {
        let State::Browsing(started) = std::mem::replace(&mut self.state, State::Begin) else {
            return RedirectOutcome::Refused;
        };
        match started.code(query, self.endpoints.issuer.as_ref()) {
            Ok(code) => {
                self.state = State::HasCode(started, code);
                RedirectOutcome::Accepted
            }
            Err(error) => {
                self.error = Some(error);
                RedirectOutcome::Refused
            }
        }
    }

    /// Takes the response to the request that [`next`](Self::next) gave.
    ///
    /// # Errors
    /// If there will be no token.
    pub fn received(&mut self, answer: &Exchange, now: i64) -> Result<(), TokenError> {
        let host = answer.sent.url.host_str().unwrap_or_default().to_owned();
        match std::mem::replace(&mut self.state, State::Begin) {
            State::Discovering(mut locations) => {
                locations.remove(0);
                match (answer.status, self.endpoints.issuer.clone()) {
                    (200, Some(issuer)) => {
                        metadata::complete(&mut self.endpoints, &issuer, &answer.body)?;
                        self.check_discovered()
                    }
                    _ => {
                        self.state = State::Discovering(locations);
                        Ok(())
                    }
                }
            }
            State::DeviceRequested if answer.status == 200 => {
                let (shown, waiting) = device::read(answer, &host, now)?;
                self.state = State::ShowDevice(shown, waiting);
                Ok(())
            }
            state => self.token_received(state, answer, &host, now),
        }
    }

    fn token_received(&mut self, state: State, answer: &Exchange, host: &str, now: i64) -> Result<(), TokenError> {
        let refresh = self.renews.as_ref().filter(|_| matches!(state, State::Refreshing(_)));
        let expected = Expected {
            profile: &self.params.profile,
            fingerprint: &self.params.fingerprint,
            scope: self.params.scope.as_deref(),
            refresh: refresh.and_then(|token| token.refresh.as_deref()),
            proof_key: self.proof_key.as_ref(),
            host,
            now,
        };
        let refusal = match response::read(answer, &expected) {
            Ok(Granted { token, id_token }) => {
                self.renewed = refresh.is_some();
                if let Some(nonce) = self.id_nonce.take() {
                    let id_token = id_token.ok_or(TokenError::IdToken("none came, though the scope has `openid`"))?;
                    let issuer = self.endpoints.issuer.as_ref().map(Url::as_str);
                    id_token::check(&id_token, issuer, &self.params.client.id, &nonce, now)?;
                }
                self.state = State::Done(Box::new(token));
                return Ok(());
            }
            Err(refusal) => refusal,
        };
        self.refused(state, answer, refusal)
    }

    /// Continues after a refusal, or returns it.
    fn refused(&mut self, state: State, answer: &Exchange, refusal: Refusal) -> Result<(), TokenError> {
        // Once, a server may ask for another nonce in the proof (RFC 9449 8).
        if refusal.error == "use_dpop_nonce" && self.proof_nonce.is_none() {
            self.proof_nonce = answer.header("dpop-nonce").map(std::borrow::Cow::into_owned);
            if self.proof_nonce.is_some() {
                self.state = state;
                return Ok(());
            }
        }
        match (state, refusal.error.as_str()) {
            (State::DeviceAsking(waiting), "authorization_pending") => self.state = State::DeviceWaiting(waiting),
            (State::DeviceAsking(mut waiting), "slow_down") => {
                waiting.slow_down();
                self.state = State::DeviceWaiting(waiting);
            }
            (State::DeviceAsking(_), "expired_token") => return Err(TokenError::CodeExpired),
            // The refresh token is not accepted any more: a new token is requested. A server that is out of order says nothing about it.
            (State::Refreshing(_), _) if !refusal.shown.is_temporary() => self.renews = None,
            _ => return Err(refusal.shown),
        }
        Ok(())
    }

    /// Where the metadata may be, if an endpoint is missing and was not looked for yet.
    fn undiscovered(&self) -> Option<Vec<Url>> {
        let issuer = self.endpoints.issuer.as_ref()?;
        let endpoints = &self.endpoints;
        let missing = endpoints.token.is_none()
            || (matches!(self.params.grant, Grant::AuthorizationCode) && endpoints.authorization.is_none())
            || (matches!(self.params.grant, Grant::DeviceCode) && endpoints.device.is_none());
        missing.then(|| metadata::locations(issuer))
    }

    /// An error if an endpoint is still missing.
    fn check_discovered(&self) -> Result<(), TokenError> {
        match self.undiscovered() {
            None => Ok(()),
            Some(_) => {
                let issuer = self.endpoints.issuer.as_ref().map(Url::to_string).unwrap_or_default();
                let why = "it does not name the endpoints that the grant needs".to_owned();
                Err(TokenError::Metadata { issuer, why })
            }
        }
    }

    fn begin(&mut self, now: i64) -> Result<Step, TokenError> {
        if let Some(refresh) = self.renews.as_ref().and_then(|token| token.refresh.clone()) {
            let mut fields = vec![("grant_type", "refresh_token".to_owned()), ("refresh_token", refresh)];
            fields.extend(self.params.scope.clone().map(|scope| ("scope", scope)));
            return self.request(fields, State::Refreshing, now);
        }
        let mut fields: Fields = match &self.params.grant {
            Grant::AuthorizationCode => {
                self.state = State::Listening;
                return Ok(Step::Listen);
            }
            Grant::DeviceCode => return self.request_device_code(now),
            Grant::ClientCredentials => vec![("grant_type", "client_credentials".to_owned())],
            Grant::Password { username, password } => vec![
                ("grant_type", "password".to_owned()),
                ("username", username.clone()),
                ("password", password.clone()),
            ],
            Grant::RefreshToken(refresh) => {
                vec![("grant_type", "refresh_token".to_owned()), ("refresh_token", refresh.clone())]
            }
            Grant::Assertion(assertion) => {
                vec![("grant_type", JWT_BEARER.to_owned()), ("assertion", assertion.clone())]
            }
            Grant::SignedAssertion { key, subject, claims } => {
                let client = self.params.client.id.as_str();
                let subject = subject.as_deref().unwrap_or(client);
                let audience = self.requester(now).assertion_audience();
                let signed = assertion::sign(key, client, subject, &audience, claims, now)?;
                vec![("grant_type", JWT_BEARER.to_owned()), ("assertion", signed)]
            }
            Grant::Exchange { subject: (token, kind), actor, requested } => {
                let mut fields = vec![
                    ("grant_type", TOKEN_EXCHANGE.to_owned()),
                    ("subject_token", token.clone()),
                    ("subject_token_type", kind.clone()),
                ];
                if let Some((token, kind)) = actor {
                    fields.extend([("actor_token", token.clone()), ("actor_token_type", kind.clone())]);
                }
                fields.extend(requested.clone().map(|kind| ("requested_token_type", kind)));
                fields
            }
        };
        fields.extend(self.params.target());
        self.request(fields, State::Requested, now)
    }

    fn request_device_code(&mut self, now: i64) -> Result<Step, TokenError> {
        let missing = TokenError::NoEndpoint { what: "device authorization", key: "device_url" };
        let url = self.endpoints.device.clone().ok_or(missing)?;
        let request = self.requester(now).post(&url, self.params.target().collect(), None)?;
        self.state = State::DeviceRequested;
        Ok(Step::Send(request))
    }

    /// A request to the token endpoint.
    fn request(&mut self, fields: Fields, then: impl FnOnce(Fields) -> State, now: i64) -> Result<Step, TokenError> {
        let missing = TokenError::NoEndpoint { what: "token", key: "token_url" };
        let url = self.endpoints.token.as_ref().ok_or(missing)?;
        let proof = self.proof_key.as_ref().map(|key| (key, self.proof_nonce.as_deref()));
        let request = self.requester(now).post(url, fields.clone(), proof)?;
        self.state = then(fields);
        Ok(Step::Send(request))
    }

    fn requester(&self, now: i64) -> Requester<'_> {
        Requester { params: &self.params, endpoints: &self.endpoints, now }
    }
}

#[cfg(test)]
#[path = "flow_tests.rs"]
mod tests;
