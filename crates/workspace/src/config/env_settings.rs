//! `[env]` of the private configuration: which environment variables the workspace may read.

use crate::config::reader::{Reader, Table, TableKeys, key_span};
use toml::de::DeValue;
use yieldtray_source::access::LOCAL_FILE;
use yieldtray_source::{SourceId, Span};

/// The settings of `[env]`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EnvSettings {
    /// Names of variables, or patterns with `*`.
    pub allow: Vec<String>,
    /// The place of the list.
    pub place: Option<(SourceId, Span)>,
}

const ENV: TableKeys = TableKeys { table: "`[env]`", known: &["allow"] };

impl Reader<'_> {
    /// Reads a table `env`. A shared file must not choose what is read of the process that replays it.
    pub(super) fn env_settings(&mut self, table: &Table<'_>) -> EnvSettings {
        let mut settings = EnvSettings::default();
        for (key, held) in table {
            if key.get_ref() != "allow" {
                self.unknown_key(key, &ENV);
                continue;
            }
            if !self.private {
                let message = "environment variables can be allowed only in the local configuration";
                self.error(key_span(key), message, &format!("move this line to `{LOCAL_FILE}`"));
                continue;
            }
            let names = match held.get_ref() {
                DeValue::Array(members) => members.iter().map(|member| member.get_ref().as_str()).collect(),
                _ => None,
            };
            let names: Option<Vec<&str>> = names;
            let is_name = |name: &&str| !name.is_empty() && !name.contains(|c: char| c.is_whitespace() || c == '=');
            match names.filter(|names| names.iter().all(is_name)) {
                // A pattern that matches everything is not a choice.
                Some(names) if names.iter().any(|name| name.trim_matches('*').is_empty()) => {
                    let hint = "list the variables or a prefix, for example `\"PACKHOUSE_*\"`";
                    self.error(held.span().into(), "`allow` cannot match every variable", hint);
                }
                Some(names) => {
                    settings.allow = names.into_iter().map(str::to_owned).collect();
                    settings.place = Some((self.source, held.span().into()));
                }
                None => {
                    let hint = "for example `allow = [\"PACKHOUSE_*\", \"CI_TOKEN\"]`";
                    self.error(held.span().into(), "`allow` must be a list of variable names", hint);
                }
            }
        }
        settings
    }
}
