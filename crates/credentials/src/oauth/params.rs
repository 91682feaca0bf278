//! The parameters of a token request: a profile of the configuration with everything resolved.

use super::RedirectAddress;
use crate::key::SigningKey;
use std::fmt;
use std::time::Duration;
use url::Url;
use yieldtray_http::{HeaderFields, SendOptions};

/// The parameters of a profile. They hold secrets and are never printed.
#[derive(Clone)]
pub struct TokenParams {
    /// The name of the profile.
    pub profile: String,
    /// A fingerprint of all parameters.
    pub fingerprint: String,
    /// How the token is obtained.
    pub grant: Grant,
    /// The client.
    pub client: Client,
    /// The server.
    pub endpoints: Endpoints,
    /// The scopes, separated by spaces.
    pub scope: Option<String>,
    /// For whom the token is meant (RFC 8693 2.1, and as an extension elsewhere).
    pub audience: Option<String>,
    /// The resources that it is meant for (RFC 8707).
    pub resources: Vec<String>,
    /// Other parameters of the requests for an authorization and for a token.
    pub extra: Vec<(String, String)>,
    /// Whether the token is bound to a key (RFC 9449).
    pub bound: bool,
    /// Where the browser comes back to.
    pub redirect: RedirectAddress,
    /// How long a person may take to sign in with the browser.
    pub sign_in_timeout: Duration,
    /// The header fields that all requests have.
    pub headers: HeaderFields,
    /// How the requests are sent.
    pub sending: SendOptions,
    /// The origin that the client's certificate belongs to, beside the endpoints of a client that authenticates by it.
    pub base_origin: Option<String>,
}

impl fmt::Debug for TokenParams {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "TokenParams({})", self.profile)
    }
}

/// The client (RFC 6749 2).
#[derive(Clone)]
pub struct Client {
    /// Its id.
    pub id: String,
    /// How it authenticates.
    pub auth: ClientAuth,
}

/// How a client authenticates at the endpoints.
#[derive(Clone)]
pub enum ClientAuth {
    /// Not at all: a public client, which says its name.
    None,
    /// Not even by its name: an assertion says who asks (RFC 7523 3.1).
    Unnamed,
    /// By its secret in the header (RFC 6749 2.3.1).
    Basic(String),
    /// By its secret in the body.
    Body(String),
    /// By an assertion signed with its key (RFC 7523 2.2).
    Assertion(AssertionKey),
    /// By its TLS certificate (RFC 8705 2).
    Certificate,
}

/// The key that assertions are signed with.
#[derive(Clone)]
pub struct AssertionKey {
    /// The key.
    pub key: SigningKey,
    /// Its name at the server (`kid`).
    pub id: Option<String>,
    /// The audience of the assertions; else the issuer, else the token endpoint.
    pub audience: Option<String>,
}

/// How a token is obtained.
#[derive(Clone)]
pub enum Grant {
    /// RFC 6749 4.4.
    ClientCredentials,
    /// RFC 6749 4.3.
    Password {
        /// The user.
        username: String,
        /// The password.
        password: String,
    },
    /// RFC 6749 6.
    RefreshToken(String),
    /// RFC 6749 4.1, with RFC 7636.
    AuthorizationCode,
    /// RFC 8628.
    DeviceCode,
    /// RFC 7523 2.1, by an assertion that exists already.
    Assertion(String),
    /// RFC 7523 2.1, by an assertion about `subject`, with more claims.
    SignedAssertion {
        /// The key it is signed with.
        key: AssertionKey,
        /// The `sub`; else the client.
        subject: Option<String>,
        /// Other claims.
        claims: Vec<(String, String)>,
    },
    /// RFC 8693.
    Exchange {
        /// The token that is exchanged, and its type.
        subject: (String, String),
        /// The token of who acts, and its type.
        actor: Option<(String, String)>,
        /// The type that is asked for.
        requested: Option<String>,
    },
}

impl TokenParams {
    /// The fields that say what the token is for (RFC 6749 3.3, RFC 8707 2).
    pub(crate) fn target(&self) -> impl Iterator<Item = (&'static str, String)> + '_ {
        let scope = self.scope.iter().map(|scope| ("scope", scope.clone()));
        let audience = self.audience.iter().map(|audience| ("audience", audience.clone()));
        let resources = self.resources.iter().map(|resource| ("resource", resource.clone()));
        scope.chain(audience).chain(resources)
    }
}

/// The endpoints of an authorization server.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Endpoints {
    /// Its issuer identifier, from which the others are discovered (RFC 8414 2).
    pub issuer: Option<Url>,
    /// Where tokens are requested.
    pub token: Option<Url>,
    /// Where a person signs in.
    pub authorization: Option<Url>,
    /// Where a device asks for a code.
    pub device: Option<Url>,
    /// Where tokens are revoked.
    pub revocation: Option<Url>,
}
