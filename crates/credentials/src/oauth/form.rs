//! The requests to the endpoints: form fields, the authentication of the client, and proofs.

use super::assertion;
use super::params::{ClientAuth, TokenParams};
use super::{Endpoints, TokenError};
use crate::ProofKey;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::sync::Arc;
use url::{Url, form_urlencoded};
use yieldtray_http::{HeaderFields, PreparedRequest, SendOptions, origin_of};

/// The type of an assertion by which a client authenticates (RFC 7523 2.2).
const CLIENT_ASSERTION: &str = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer";

/// The fields of a form.
pub(crate) type Fields = Vec<(&'static str, String)>;

/// The client and the server of a request.
pub(crate) struct Requester<'p> {
    pub(crate) params: &'p TokenParams,
    pub(crate) endpoints: &'p Endpoints,
    pub(crate) now: i64,
}

impl Requester<'_> {
    /// A request for a document.
    pub(crate) fn get(&self, url: Url) -> Arc<PreparedRequest> {
        let certificate = self.may_show_certificate(&url);
        let mut request = PreparedRequest::new("GET", url);
        request.headers = self.headers();
        request.sending = SendOptions { cookies: false, certificate, ..self.params.sending };
        Arc::new(request)
    }

    /// A form for an endpoint, with the client's authentication and a proof of the key if there is one.
    pub(crate) fn post(
        &self,
        url: &Url,
        mut fields: Fields,
        proof: Option<(&ProofKey, Option<&str>)>,
    ) -> Result<Arc<PreparedRequest>, TokenError> {
        let mut headers = vec![("Content-Type".into(), "application/x-www-form-urlencoded".into())];
        headers.extend(self.headers());
        self.authenticate(url, &mut fields, &mut headers)?;
        if let Some((key, nonce)) = proof {
            headers.push(("DPoP".into(), key.proof("POST", url, None, nonce, self.now)?.into()));
        }
        let extra = self.params.extra.iter().map(|(name, text)| (name.as_str(), text.as_str()));
        let fields = fields.iter().map(|(name, text)| (*name, text.as_str()));
        let body = form_urlencoded::Serializer::new(String::new()).extend_pairs(fields.chain(extra)).finish();
        let mut request = PreparedRequest::new("POST", url.clone());
        request.headers = headers;
        request.body = Some(body.into());
        let certificate = self.may_show_certificate(url);
        request.sending = SendOptions { cookies: false, redirects: 0, certificate, ..self.params.sending };
        request.secret_body = true;
        Ok(Arc::new(request))
    }

    /// The audience of assertions: the issuer if it is known, else the token endpoint (RFC 7523 3, item 3).
    pub(crate) fn assertion_audience(&self) -> String {
        let Endpoints { issuer, token, .. } = self.endpoints;
        let issuer = issuer.as_ref().map(|issuer| issuer.as_str().trim_end_matches('/').to_owned());
        issuer.or_else(|| token.as_ref().map(Url::to_string)).unwrap_or_default()
    }

    /// Whether the client's certificate belongs there: to `base`, and to the endpoints of a client that authenticates by it.
    fn may_show_certificate(&self, url: &Url) -> bool {
        let of_base = self.params.base_origin.as_ref() == Some(&origin_of(url));
        of_base || matches!(self.params.client.auth, ClientAuth::Certificate)
    }

    fn headers(&self) -> HeaderFields {
        let mut headers = vec![("Accept".into(), "application/json".into())];
        let shared = self.params.headers.iter().filter(|(name, _)| !name.eq_ignore_ascii_case("accept"));
        headers.extend(shared.cloned());
        headers
    }

    fn authenticate(&self, url: &Url, fields: &mut Fields, headers: &mut HeaderFields) -> Result<(), TokenError> {
        let client = &self.params.client;
        match &client.auth {
            ClientAuth::Basic(secret) => {
                // RFC 6749 2.3.1: both are form-encoded before they are joined.
                let login = format!("{}:{}", form_encoded(&client.id), form_encoded(secret));
                headers.push(("Authorization".into(), format!("Basic {}", STANDARD.encode(login)).into()));
                return Ok(());
            }
            ClientAuth::Body(secret) => fields.push(("client_secret", secret.clone())),
            ClientAuth::Assertion(key) => {
                let audience = match self.endpoints.issuer {
                    Some(_) => self.assertion_audience(),
                    None => url.to_string(),
                };
                let signed = assertion::sign(key, &client.id, &client.id, &audience, &[], self.now)?;
                fields.push(("client_assertion_type", CLIENT_ASSERTION.to_owned()));
                fields.push(("client_assertion", signed));
            }
            ClientAuth::None | ClientAuth::Certificate => {}
            ClientAuth::Unnamed => return Ok(()),
        }
        fields.push(("client_id", client.id.clone()));
        Ok(())
    }
}

fn form_encoded(text: &str) -> String {
    form_urlencoded::byte_serialize(text.as_bytes()).collect()
}
