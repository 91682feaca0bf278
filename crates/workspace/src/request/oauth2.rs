//! Tokens of OAuth 2.0 (RFC 6749): the request that gets one, and what comes back.

use super::auth::basic;
use super::write::TemplateRenderer;
use super::{destination, prepare, sending};
use crate::config::{Config, Profile};
use crate::scope::Resolver;
use crate::secret::{Destinations, UsedSecret};
use crate::{AuthLine, auth_of};
use sha2::{Digest, Sha256};
use std::fmt;
use std::sync::Arc;
use thiserror::Error;
use url::form_urlencoded;
use yieldtray_expression::Value;
use yieldtray_http::{Exchange, HeaderFields, Login, PreparedRequest, SendOptions, origin_of};
use yieldtray_source::access::CONFIG_FILE;
use yieldtray_source::{Code, Problem, Span, closest, hex, join_words};
use yieldtray_syntax::Auth;

/// A token that ends this soon, in seconds, is renewed first: the request takes time too.
const EXPIRY_LEEWAY_SECONDS: i64 = 10;

/// A token of one profile. It is never printed.
#[derive(Clone, PartialEq, Eq)]
pub struct Token {
    /// The profile of the configuration it was got by.
    pub profile: String,
    /// A fingerprint that distinguishes it from a token obtained with other parameters of the same profile.
    pub fingerprint: String,
    /// The token itself.
    pub access: String,
    /// Its refresh token.
    pub refresh: Option<String>,
    /// When it ends, in seconds since 1970; `None` where nobody says.
    pub expires_at: Option<i64>,
    /// True if it was obtained in this run, rather than loaded from the state.
    pub obtained_now: bool,
}

impl fmt::Debug for Token {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Token({})", self.profile)
    }
}

/// The tokens of one environment, one a profile.
#[derive(Clone, Debug, Default)]
pub struct Tokens(Vec<Token>);

impl Tokens {
    /// Takes a token in place of the one its profile had.
    pub fn put(&mut self, token: Token) {
        self.drop_profile(&token.profile);
        self.0.push(token);
    }

    /// Drops the token of a profile.
    pub fn drop_profile(&mut self, profile: &str) {
        self.0.retain(|known| known.profile != profile);
    }

    /// Every token.
    pub fn iter(&self) -> impl Iterator<Item = &Token> {
        self.0.iter()
    }

    fn find(&self, profile: &str, fingerprint: &str) -> Option<&Token> {
        self.0.iter().find(|token| token.profile == profile && token.fingerprint == fingerprint)
    }
}

/// A request for a token.
#[derive(Clone, Debug)]
pub struct TokenRequest {
    /// The profile it is for.
    pub profile: String,
    /// The request.
    pub prepared: Arc<PreparedRequest>,
    fingerprint: String,
    /// The token that is renewed, if one is.
    refreshes: Option<Token>,
}

/// The result of looking for a profile's token.
#[derive(Debug)]
pub enum TokenLookup {
    /// It asks for none.
    NotNeeded,
    /// This token, of this profile.
    Token(Token),
    /// This must be sent first.
    Request(Box<TokenRequest>),
}

/// The token request that the cell of `lookup` needs first, if any. The token of the profile `just_got` is used even
/// if it expires at once: another request would give no better one.
pub fn token_request(
    resolver: &mut Resolver<'_>,
    tokens: &Tokens,
    just_got: Option<&str>,
) -> Result<TokenLookup, Vec<Problem>> {
    let Some(AuthLine { origin, auth: Auth::OAuth2(span), .. }) = auth_of(resolver.workspace, resolver.cell) else {
        return Ok(TokenLookup::NotNeeded);
    };
    let now = resolver.context.random.now().timestamp();
    let config = &resolver.workspace.config;
    let environment = resolver.context.settings.environment.as_deref();
    // The limits of the request hold for its token too.
    let configured = sending::configured(config.send_settings(environment));
    let sending = sending::of_cell(configured, resolver.workspace, resolver.cell);
    let mut writer = TemplateRenderer { resolver, problems: Vec::new() };
    let name = writer.text(origin, span);
    let Some(profile) = config.profile(&name) else {
        return Err(vec![unknown_profile(config, &name, span).in_source(origin)]);
    };
    let words = ProfileParams::read(&mut writer, profile);
    let fingerprint = words.fingerprint();
    let known = tokens.find(&name, &fingerprint);
    let lasts = |token: &&Token| {
        token.expires_at.is_none_or(|expires_at| expires_at > now + EXPIRY_LEEWAY_SECONDS) || just_got == Some(&name)
    };
    if let Some(token) = known.filter(lasts) {
        return Ok(TokenLookup::Token(token.clone()));
    }
    let refreshes = known.filter(|token| token.refresh.is_some()).cloned();
    let prepared =
        words.request(&mut writer, profile, refreshes.as_ref().and_then(|token| token.refresh.as_deref()), sending);
    let mut problems = writer.problems;
    if let Some(prepared) = &prepared {
        problems.extend(destination::check_token_request(resolver, prepared));
    }
    match prepared {
        Some(prepared) if !problems.iter().any(Problem::is_error) => Ok(TokenLookup::Request(Box::new(TokenRequest {
            profile: name,
            prepared: Arc::new(prepared),
            fingerprint,
            refreshes,
        }))),
        _ => Err(problems),
    }
}

/// A profile nobody has described, with what was probably meant.
pub(crate) fn unknown_profile(config: &Config, name: &str, span: Span) -> Problem {
    let names: Vec<&str> = config.profiles.iter().map(|profile| profile.name.as_str()).collect();
    let problem = Problem::error(Code::UnknownProfile, span, format!("no OAuth 2.0 profile `{name}`"));
    match closest(name, names.iter().copied()) {
        Some(meant) => problem.did_you_mean(meant),
        None if names.is_empty() => problem.with_hint(format!("define it in `{CONFIG_FILE}`: `[oauth2.{name}]`")),
        None => problem.with_hint(format!("available: {}", join_words(names))),
    }
}

/// The parameters of a profile with their placeholders resolved.
struct ProfileParams(Vec<(&'static str, String)>);

impl ProfileParams {
    fn read(writer: &mut TemplateRenderer<'_, '_>, profile: &Profile) -> Self {
        let written = profile.entries.iter().map(|entry| {
            let text = writer.text(entry.source, entry.span);
            if entry.is_secret() {
                let value = Value::text(text.as_str());
                let used = UsedSecret::new(value, entry.key, Destinations::Any, (entry.source, entry.span));
                writer.resolver.cache.secrets.push(used);
            }
            (entry.key, text)
        });
        Self(written.collect())
    }

    fn get(&self, key: &str) -> Option<&str> {
        self.0.iter().find(|(known, _)| *known == key).map(|(_, text)| text.as_str())
    }

    fn fingerprint(&self) -> String {
        let mut digest = Sha256::new();
        for (key, text) in &self.0 {
            digest.update(format!("{}:{key}={}:{text};", key.len(), text.len()));
        }
        hex::encode(&digest.finalize())
    }

    /// The token request (RFC 6749 4.3.2, 4.4.2, 6).
    fn request(
        &self,
        writer: &mut TemplateRenderer<'_, '_>,
        profile: &Profile,
        refresh: Option<&str>,
        sending: SendOptions,
    ) -> Option<PreparedRequest> {
        let grant = self.get("grant").unwrap_or("client_credentials");
        let mut form: Vec<(&str, &str)> = Vec::new();
        let mut lacking = Vec::new();
        let mut need = |key: &'static str| {
            let text = self.get(key);
            if text.is_none() {
                lacking.push(key);
            }
            text.unwrap_or_default()
        };
        let url = need("token_url").to_owned();
        match (refresh, grant) {
            (Some(refresh), _) => form.extend([("grant_type", "refresh_token"), ("refresh_token", refresh)]),
            (None, "password") => form.extend([
                ("grant_type", "password"),
                ("username", need("username")),
                ("password", need("password")),
            ]),
            (None, "refresh_token") => {
                form.extend([("grant_type", "refresh_token"), ("refresh_token", need("refresh_token"))]);
            }
            (None, _) => form.push(("grant_type", "client_credentials")),
        }
        form.extend(self.get("scope").filter(|scope| !scope.is_empty()).map(|scope| ("scope", scope)));
        let client = need("client_id").to_owned();
        if !lacking.is_empty() {
            let message = format!("`[oauth2.{}]` is missing {}", profile.name, join_words(&lacking));
            let hint = "see `yieldtray help config` for the keys of each grant";
            let problem = Problem::error(Code::UnknownProfile, profile.span, message).with_hint(hint);
            writer.problems.push(problem.in_source(profile.source));
            return None;
        }
        let mut headers: HeaderFields = vec![
            ("Content-Type".into(), "application/x-www-form-urlencoded".into()),
            ("Accept".into(), "application/json".into()),
        ];
        match (self.get("client_secret"), self.get("client_auth")) {
            (Some(secret), Some("body")) => form.extend([("client_id", client.as_str()), ("client_secret", secret)]),
            // RFC 6749 2.3.1: both are form-encoded before they are joined.
            (Some(secret), _) => {
                let login = Login { user: form_encoded(&client), password: form_encoded(secret) };
                headers.push(("Authorization".into(), basic(&login).into()));
            }
            (None, _) => form.push(("client_id", &client)),
        }
        let body = form_urlencoded::Serializer::new(String::new()).extend_pairs(form).finish();
        let mut problems = Vec::new();
        let address = super::target::address(&url, false, profile.span, &mut problems);
        let base = writer.resolver.base_origin();
        let of_base = address.as_ref().is_some_and(|address| base == Some(origin_of(&address.url)));
        writer.problems.extend(problems.into_iter().map(|problem| problem.in_source(profile.source)));
        prepare::add_defaults(&mut headers, |_| false);
        Some(PreparedRequest {
            method: "POST".to_owned(),
            url: address?.url,
            version: None,
            headers,
            body: Some(body.into()),
            sending: SendOptions { cookies: false, redirects: 0, certificate: of_base, ..sending },
            verbatim_target: None,
            digest: None,
            secret_body: true,
        })
    }
}

fn form_encoded(text: &str) -> String {
    form_urlencoded::byte_serialize(text.as_bytes()).collect()
}

/// Why a response has no token that can be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum TokenError {
    /// The server gives none.
    #[error("no token for `{profile}`: {host} responded with {status} ({why})")]
    Refused {
        /// The name of the profile.
        profile: String,
        /// The host of the server.
        host: String,
        /// The status of the response.
        status: u16,
        /// The `error` of the response with its description, or the reason phrase.
        why: String,
    },
    /// It is not a bearer token (RFC 6750).
    #[error("unsupported token type `{kind}` for `{profile}`: only `Bearer` is supported")]
    Kind {
        /// The name of the profile.
        profile: String,
        /// Its `token_type`.
        kind: String,
    },
}

impl TokenRequest {
    /// The token in the response (RFC 6749 5.1); `now` in seconds since 1970.
    ///
    /// # Errors
    /// If the response has none (RFC 6749 5.2), or one of another type than `Bearer`.
    pub fn token(&self, answer: &Exchange, now: i64) -> Result<Token, TokenError> {
        let host = self.prepared.url.host_str().unwrap_or_default();
        let body: serde_json::Value = serde_json::from_slice(&answer.body).unwrap_or_default();
        let text = |key: &str| body[key].as_str().map(str::to_owned);
        let Some(access) = text("access_token").filter(|_| answer.status == 200) else {
            let why = match (text("error"), text("error_description")) {
                (Some(error), Some(words)) => format!("{error}: {words}"),
                (Some(error), None) => error,
                _ if answer.status == 200 => "the response has no `access_token`".to_owned(),
                _ => answer.reason.clone(),
            };
            let (profile, host, status) = (self.profile.clone(), host.to_owned(), answer.status);
            return Err(TokenError::Refused { profile, host, status, why });
        };
        if let Some(kind) = text("token_type").filter(|kind| !kind.eq_ignore_ascii_case("bearer")) {
            return Err(TokenError::Kind { profile: self.profile.clone(), kind });
        }
        let seconds = body["expires_in"].as_i64().or_else(|| body["expires_in"].as_str()?.parse().ok());
        // A server that gives no new one leaves the old one in force (RFC 6749 6).
        let refresh = text("refresh_token").or_else(|| self.refreshes.as_ref()?.refresh.clone());
        Ok(Token {
            profile: self.profile.clone(),
            fingerprint: self.fingerprint.clone(),
            access,
            refresh,
            expires_at: seconds.map(|seconds| now.saturating_add(seconds.max(0))),
            obtained_now: true,
        })
    }

    /// True for a refresh: if it is refused, a new token can be requested.
    pub fn refreshes(&self) -> bool {
        self.refreshes.is_some()
    }
}
