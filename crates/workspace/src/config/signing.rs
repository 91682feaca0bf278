//! `[signing.NAME]` of a configuration: how requests are signed (RFC 9421).

use super::profile::ProfileEntry;
use crate::config::reader::{Key, Reader, Table, TableKeys, key_span};
use std::borrow::Cow;
use std::time::Duration;
use toml::de::DeValue;
use yieldtray_credentials::signature::Component;
use yieldtray_source::{SourceId, Span};

/// One way to sign requests.
#[derive(Clone, Debug)]
pub struct SigningProfile {
    /// Its name.
    pub name: String,
    /// The configuration it is in.
    pub source: SourceId,
    /// The span of its name.
    pub span: Span,
    /// The texts, which may hold marks: `key`, `key_password`, `secret`, `key_id`, `algorithm`, `tag`.
    pub entries: Vec<ProfileEntry>,
    /// The label of the signature.
    pub label: String,
    /// What is signed; `None` for the usual.
    pub components: Option<Vec<Component>>,
    /// How long a signature holds.
    pub lifetime: Option<Duration>,
    /// Whether it has a nonce.
    pub nonce: bool,
}

const SIGNING: TableKeys = TableKeys {
    table: "a `[signing]` profile",
    known: &["key", "key_password", "secret", "key_id", "algorithm", "tag", "label", "components", "expires", "nonce"],
};

impl SigningProfile {
    /// The entry of a key.
    pub(crate) fn entry(&self, key: &str) -> Option<&ProfileEntry> {
        self.entries.iter().find(|entry| entry.key == key)
    }
}

impl Reader<'_> {
    /// Reads a table `signing.NAME`.
    pub(super) fn signing_profile(&mut self, name: &Key<'_>, table: &Table<'_>) -> SigningProfile {
        let mut profile = SigningProfile {
            name: name.get_ref().to_string(),
            source: self.source,
            span: key_span(name),
            entries: Vec::new(),
            label: "sig1".to_owned(),
            components: None,
            lifetime: None,
            nonce: false,
        };
        for (key, held) in table {
            let Some(known) = SIGNING.known.iter().find(|known| **known == key.get_ref().as_ref()) else {
                self.unknown_key(key, &SIGNING);
                continue;
            };
            match (*known, held.get_ref()) {
                ("components", DeValue::Array(list)) => {
                    let mut components = Vec::new();
                    for member in list {
                        let name = if let DeValue::String(name) = member.get_ref() { name.as_ref() } else { "" };
                        match Component::parse(name) {
                            Ok(component) => components.push(component),
                            Err(error) => {
                                let hint = "for example `[\"@method\", \"@target-uri\", \"content-digest\"]`";
                                self.error(member.span().into(), error.to_string(), hint);
                            }
                        }
                    }
                    profile.components = Some(components);
                }
                ("components", _) => {
                    let hint = "for example `[\"@method\", \"@target-uri\", \"content-digest\"]`";
                    self.error(held.span().into(), "`components` must be a list of strings".to_owned(), hint);
                }
                ("expires", _) => profile.lifetime = self.expect_duration(key, held),
                ("nonce", _) => profile.nonce = self.expect_bool(key, held).unwrap_or_default(),
                ("label", _) => {
                    let Some(label) = self.expect_text(key, held) else { continue };
                    let starts = label.starts_with(|c: char| c.is_ascii_lowercase() || c == '*');
                    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || "_-.*".contains(c);
                    match starts && label.chars().all(fits) {
                        true => profile.label = label,
                        false => {
                            let message = format!("`{label}` cannot be a label (RFC 8941 3.1.2)");
                            let hint = "use lower-case letters, digits, `_`, `-` and `.`, for example `gate`";
                            self.error(held.span().into(), message, hint);
                        }
                    }
                }
                _ => profile.entries.extend(self.entry(Cow::Borrowed(known), held)),
            }
        }
        let has = |key: &str| profile.entry(key).is_some();
        if has("key") == has("secret") {
            let message = format!("`[signing.{}]` needs either `key` or `secret`", profile.name);
            let hint =
                "`key` names a PEM file, `secret` is a shared secret for HMAC, for example `\"{{gate_secret}}\"`";
            self.error(profile.span, message, hint);
        }
        profile
    }
}
