//! HTTP message signatures of requests (RFC 9421), with the digest of the body (RFC 9530).

mod component;

pub use component::{Component, ComponentError};

use crate::key::SigningKey;
use crate::random::unguessable;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::fmt::Write as _;
use std::time::Duration;
use yieldtray_http::{HeaderFields, PreparedRequest, SignError, Signer, SigningContext};

const CONTENT_DIGEST: &str = "content-digest";

/// How requests are signed.
#[derive(Debug)]
pub struct MessageSigner {
    /// The key, with its algorithm.
    pub key: SigningKey,
    /// Its name at the server.
    pub key_id: Option<String>,
    /// The label of the signature (RFC 9421 4).
    pub label: String,
    /// The signed components, in order; `None` signs the method, the URL, and the digest of the body if it has one.
    pub components: Option<Vec<Component>>,
    /// How long the signature holds.
    pub lifetime: Option<Duration>,
    /// The application it is meant for (RFC 9421 2.3).
    pub tag: Option<String>,
    /// Whether it has a nonce.
    pub nonce: bool,
}

impl MessageSigner {
    fn components(&self, request: &PreparedRequest) -> Vec<Component> {
        self.components.clone().unwrap_or_else(|| {
            let usual = ["@method", "@target-uri"].into_iter().chain(request.body.is_some().then_some(CONTENT_DIGEST));
            usual.filter_map(|name| Component::parse(name).ok()).collect()
        })
    }

    /// The signature parameters (RFC 9421 2.3), as they are signed and sent.
    fn parameters(&self, components: &[Component], now: i64) -> Result<String, SignError> {
        let listed: Vec<String> = components.iter().map(Component::identifier).collect();
        let mut text = format!("({});created={now}", listed.join(" "));
        let mut add = |name: &str, value: &str| match quoted(value) {
            Some(value) => {
                let _ = write!(text, ";{name}={value}");
                Ok(())
            }
            None => Err(SignError(format!("`{name}` has a character that is not ASCII text (RFC 8941 3.3.3)"))),
        };
        if self.nonce {
            add("nonce", &unguessable().map_err(|error| SignError(error.to_string()))?)?;
        }
        if let Some(name) = self.key.algorithm().signature_name() {
            add("alg", name)?;
        }
        self.key_id.iter().try_for_each(|id| add("keyid", id))?;
        self.tag.iter().try_for_each(|tag| add("tag", tag))?;
        if let Some(lifetime) = self.lifetime {
            let seconds = i64::try_from(lifetime.as_secs()).unwrap_or(i64::MAX);
            let _ = write!(text, ";expires={}", now.saturating_add(seconds));
        }
        Ok(text)
    }

    fn signed(&self, request: &PreparedRequest, components: &[Component], now: i64) -> Result<HeaderFields, SignError> {
        let parameters = self.parameters(components, now)?;
        let base = base(request, components, &parameters)?;
        let signature = self.key.sign(base.as_bytes()).map_err(|error| SignError(error.to_string()))?;
        let label = &self.label;
        Ok(vec![
            ("Signature-Input".into(), format!("{label}={parameters}").into()),
            ("Signature".into(), format!("{label}=:{}:", STANDARD.encode(signature)).into()),
        ])
    }
}

impl Signer for MessageSigner {
    fn needs_body_digest(&self, request: &PreparedRequest) -> bool {
        let covers = || self.components(request).iter().any(|component| component.is_field(CONTENT_DIGEST));
        request.header(CONTENT_DIGEST).is_none() && covers()
    }

    fn sign(&self, request: &PreparedRequest, context: &SigningContext<'_>) -> Result<HeaderFields, SignError> {
        let components = self.components(request);
        let digest = context.body_digest.filter(|_| self.needs_body_digest(request));
        let Some(digest) = digest else { return self.signed(request, &components, context.now) };
        let field = ("Content-Digest".into(), format!("sha-256=:{}:", STANDARD.encode(digest)).into());
        let mut with_digest = request.clone();
        with_digest.headers.push(field);
        let mut fields = self.signed(&with_digest, &components, context.now)?;
        fields.extend(with_digest.headers.pop());
        Ok(fields)
    }
}

/// The signature base (RFC 9421 2.5).
fn base(request: &PreparedRequest, components: &[Component], parameters: &str) -> Result<String, SignError> {
    let mut base = String::new();
    for component in components {
        let value = component.value(request).map_err(|error| SignError(error.to_string()))?;
        let _ = writeln!(base, "{}: {value}", component.identifier());
    }
    let _ = write!(base, "\"@signature-params\": {parameters}");
    Ok(base)
}

/// A string of structured fields (RFC 8941 3.3.3); `None` if it has other characters than printable ASCII.
pub(crate) fn quoted(text: &str) -> Option<String> {
    let printable = text.chars().all(|c| matches!(c, ' '..='~'));
    printable.then(|| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"")))
}

#[cfg(test)]
mod tests;
