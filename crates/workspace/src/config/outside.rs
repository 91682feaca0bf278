//! The settings by which a configuration reaches outside its workspace. The user allows them before they are used.

use super::send_settings::{SendSettings, Setting};
use crate::config::value_source::ValueSource;
use crate::config::{Config, is_listed};
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
        found
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
