//! Security schemes as credentials.

use crate::draft::ImportedRequest;
use std::collections::BTreeMap;
use thiserror::Error;
use yieldtray_description::{Documents, Node};
use yieldtray_source::names::slug;
use yieldtray_syntax::{ValueText, is_token};

/// Why a security scheme cannot be written as an instruction.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
enum SchemeError {
    #[error("security scheme `{0}` is not described")]
    NotDescribed(String),
    #[error("the key of security scheme `{0}` is not a valid header or cookie name")]
    KeyName(String),
    #[error("security scheme `{0}` has no location for its key")]
    KeyLocation(String),
    #[error("security scheme `{name}` ({kind}) is not supported")]
    Unsupported { name: String, kind: String },
}

/// A value that somebody must fill in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NeededValue {
    /// True if it must never be shown.
    pub secret: bool,
    /// Its purpose.
    pub about: String,
}

/// How a token is got, for `[oauth2.NAME]` of a configuration. Its client is named by the values `client_id` and, but for people who
/// sign in with a browser, `client_secret`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OauthProfile {
    /// Where from: `token_url`, `authorization_url` or `issuer`, each with its URL.
    pub endpoints: Vec<(&'static str, String)>,
    /// `client_credentials`, `password` or `authorization_code`.
    pub grant: &'static str,
    /// The scopes, separated by spaces.
    pub scope: String,
}

/// A URL of a description for a profile, in which `{{ }}` would be evaluated.
fn literal(url: &str) -> String {
    let odd = |c: char| matches!(c, '{' | '}' | '\'' | '"' | '\\') || c.is_whitespace() || c.is_control();
    url.trim().replace(odd, "")
}

/// The issuer of a scheme of OpenID Connect, whose metadata names the endpoints.
fn issuer(scheme: Node<'_>) -> Option<String> {
    let url = literal(scheme.text("openIdConnectUrl")?);
    url.strip_suffix("/.well-known/openid-configuration").map(str::to_owned)
}

/// The grant of a scheme and its endpoints; one for machines before one for people.
fn grant(scheme: Node<'_>) -> Option<(&'static str, Vec<(&'static str, String)>)> {
    if scheme.text("type") == Some("openIdConnect") {
        return Some(("authorization_code", vec![("issuer", issuer(scheme)?)]));
    }
    let flow = |flow: &str| scheme.get("flows").and_then(|flows| flows.get(flow));
    let url = |flow: Node<'_>, key: &str| literal(flow.text(key).unwrap_or_default());
    if let Some(flow) = flow("clientCredentials") {
        return Some(("client_credentials", vec![("token_url", url(flow, "tokenUrl"))]));
    }
    if let Some(flow) = flow("password") {
        return Some(("password", vec![("token_url", url(flow, "tokenUrl"))]));
    }
    let flow = flow("authorizationCode")?;
    let endpoints = vec![("token_url", url(flow, "tokenUrl")), ("authorization_url", url(flow, "authorizationUrl"))];
    endpoints.iter().all(|(_, url)| !url.is_empty()).then_some(("authorization_code", endpoints))
}

/// The security schemes of a description, and what those that are used need.
pub(super) struct Security<'d> {
    documents: &'d Documents,
    pub(super) values: BTreeMap<String, NeededValue>,
    pub(super) profiles: BTreeMap<String, OauthProfile>,
}

impl<'d> Security<'d> {
    pub(super) fn new(documents: &'d Documents) -> Self {
        Self { documents, values: BTreeMap::new(), profiles: BTreeMap::new() }
    }

    /// Gives a request the credentials that it needs. Gives words for what cannot be said.
    pub(super) fn add(&mut self, operation: Node<'d>, draft: &mut ImportedRequest) -> Vec<String> {
        let root = self.documents.root();
        let Some(wanted) = operation.get("security").or_else(|| root.get("security")) else { return Vec::new() };
        let alternatives: Vec<Node<'d>> = wanted.list().collect();
        // No credentials may be one of the ways: then it needs none, but some are better.
        let mut notes = Vec::new();
        for alternative in alternatives.iter().filter(|alternative| alternative.members().next().is_some()) {
            match alternative.members().try_for_each(|(name, _)| self.check_supported(name)) {
                Ok(()) => {
                    let alone = alternative.members().count() == 1;
                    alternative.members().for_each(|(name, scopes)| self.scheme(name, scopes, alone, draft));
                    return Vec::new();
                }
                Err(why) => notes.push(why.to_string()),
            }
        }
        notes
    }

    fn described(&self, name: &str) -> Option<Node<'d>> {
        let components = self.documents.root().get("components")?;
        self.documents.member(components.get("securitySchemes")?, name)
    }

    /// Checks that a scheme can be written as an instruction.
    fn check_supported(&self, name: &str) -> Result<(), SchemeError> {
        let scheme = self.described(name).ok_or_else(|| SchemeError::NotDescribed(name.to_owned()))?;
        let http = scheme.text("scheme").unwrap_or_default();
        match (scheme.text("type").unwrap_or_default(), scheme.text("in")) {
            ("http", _) if ["bearer", "basic", "digest"].iter().any(|known| http.eq_ignore_ascii_case(known)) => Ok(()),
            ("apiKey", Some("header" | "cookie")) if !scheme.text("name").is_some_and(is_token) => {
                Err(SchemeError::KeyName(name.to_owned()))
            }
            ("apiKey", Some("header" | "query" | "cookie")) | ("oauth2", _) => Ok(()),
            ("openIdConnect", _) if issuer(scheme).is_some() => Ok(()),
            ("apiKey", _) => Err(SchemeError::KeyLocation(name.to_owned())),
            (kind, _) => {
                let kind = format!("{kind} {http}").trim_end().to_owned();
                Err(SchemeError::Unsupported { name: name.to_owned(), kind })
            }
        }
    }

    /// Gives a request what a scheme wants that can be said.
    /// `alone` if the request needs nothing else.
    fn scheme(&mut self, name: &str, scopes: Node<'d>, alone: bool, draft: &mut ImportedRequest) {
        let Some(scheme) = self.described(name) else { return };
        match (scheme.text("type").unwrap_or_default(), scheme.text("scheme").unwrap_or_default()) {
            ("http", http) if http.eq_ignore_ascii_case("bearer") => {
                let token = self.value(name, "token", true);
                draft.auth = Some(("bearer", vec![token]));
            }
            ("http", http) => {
                let kind = if http.eq_ignore_ascii_case("basic") { "basic" } else { "digest" };
                draft.auth = Some((kind, vec![self.value(name, "user", false), self.value(name, "password", true)]));
            }
            ("apiKey", _) => {
                let key = self.value(name, "key", true);
                let own = scheme.text("name").unwrap_or_default();
                match scheme.text("in") {
                    // A request has one `% auth` line.
                    Some(place) if alone && is_token(own) => {
                        draft.auth = Some(("key", vec![place.into(), own.into(), key]));
                    }
                    Some("query") => draft.parameters.push((own.into(), key)),
                    Some("cookie") => super::parameters::cookie(draft, own, &key),
                    _ => draft.headers.push((own.into(), key)),
                }
            }
            _ => self.oauth2(name, scheme, scopes, draft),
        }
    }

    fn oauth2(&mut self, name: &str, scheme: Node<'d>, scopes: Node<'d>, draft: &mut ImportedRequest) {
        let Some((grant, endpoints)) = grant(scheme) else {
            // A person signs in somewhere: what they get there is a token.
            let token = self.value(name, "token", true);
            draft.auth = Some(("bearer", vec![token]));
            return;
        };
        let profile = slug(name);
        let wanted: Vec<&str> = scopes.list().filter_map(|scope| scope.value.as_str()).collect();
        let own = self.profiles.entry(profile.clone()).or_insert_with(|| OauthProfile {
            endpoints,
            grant,
            scope: if scheme.text("type") == Some("openIdConnect") { "openid".to_owned() } else { String::new() },
        });
        // The characters that a scope has (RFC 6749 3.3), and none that begin a mark.
        let is_scope = |scope: &&str| {
            !scope.contains("{{") && scope.bytes().all(|b| matches!(b, 0x21 | 0x23..=0x5B | 0x5D..=0x7E))
        };
        for scope in wanted.into_iter().filter(is_scope) {
            if !own.scope.split(' ').any(|known| known == scope) {
                own.scope = format!("{} {scope}", own.scope).trim().to_owned();
            }
        }
        let mut needed = vec![("client_id", false)];
        if grant != "authorization_code" {
            needed.push(("client_secret", true));
        }
        if grant == "password" {
            needed.extend([("username", false), ("password", true)]);
        }
        for (value, secret) in needed {
            self.values.insert(value.to_owned(), NeededValue { secret, about: format!("of `{name}`") });
        }
        draft.auth = Some(("oauth2", vec![profile.into()]));
    }

    /// A value to be filled in, named after its scheme and what it is.
    fn value(&mut self, scheme: &str, what: &str, secret: bool) -> ValueText {
        let name = super::parameters::value_name(scheme);
        let name = if name.ends_with(what) { name } else { format!("{name}_{what}") };
        self.values.insert(name.clone(), NeededValue { secret, about: format!("the {what} of `{scheme}`") });
        ValueText::value(name)
    }
}
