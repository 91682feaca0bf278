//! The credentials and signers of a request.

use super::encoding::SubstitutionContext;
use super::keys;
use super::undefined_profile::unknown_signing_profile;
use super::write::TemplateRenderer;
use crate::config::SigningProfile;
use crate::secret::{Destinations, UsedSecret};
use crate::{AuthLine, sign_line};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::sync::Arc;
use yieldtray_credentials::BoundToken;
use yieldtray_credentials::key::SigningKey;
use yieldtray_credentials::oauth::{Token, TokenKind};
use yieldtray_credentials::signature::MessageSigner;
use yieldtray_expression::Value;
use yieldtray_http::{HeaderFields, Login, MASK, Signer};
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{Auth, KeyPlace};

/// How a request proves who sends it.
pub(super) enum Credentials {
    /// By this value of `Authorization`.
    Header(String),
    /// By this token, in each request with a proof of the key it is bound to.
    Bound(Arc<BoundToken>),
    /// By this field, or by a parameter of the URL that is there already.
    Key(Option<(String, String)>),
    /// In response to the server's challenge.
    Digest(Arc<Login>),
}

impl TemplateRenderer<'_, '_> {
    /// The credentials of an `% auth` line. `token` is that of an OAuth 2.0 profile; without one, a placeholder is
    /// used.
    pub(super) fn auth(&mut self, line: Option<&AuthLine<'_>>, token: Option<&Token>) -> Option<Credentials> {
        let AuthLine { origin, auth, is_local, .. } = *line?;
        Some(match auth {
            Auth::None => return None,
            Auth::Basic { user, password } => {
                Credentials::Header(basic(&self.login(origin, is_local, (user, password), "basic")))
            }
            Auth::Digest { user, password } => {
                Credentials::Digest(Arc::new(self.login(origin, is_local, (user, password), "digest")))
            }
            Auth::Bearer(token) => {
                let written = self.credential(origin, is_local, token, "this token");
                if let Some(odd) = written.chars().find(|c| c.is_whitespace() || c.is_control()) {
                    let message = format!("a bearer token cannot contain U+{:04X}", odd as u32);
                    let problem = Problem::error(Code::InvalidValue, token, message);
                    self.problems.push(problem.with_hint("use `trim(…)`").in_source(origin));
                }
                Credentials::Header(format!("Bearer {written}"))
            }
            Auth::Key { place: KeyPlace::Query, .. } => Credentials::Key(None),
            Auth::Key { place, name, value } => {
                let name_text = self.text(origin, name);
                let key = self.credential(origin, is_local, value, "this API key");
                let in_cookie = place == KeyPlace::Cookie;
                let odd = key.chars().find(|c| c.is_control() || (in_cookie && " \",;\\".contains(*c)));
                if let Some(odd) = odd {
                    let message = format!("a key in a {} cannot contain U+{:04X}", place.as_str(), odd as u32);
                    let problem = Problem::error(Code::InvalidValue, value, message);
                    self.problems.push(problem.with_hint("use `trim(…)`, or encode it").in_source(origin));
                }
                Credentials::Key(Some(match place {
                    KeyPlace::Cookie => ("Cookie".to_owned(), format!("{name_text}={key}")),
                    _ => (name_text, key),
                }))
            }
            Auth::OAuth2(_) => match token {
                None => Credentials::Header(format!("Bearer {MASK}")),
                Some(Token { kind: TokenKind::Bearer, access, .. }) => Credentials::Header(format!("Bearer {access}")),
                Some(Token { kind: TokenKind::Bound(key), access, .. }) => {
                    Credentials::Bound(Arc::new(BoundToken { access: access.clone(), key: key.clone() }))
                }
            },
        })
    }

    /// The query parameter of `% auth key query`.
    pub(super) fn key_parameter(&mut self, line: Option<&AuthLine<'_>>) -> Option<String> {
        let AuthLine { origin, auth: Auth::Key { place: KeyPlace::Query, name, value }, is_local, .. } = *line? else {
            return None;
        };
        let (name, key) = (self.text(origin, name), self.credential(origin, is_local, value, "this API key"));
        let encode = |text: String| SubstitutionContext::Target.encode(text.into()).into_owned();
        Some(format!("{}={}", encode(name), encode(key)))
    }

    /// The signer of the request.
    pub(super) fn signer(&mut self) -> Option<Arc<dyn Signer>> {
        let (origin, span) = sign_line(self.resolver.workspace, self.resolver.cell)?;
        let config = &self.resolver.workspace.config;
        let name = self.text(origin, span);
        let Some(profile) = config.signing_profile(&name) else {
            self.problems.push(unknown_signing_profile(config, &name, span).in_source(origin));
            return None;
        };
        match self.message_signer(profile) {
            Ok(signer) => Some(Arc::new(signer)),
            Err(problem) => {
                self.problems.extend(problem.map(|problem| *problem));
                None
            }
        }
    }

    fn message_signer(&mut self, profile: &SigningProfile) -> Result<MessageSigner, Option<Box<Problem>>> {
        let mut text = |key: &str| {
            let entry = profile.entry(key)?;
            let text = self.text(entry.source, entry.span);
            if entry.is_secret() {
                let value = Value::text(text.as_str());
                let used = UsedSecret::new(value, &entry.key, Destinations::Any, (entry.source, entry.span));
                self.resolver.cache.secrets.push(used);
            }
            Some(text).filter(|text| !text.is_empty())
        };
        let (algorithm, password) = (text("algorithm"), text("key_password"));
        let (key_id, tag, file, secret) = (text("key_id"), text("tag"), text("key"), text("secret"));
        let key = match (profile.entry("key"), file, profile.entry("secret"), secret) {
            (Some(entry), Some(file), ..) => {
                keys::signing_key(self.resolver, entry, &file, password.as_deref(), algorithm.as_deref())
                    .map_err(Some)?
            }
            (_, _, Some(entry), Some(secret)) => SigningKey::from_secret(secret.as_bytes(), algorithm.as_deref())
                .map_err(|error| {
                    let problem = Problem::error(Code::InvalidValue, entry.span, error.to_string());
                    Some(Box::new(problem.in_source(entry.source)))
                })?,
            // Why there is no text was reported.
            _ => return Err(None),
        };
        let SigningProfile { label, components, lifetime, nonce, .. } = profile.clone();
        Ok(MessageSigner { key, key_id, label, components, lifetime, tag, nonce })
    }

    fn login(&mut self, origin: SourceId, is_local: bool, (user, password): (Span, Span), scheme: &str) -> Login {
        let password = self.credential(origin, is_local, password, "this password");
        let login = Login { user: self.text(origin, user), password };
        // RFC 7617 2 and RFC 7616 4: the colon ends the name.
        if login.user.contains(':') || login.user.contains(|c: char| c.is_control()) {
            let message = format!("the user name of `{scheme}` cannot contain a colon or control characters");
            self.problems.push(Problem::error(Code::InvalidValue, user, message).in_source(origin));
        }
        login
    }

    /// A text that is hidden from now on.
    fn credential(&mut self, origin: SourceId, is_local: bool, span: Span, name: &str) -> String {
        let written = self.text(origin, span);
        // A secret in it was looked up, and is held to its own origins. What is written here is for this request; what is
        // written for many requests is for those of the environment.
        let base = self.resolver.base_origin().filter(|_| !is_local);
        let destinations = base.map_or(Destinations::Any, |_| Destinations::Base);
        let value = Value::text(written.as_str());
        self.resolver.cache.secrets.push(UsedSecret::new(value, name, destinations, (origin, span)));
        written
    }
}

/// The header value of basic credentials (RFC 7617).
pub(super) fn basic(login: &Login) -> String {
    format!("Basic {}", STANDARD.encode(format!("{}:{}", login.user, login.password)))
}

/// The additions of credentials to a request beside a header field.
#[derive(Default)]
pub(super) struct Added {
    pub(super) digest: Option<Arc<Login>>,
    pub(super) bound: Option<Arc<BoundToken>>,
}

/// Adds a proof, unless a field gives one already.
pub(super) fn add(headers: &mut HeaderFields, proof: Option<Credentials>) -> Added {
    let field = match &proof {
        Some(Credentials::Key(Some((name, _)))) => name,
        _ => "authorization",
    };
    let given = headers.iter().any(|(name, _)| name.eq_ignore_ascii_case(field));
    let mut added = Added::default();
    match proof.filter(|_| !given) {
        Some(Credentials::Digest(login)) => added.digest = Some(login),
        Some(Credentials::Header(value)) => headers.push(("Authorization".into(), value.into())),
        Some(Credentials::Key(Some((name, value)))) => headers.push((name.into(), value.into())),
        Some(Credentials::Bound(token)) => {
            headers.push(("Authorization".into(), format!("DPoP {}", token.access).into()));
            added.bound = Some(token);
        }
        Some(Credentials::Key(None)) | None => {}
    }
    added
}
