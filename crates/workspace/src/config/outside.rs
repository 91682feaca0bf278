//! The settings by which a configuration reaches outside its workspace. The user allows them before they are used.

use super::send_settings::{SendSettings, Setting};
use crate::config::value_source::ValueSource;
use crate::config::{Config, ProfileEntry, is_listed};
use std::path::Path;
use yieldtray_source::files::normalize;
use yieldtray_source::{SourceId, Span};

/// A line of a configuration that reaches outside the workspace.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OutsideSetting {
    /// Its kind.
    pub kind: OutsideKind,
    /// The configuration it is in.
    pub source: SourceId,
    /// Its place.
    pub span: Span,
    /// True if it is in the private configuration.
    pub private: bool,
    /// A description of what it names: a command, a path, variables.
    pub names: String,
}

/// The ways to reach outside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OutsideKind {
    /// Runs a program.
    Command,
    /// Reads a file.
    File,
    /// Reads variables of the process.
    Variables,
    /// Connects to a Unix socket.
    Socket,
    /// Uses certificates or a key.
    Certificate,
    /// Opens a page in the browser.
    Browser,
    /// Reads a secret of the keyring.
    Keyring,
    /// Decrypts values with the user's identity.
    Identity,
}

impl OutsideKind {
    /// The words for it that go before the name.
    pub fn describe(self) -> &'static str {
        match self {
            Self::Command => "runs the command",
            Self::File => "reads the file",
            Self::Variables => "reads the environment variables",
            Self::Socket => "connects to the Unix socket",
            Self::Certificate => "uses the certificates or key in",
            Self::Keyring => "reads the keyring secret",
            Self::Identity => "decrypts with your identity the values in",
            Self::Browser => "opens a sign-in page in the browser:",
        }
    }
}

/// Whether a path of a configuration leads outside the workspace as it is written; `~` is the user's home.
pub(crate) fn leads_outside(path: &str) -> bool {
    path.starts_with('~') || normalize(Path::new(path)).is_none()
}

impl Config {
    /// Whether the private configuration lets the workspace read a variable of the process: it lists its name, or
    /// takes a value from it.
    pub fn lets_read(&self, variable: &str) -> bool {
        is_listed(variable, &self.env.allow)
            || self.all_entries().any(|entry| {
                entry.private && matches!(&entry.source_kind, ValueSource::Variable(name) if name == variable)
            })
    }

    /// Every setting that reaches outside, in an order that does not depend on the environment.
    pub fn outside_settings(&self) -> Vec<OutsideSetting> {
        let mut found = Vec::new();
        for entry in self.environments.iter().flat_map(|environment| &environment.values).chain(&self.values) {
            let (kind, names) = match &entry.source_kind {
                ValueSource::Command(command) => (OutsideKind::Command, command.join(" ")),
                ValueSource::File(path) if leads_outside(path) => (OutsideKind::File, path.clone()),
                ValueSource::Keyring(name) => (OutsideKind::Keyring, name.clone()),
                ValueSource::Sealed(path) => (OutsideKind::Identity, path.clone()),
                // Only the private configuration may name variables of the process.
                ValueSource::Variable(name) if entry.private => (OutsideKind::Variables, name.clone()),
                _ => continue,
            };
            let (source, span, private) = (entry.source, entry.span, entry.private);
            found.push(OutsideSetting { kind, source, span, private, names });
        }
        if let Some((source, span)) = self.env.place.filter(|_| !self.env.allow.is_empty()) {
            let names = self.env.allow.join(", ");
            found.push(OutsideSetting { kind: OutsideKind::Variables, source, span, private: true, names });
        }
        let all = self.environments.iter().map(|environment| &environment.send).chain([&self.send]);
        for setting in all.flat_map(of_sending) {
            // Environments repeat what `[send]` says.
            if !found.contains(&setting) {
                found.push(setting);
            }
        }
        found.extend(self.of_profiles());
        found
    }

    /// The keys of profiles, and the pages that they open.
    fn of_profiles(&self) -> impl Iterator<Item = OutsideSetting> + '_ {
        let keys = self.profiles.iter().flat_map(|profile| profile.entries_of("key"));
        let keys = keys.chain(self.signing.iter().filter_map(|profile| profile.entry("key")));
        // A path with a placeholder may lead anywhere.
        let keys = keys.filter(|entry| leads_outside(&entry.text) || entry.text.contains("{{"));
        let browsing = self.profiles.iter().filter(|profile| {
            profile.entries_of("grant").next().is_some_and(|grant| grant.text == "authorization_code")
        });
        let pages = browsing.filter_map(|profile| {
            profile.entries_of("authorization_url").next().or_else(|| profile.entries_of("issuer").next())
        });
        let setting = |kind, entry: &ProfileEntry| OutsideSetting {
            kind,
            source: entry.source,
            span: entry.span,
            private: entry.private,
            names: entry.text.clone(),
        };
        let keys = keys.map(move |entry| setting(OutsideKind::Certificate, entry));
        keys.chain(pages.map(move |entry| setting(OutsideKind::Browser, entry)))
    }
}

fn of_sending(send: &SendSettings) -> Vec<OutsideSetting> {
    let setting = |kind, setting: &Setting<String>| OutsideSetting {
        kind,
        source: setting.source,
        span: setting.span,
        private: setting.private,
        names: setting.value.clone(),
    };
    let files = [&send.ca, &send.certificate, &send.key].into_iter().flatten();
    let files = files.filter(|file| leads_outside(&file.value)).map(|file| setting(OutsideKind::Certificate, file));
    // A socket is never a file of a repository: what it leads to is elsewhere.
    let socket = send.socket.iter().map(|socket| setting(OutsideKind::Socket, socket));
    files.chain(socket).collect()
}
