//! `[oauth2.NAME]` of a configuration: how a token is got (RFC 6749).

use crate::config::reader::{Key, Reader, Table, TableKeys, key_span};
use toml::de::DeValue;
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
    /// Its key.
    pub key: &'static str,
    /// True if it is in the private configuration.
    pub private: bool,
    /// The configuration it is in.
    pub source: SourceId,
    /// The span of its text, without the quotes.
    pub span: Span,
}

impl ProfileEntry {
    /// Whether its text is a secret.
    pub fn is_secret(&self) -> bool {
        matches!(self.key, "client_secret" | "password" | "refresh_token")
    }
}

const PROFILE: TableKeys = TableKeys {
    table: "an `[oauth2]` profile",
    known: &[
        "token_url",
        "grant",
        "client_id",
        "client_secret",
        "client_auth",
        "username",
        "password",
        "refresh_token",
        "scope",
        "for",
    ],
};

/// Keys that take one of these words.
const WORDS: &[(&str, &[&str])] =
    &[("grant", &["client_credentials", "password", "refresh_token"]), ("client_auth", &["basic", "body"])];

impl Profile {
    /// This profile with the lines of a private one over it.
    pub(super) fn take(&mut self, private: Profile) {
        self.entries.retain(|entry| !private.entries.iter().any(|own| own.key == entry.key));
        self.entries.splice(..0, private.entries);
        if !private.origins.is_empty() {
            self.origins = private.origins;
        }
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
            let whole: Span = held.span().into();
            let DeValue::String(text) = held.get_ref() else {
                self.error(whole, format!("`{known}` must be a string"), "put it in quotes");
                continue;
            };
            let span = whole.part(1.min(whole.len()), whole.len().saturating_sub(1));
            // Placeholders are read from the source, so the text must be there without escapes.
            if span.of(self.text) != text.as_ref() {
                let hint = "write it on one line in single quotes, without `\\`";
                self.error(whole, format!("`{known}` must be a plain string"), hint);
                continue;
            }
            if let Some((_, allowed)) = WORDS.iter().find(|(key, _)| key == known)
                && !allowed.contains(&text.as_ref())
            {
                let hint = format!("available: {}", yieldtray_source::join_words(*allowed));
                self.error(whole, format!("`{known}` cannot be `{text}`"), &hint);
                continue;
            }
            entries.push(ProfileEntry { key: known, private: self.private, source: self.source, span });
        }
        Profile { name: name.get_ref().to_string(), source: self.source, span: key_span(name), entries, origins }
    }
}
