//! Profiles of `[oauth2]`: the parameters of a token for the cell that needs one.

use super::undefined_profile::unknown_profile;
use super::write::TemplateRenderer;
use super::{destination, keys, prepare, sending};
use crate::config::Profile;
use crate::scope::Resolver;
use crate::secret::{Destinations, UsedSecret};
use crate::{AuthLine, auth_of};
use sha2::{Digest, Sha256};
use std::time::Duration;
use url::Url;
use yieldtray_credentials::oauth::{
    AssertionKey, Client, ClientAuth, Endpoints, Grant, RedirectAddress, Token, TokenFlow, TokenParams,
};
use yieldtray_expression::Value;
use yieldtray_http::{SendOptions, origin_of};
use yieldtray_source::{Code, Problem, hex};
use yieldtray_syntax::{Auth, duration};

/// The type of a token that is exchanged, where nothing else is said (RFC 8693 3).
const ACCESS_TOKEN: &str = "urn:ietf:params:oauth:token-type:access_token";

/// How long a person may take to sign in, where the profile does not say.
const DEFAULT_SIGN_IN_TIMEOUT: Duration = Duration::from_secs(5 * 60);

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

/// The result of looking for a profile's token.
#[derive(Debug)]
pub enum TokenLookup {
    /// It asks for none.
    NotNeeded,
    /// This token, of this profile.
    Token(Token),
    /// It must be obtained first, by these steps.
    Flow(Box<TokenFlow>),
}

/// The token that the cell of `resolver` needs, or the steps by which it is obtained. The token of the profile `just_got` is used
/// even if it expires at once: another request would give no better one.
pub fn find_token(
    resolver: &mut Resolver<'_>,
    tokens: &Tokens,
    just_got: Option<&str>,
) -> Result<TokenLookup, Vec<Problem>> {
    let Some((texts, problems)) = ProfileTexts::of_cell(resolver)? else { return Ok(TokenLookup::NotNeeded) };
    let name = texts.profile.name.as_str();
    let now = resolver.context.random.now().timestamp();
    // Most requests find their token here: no key is read, and no URL parsed.
    let known = tokens.find(name, &texts.fingerprint());
    if let Some(token) = known.filter(|token| token.lasts(now) || just_got == Some(name))
        && !problems.iter().any(Problem::is_error)
    {
        return Ok(TokenLookup::Token(token.clone()));
    }
    match TokenFlow::new(texts.checked_params(resolver, problems)?, known.cloned()) {
        Ok(flow) => Ok(TokenLookup::Flow(Box::new(flow))),
        Err(error) => {
            let problem = Problem::error(Code::UnknownProfile, texts.profile.span, error.to_string());
            Err(vec![problem.in_source(texts.profile.source)])
        }
    }
}

/// What a token is requested with for the profile that the cell of `resolver` names; `None` if it names none.
pub fn token_params(resolver: &mut Resolver<'_>) -> Result<Option<TokenParams>, Vec<Problem>> {
    let Some((texts, problems)) = ProfileTexts::of_cell(resolver)? else { return Ok(None) };
    texts.checked_params(resolver, problems).map(Some)
}

/// The texts of a profile with their placeholders resolved.
struct ProfileTexts<'p> {
    profile: &'p Profile,
    texts: Vec<(&'p str, String)>,
}

impl<'p> ProfileTexts<'p> {
    /// Those of the profile that a cell names, with what is wrong with them; `None` if it names none.
    fn of_cell(resolver: &mut Resolver<'p>) -> Result<Option<(Self, Vec<Problem>)>, Vec<Problem>> {
        let Some(AuthLine { origin, auth: Auth::OAuth2(span), .. }) = auth_of(resolver.workspace, resolver.cell) else {
            return Ok(None);
        };
        let config = &resolver.workspace.config;
        let mut writer = TemplateRenderer { resolver, problems: Vec::new() };
        let name = writer.text(origin, span);
        let Some(profile) = config.profile(&name) else {
            return Err(vec![unknown_profile(config, &name, span).in_source(origin)]);
        };
        let texts = Self::read(&mut writer, profile);
        Ok(Some((texts, writer.problems)))
    }

    /// What a token is requested with, unless something is wrong. Its secrets must belong to the endpoints.
    fn checked_params(&self, resolver: &mut Resolver<'_>, problems: Vec<Problem>) -> Result<TokenParams, Vec<Problem>> {
        let environment = resolver.context.settings.environment.as_deref();
        // The limits of the request apply to its token too.
        let configured = sending::configured(resolver.workspace.config.send_settings(environment));
        let sending = sending::of_cell(configured, resolver.workspace, resolver.cell);
        let mut writer = TemplateRenderer { resolver, problems };
        let params = self.params(&mut writer, sending);
        let mut problems = writer.problems;
        if let Some(params) = &params {
            let Endpoints { issuer, token, device, revocation, .. } = &params.endpoints;
            let reached = [issuer, token, device, revocation].into_iter().flatten();
            let mut origins: Vec<String> = reached.map(origin_of).collect();
            origins.dedup();
            for origin in origins {
                problems.extend(destination::check_token_endpoint(resolver, &origin));
            }
        }
        match params {
            Some(params) if !problems.iter().any(Problem::is_error) => Ok(params),
            _ => Err(problems),
        }
    }

    fn read(writer: &mut TemplateRenderer<'_, '_>, profile: &'p Profile) -> Self {
        let written = profile.entries.iter().map(|entry| {
            let text = writer.text(entry.source, entry.span);
            if entry.is_secret() {
                let value = Value::text(text.as_str());
                let used = UsedSecret::new(value, &entry.key, Destinations::Any, (entry.source, entry.span));
                writer.resolver.cache.secrets.push(used);
            }
            (&*entry.key, text)
        });
        Self { profile, texts: written.collect() }
    }

    fn get(&self, key: &str) -> Option<&str> {
        self.texts.iter().find(|(known, _)| *known == key).map(|(_, text)| text.as_str())
    }

    /// The text of a key, unless it is empty.
    fn some(&self, key: &str) -> Option<String> {
        self.get(key).filter(|text| !text.is_empty()).map(str::to_owned)
    }

    /// The names and texts of a table.
    fn table(&self, key: &str) -> Vec<(String, String)> {
        let own =
            self.texts.iter().filter_map(|(known, text)| Some((known.strip_prefix(key)?.strip_prefix('.')?, text)));
        own.map(|(name, text)| (name.to_owned(), text.clone())).collect()
    }

    fn fingerprint(&self) -> String {
        let mut digest = Sha256::new();
        for (key, text) in &self.texts {
            digest.update(format!("{}:{key}={}:{text};", key.len(), text.len()));
        }
        hex::encode(&digest.finalize())
    }

    fn error(&self, writer: &mut TemplateRenderer<'_, '_>, key: Option<&str>, message: String, hint: &str) {
        let entry = key.and_then(|key| self.profile.entries_of(key).next());
        let (source, span) = entry.map_or((self.profile.source, self.profile.span), |entry| (entry.source, entry.span));
        writer.problems.push(Problem::error(Code::UnknownProfile, span, message).with_hint(hint).in_source(source));
    }

    /// What a token is requested with, unless something is wrong, which is reported.
    fn params(&self, writer: &mut TemplateRenderer<'_, '_>, sending: SendOptions) -> Option<TokenParams> {
        let errors = writer.problems.len();
        let mut missing = Vec::new();
        let mut need = |key: &'static str| {
            let text = self.get(key);
            if text.is_none() {
                missing.push(format!("`{key}`"));
            }
            text.unwrap_or_default().to_owned()
        };
        let name = self.get("grant").unwrap_or("client_credentials");
        let id = if name == "jwt_bearer" { self.some("client_id").unwrap_or_default() } else { need("client_id") };
        let grant = match name {
            "password" => Grant::Password { username: need("username"), password: need("password") },
            "refresh_token" => Grant::RefreshToken(need("refresh_token")),
            "authorization_code" => Grant::AuthorizationCode,
            "device_code" => Grant::DeviceCode,
            "token_exchange" => {
                let kind = |key: &str| self.some(key).unwrap_or_else(|| ACCESS_TOKEN.to_owned());
                Grant::Exchange {
                    subject: (need("subject_token"), kind("subject_token_type")),
                    actor: self.some("actor_token").map(|token| (token, kind("actor_token_type"))),
                    requested: self.some("requested_token_type"),
                }
            }
            "jwt_bearer" => match self.some("assertion") {
                Some(assertion) => Grant::Assertion(assertion),
                None => {
                    need("client_id");
                    if self.get("key").is_none() {
                        missing.push("`key` or `assertion`".to_owned());
                    }
                    Grant::Assertion(String::new())
                }
            },
            _ => Grant::ClientCredentials,
        };
        let endpoint = |key: &str| self.get(key).is_some() || self.get("issuer").is_some();
        for key in ["token_url", "authorization_url", "device_url"] {
            let needed = match key {
                "authorization_url" => matches!(grant, Grant::AuthorizationCode),
                "device_url" => matches!(grant, Grant::DeviceCode),
                _ => true,
            };
            if needed && !endpoint(key) {
                missing.push(format!("`{key}` or `issuer`"));
            }
        }
        if self.get("client_auth") == Some("private_key_jwt") && self.get("key").is_none() {
            missing.push("`key`".to_owned());
        }
        if !missing.is_empty() {
            let what = missing.join(" and ");
            let message = format!("`[oauth2.{}]` is missing {what}", self.profile.name);
            self.error(writer, None, message, "see `yieldtray help config` for the keys of each grant");
            return None;
        }
        let key = self.key(writer);
        let grant = match (grant, &key) {
            (Grant::Assertion(empty), Some(key)) if empty.is_empty() => {
                let (subject, claims) = (self.some("subject"), self.table("claims"));
                Grant::SignedAssertion { key: key.clone(), subject, claims }
            }
            (grant, _) => grant,
        };
        let auth = match (self.get("client_auth"), self.some("client_secret"), key) {
            (Some("private_key_jwt"), _, Some(key)) => ClientAuth::Assertion(key),
            (Some("tls"), ..) => ClientAuth::Certificate,
            (Some("body"), Some(secret), _) => ClientAuth::Body(secret),
            (Some("none"), ..) => ClientAuth::None,
            // The assertion says who asks.
            (None, None, _) if name == "jwt_bearer" => ClientAuth::Unnamed,
            (_, Some(secret), _) => ClientAuth::Basic(secret),
            _ => ClientAuth::None,
        };
        let endpoints = Endpoints {
            issuer: self.url(writer, "issuer"),
            token: self.url(writer, "token_url"),
            authorization: self.url(writer, "authorization_url"),
            device: self.url(writer, "device_url"),
            revocation: self.url(writer, "revocation_url"),
        };
        let redirect = match self.get("redirect_url").map(RedirectAddress::parse).transpose() {
            Ok(address) => address.unwrap_or_default(),
            Err(error) => {
                self.error(
                    writer,
                    Some("redirect_url"),
                    format!("`redirect_url` {error}"),
                    "the browser comes back to this program",
                );
                RedirectAddress::default()
            }
        };
        let sign_in_timeout = match self.get("sign_in_timeout").map(|text| duration(text).ok_or(text)) {
            None => DEFAULT_SIGN_IN_TIMEOUT,
            Some(Ok(limit)) => limit,
            Some(Err(text)) => {
                let message = format!("`sign_in_timeout` is `{text}`, not a duration");
                self.error(
                    writer,
                    Some("sign_in_timeout"),
                    message,
                    "write a number with a unit, for example `\"10m\"`",
                );
                DEFAULT_SIGN_IN_TIMEOUT
            }
        };
        let mut headers = Vec::new();
        prepare::add_defaults(&mut headers, |_| false);
        let resources = self.texts.iter().filter(|(key, _)| *key == "resource").map(|(_, text)| text.clone()).collect();
        let params = TokenParams {
            profile: self.profile.name.clone(),
            fingerprint: self.fingerprint(),
            grant,
            client: Client { id, auth },
            endpoints,
            scope: self.some("scope"),
            audience: self.some("audience"),
            resources,
            extra: self.table("params"),
            bound: self.get("token_type") == Some("dpop"),
            redirect,
            sign_in_timeout,
            headers,
            sending,
            base_origin: writer.resolver.base_origin(),
        };
        (writer.problems.len() == errors).then_some(params)
    }

    /// The key that assertions are signed with.
    fn key(&self, writer: &mut TemplateRenderer<'_, '_>) -> Option<AssertionKey> {
        let entry = self.profile.entries_of("key").next()?;
        let file = self.get("key")?;
        let read = keys::signing_key(writer.resolver, entry, file, self.get("key_password"), self.get("algorithm"));
        match read {
            Ok(key) => Some(AssertionKey { key, id: self.some("key_id"), audience: self.some("assertion_audience") }),
            Err(problem) => {
                writer.problems.push(*problem);
                None
            }
        }
    }

    fn url(&self, writer: &mut TemplateRenderer<'_, '_>, key: &str) -> Option<Url> {
        let entry = self.profile.entries_of(key).next()?;
        let mut problems = Vec::new();
        let address = super::target::address(self.get(key)?, false, entry.span, &mut problems);
        writer.problems.extend(problems.into_iter().map(|problem| problem.in_source(entry.source)));
        address.map(|address| address.url)
    }
}
