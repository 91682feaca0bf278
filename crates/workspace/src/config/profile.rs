//! `[oauth2.NAME]` of a configuration: how a token is obtained (RFC 6749).

use crate::config::reader::{Key, Reader, Table, TableKeys, key_span};
use std::borrow::Cow;
use toml::Spanned;
use toml::de::{DeArray, DeValue};
use yieldtray_source::{SourceId, Span};

/// One way to get tokens. Its texts may hold marks, which see the values of the cell that asks.
#[derive(Clone, Debug)]
pub struct Profile {
    /// Its name.
    pub name: String,
    /// The configuration in which it is defined first.
    pub source: SourceId,
    /// The span of its name.
    pub span: Span,
    /// Its entries, private ones first: the first of a key wins.
    pub entries: Vec<ProfileEntry>,
    /// The origins that its tokens may be sent to, beside that of `base` and of the token endpoint.
    pub origins: Vec<String>,
}

/// One line of a profile.
#[derive(Clone, Debug)]
pub struct ProfileEntry {
    /// Its key; of a table in it, the key and the name: `params.prompt`.
    pub key: Cow<'static, str>,
    /// True if it is in the private configuration.
    pub private: bool,
    /// The configuration it is in.
    pub source: SourceId,
    /// The span of its text, without the quotes.
    pub span: Span,
    /// Its text, with its placeholders.
    pub text: String,
}

impl ProfileEntry {
    /// Whether its text is a secret.
    pub fn is_secret(&self) -> bool {
        const SECRET: &[&str] = &[
            "client_secret",
            "password",
            "refresh_token",
            "key_password",
            "assertion",
            "subject_token",
            "actor_token",
            "secret",
        ];
        SECRET.contains(&&*self.key)
    }
}

const PROFILE: TableKeys = TableKeys {
    table: "an `[oauth2]` profile",
    known: &[
        "grant",
        "issuer",
        "token_url",
        "authorization_url",
        "device_url",
        "revocation_url",
        "redirect_url",
        "sign_in_timeout",
        "client_id",
        "client_secret",
        "client_auth",
        "key",
        "key_password",
        "key_id",
        "algorithm",
        "assertion_audience",
        "username",
        "password",
        "refresh_token",
        "assertion",
        "subject",
        "claims",
        "subject_token",
        "subject_token_type",
        "actor_token",
        "actor_token_type",
        "requested_token_type",
        "scope",
        "audience",
        "resource",
        "params",
        "token_type",
        "for",
    ],
};

/// Keys that take one of these words.
const WORDS: &[(&str, &[&str])] = &[
    (
        "grant",
        &[
            "client_credentials",
            "password",
            "refresh_token",
            "authorization_code",
            "device_code",
            "jwt_bearer",
            "token_exchange",
        ],
    ),
    ("client_auth", &["basic", "body", "private_key_jwt", "tls", "none"]),
    ("token_type", &["bearer", "dpop"]),
];

impl Profile {
    /// This profile with the lines of a private one over it.
    pub(super) fn take(&mut self, private: Profile) {
        self.entries.retain(|entry| !private.entries.iter().any(|own| own.key == entry.key));
        self.entries.splice(..0, private.entries);
        if !private.origins.is_empty() {
            self.origins = private.origins;
        }
    }

    /// The entries of a key; only `resource` has several.
    pub(crate) fn entries_of<'p>(&'p self, key: &'p str) -> impl Iterator<Item = &'p ProfileEntry> {
        self.entries.iter().filter(move |entry| entry.key == key)
    }
}

impl Reader<'_> {
    /// Reads a table `oauth2.NAME`.
    pub(super) fn profile(&mut self, name: &Key<'_>, table: &Table<'_>) -> Profile {
        let (mut entries, mut origins) = (Vec::new(), Vec::new());
        for (key, held) in table {
            if key.get_ref() == "for" {
                origins = self.origins(held).unwrap_or_default();
                continue;
            }
            let Some(known) = PROFILE.known.iter().find(|known| **known == key.get_ref().as_ref()) else {
                self.unknown_key(key, &PROFILE);
                continue;
            };
            match (*known, held.get_ref()) {
                ("params" | "claims", DeValue::Table(own)) => {
                    for (name, held) in own {
                        let key = format!("{known}.{}", name.get_ref());
                        entries.extend(self.entry(key.into(), held));
                    }
                }
                ("params" | "claims", _) => {
                    let example = "for example `{ prompt = \"login\" }`";
                    self.error(held.span().into(), format!("`{known}` must be a table of strings"), example);
                }
                ("resource", DeValue::Array(list)) => entries.extend(self.entries(known, list)),
                _ => entries.extend(self.entry(Cow::Borrowed(known), held)),
            }
        }
        Profile { name: name.get_ref().to_string(), source: self.source, span: key_span(name), entries, origins }
    }

    fn entries(&mut self, known: &'static str, list: &DeArray<'_>) -> Vec<ProfileEntry> {
        list.iter().filter_map(|held| self.entry(Cow::Borrowed(known), held)).collect()
    }

    /// A text in which placeholders are allowed.
    pub(super) fn entry(&mut self, known: Cow<'static, str>, held: &Spanned<DeValue<'_>>) -> Option<ProfileEntry> {
        let whole: Span = held.span().into();
        let DeValue::String(text) = held.get_ref() else {
            self.error(whole, format!("`{known}` must be a string"), "put it in quotes");
            return None;
        };
        let span = whole.part(1.min(whole.len()), whole.len().saturating_sub(1));
        // Placeholders are read from the source, so the text must be there without escapes.
        if span.of(self.text) != text.as_ref() {
            let hint = "write it on one line in single quotes, without `\\`";
            self.error(whole, format!("`{known}` must be a plain string"), hint);
            return None;
        }
        if let Some((_, allowed)) = WORDS.iter().find(|(key, _)| *key == known)
            && !allowed.contains(&text.as_ref())
        {
            let hint = format!("available: {}", yieldtray_source::join_words(*allowed));
            self.error(whole, format!("`{known}` cannot be `{text}`"), &hint);
            return None;
        }
        let (private, source) = (self.private, self.source);
        Some(ProfileEntry { key: known, private, source, span, text: text.to_string() })
    }
}
