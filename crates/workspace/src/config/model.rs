//! The model of `yieldtray.toml` and `yieldtray.local.toml`. The private one has the same form and wins key by key, so
//! both become one [`Config`] in which each entry knows its place.

use super::api_settings::{ApiSettings, merged};
use super::env_settings::EnvSettings;
use super::lint_settings::LintSettings;
use super::log_settings::LogSettings;
use super::profile::Profile;
use super::send_settings::SendSettings;
use super::signing::SigningProfile;
use crate::config::value_source::{ExternalSources, ValueEntry};
use std::borrow::Cow;
use yieldtray_expression::{UserFunction, Value};
use yieldtray_source::access::CONFIG_FILE;
use yieldtray_source::{Code, Problem, SourceId, Span, closest, join_words};

/// The directory of saved bodies where none is configured.
const SAVED: &str = "saved";

/// Both configurations, merged.
#[derive(Clone, Debug, Default)]
pub struct Config {
    /// The folder of the request files, relative to the root; empty for the root itself.
    pub requests: String,
    /// The environment chosen when nobody says otherwise, and where that is said.
    pub environment: Option<(String, SourceId, Span)>,
    /// Values of every environment, private ones first: the first of a name wins.
    pub values: Vec<ValueEntry>,
    /// The environments, in the order of the file.
    pub environments: Vec<Environment>,
    /// Functions of the workspace's own.
    pub functions: Vec<UserFunction>,
    /// The directory of saved bodies, relative to the root.
    pub saved: Option<String>,
    /// Whether `format` is a rule of a JSON Schema; it is where nothing is said.
    pub schema_formats: Option<bool>,
    /// Which environment variables may be read.
    pub env: EnvSettings,
    /// How requests go out in every environment.
    pub send: SendSettings,
    /// How long exchanges are kept in the log.
    pub log: LogSettings,
    /// Descriptions of the API, in every environment.
    pub apis: Vec<ApiSettings>,
    /// How much findings matter.
    pub lint: LintSettings,
    /// Ways to get tokens (RFC 6749).
    pub profiles: Vec<Profile>,
    /// Ways to sign requests (RFC 9421).
    pub signing: Vec<SigningProfile>,
}

/// A named set of values.
#[derive(Clone, Debug)]
pub struct Environment {
    /// Its name.
    pub name: String,
    /// Where it is described first.
    pub place: (SourceId, Span),
    /// Whether requests that change things are asked about first; `None` where nothing is said.
    pub guard: Option<bool>,
    /// How its name is shown.
    pub tint: Option<EnvironmentColor>,
    /// Its values, private ones first: the first of a name wins.
    pub values: Vec<ValueEntry>,
    /// How requests go out in it.
    pub send: SendSettings,
    /// Descriptions of the API in it.
    pub apis: Vec<ApiSettings>,
}

impl Environment {
    /// An environment of which only the name is known.
    pub(super) fn new(name: &str, place: (SourceId, Span)) -> Self {
        Self {
            name: name.to_owned(),
            place,
            guard: None,
            tint: None,
            values: Vec::new(),
            send: SendSettings::default(),
            apis: Vec::new(),
        }
    }

    /// Whether requests that change things are asked about first.
    pub fn is_guarded(&self) -> bool {
        self.guard == Some(true)
    }
}

macro_rules! tints {
    ($($name:ident = $text:literal,)+) => {
        /// A colour an environment's name is shown in.
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        #[allow(missing_docs)] // the names say it
        pub enum EnvironmentColor { $($name,)+ }

        impl EnvironmentColor {
            /// Every tint, as the configuration writes it.
            pub const WORDS: &'static [&'static str] = &[$($text,)+];

            /// The tint of that word.
            pub fn parse(word: &str) -> Option<Self> {
                match word { $($text => Some(Self::$name),)+ _ => None }
            }

            /// The word of the configuration.
            pub fn as_str(self) -> &'static str {
                match self { $(Self::$name => $text,)+ }
            }
        }
    };
}

tints! {
    Red = "red",
    Yellow = "yellow",
    Green = "green",
    Cyan = "cyan",
    Blue = "blue",
    Magenta = "magenta",
}

impl Config {
    /// The environment of that name.
    pub fn environment(&self, name: &str) -> Option<&Environment> {
        self.environments.iter().find(|environment| environment.name == name)
    }

    /// The entry of that name in the chosen environment, else in every environment.
    pub fn entry(&self, environment: Option<&str>, name: &str) -> Option<&ValueEntry> {
        self.entries_for(environment).find(|entry| entry.name == name)
    }

    /// The entries visible in an environment: its own, then those of every environment.
    pub fn entries_for<'c>(&'c self, environment: Option<&str>) -> impl Iterator<Item = &'c ValueEntry> + use<'c> {
        let environment = environment.and_then(|environment| self.environment(environment));
        environment.into_iter().flat_map(|environment| &environment.values).chain(&self.values)
    }

    /// The entries of all environments, then those of every one.
    pub fn all_entries(&self) -> impl Iterator<Item = &ValueEntry> {
        self.environments.iter().flat_map(|environment| &environment.values).chain(&self.values)
    }

    /// The directory of saved bodies, relative to the root.
    pub fn saved(&self) -> &str {
        self.saved.as_deref().unwrap_or(SAVED)
    }

    /// The profile of that name.
    pub fn profile(&self, name: &str) -> Option<&Profile> {
        self.profiles.iter().find(|profile| profile.name == name)
    }

    /// The way to sign of that name.
    pub fn signing_profile(&self, name: &str) -> Option<&SigningProfile> {
        self.signing.iter().find(|profile| profile.name == name)
    }

    /// How requests go out in the chosen environment.
    pub fn send_settings(&self, environment: Option<&str>) -> &SendSettings {
        environment.and_then(|name| self.environment(name)).map_or(&self.send, |environment| &environment.send)
    }

    /// The descriptions of the API in the chosen environment, those of every one included.
    pub fn apis_for(&self, environment: Option<&str>) -> Vec<ApiSettings> {
        let own = environment.and_then(|name| self.environment(name)).map(|environment| environment.apis.clone());
        merged(own.unwrap_or_default(), &self.apis)
    }

    /// Lets each environment send as `[send]` says where it says nothing itself: once, not for each request.
    pub(crate) fn inherit_send(&mut self) {
        for environment in &mut self.environments {
            environment.send = std::mem::take(&mut environment.send).over(&self.send);
        }
    }

    /// Whether a value of that name is declared secret in any environment: then it is one, wherever it
    /// comes from.
    pub fn is_secret(&self, name: &str) -> bool {
        self.all_entries().any(|entry| entry.secret && entry.name == name)
    }

    /// The secrets that can be known without running anything: those of the chosen environment and of
    /// every one.
    pub fn secrets<'c>(
        &'c self,
        environment: Option<&str>,
        outside: &'c ExternalSources<'_>,
    ) -> impl Iterator<Item = Value> + 'c {
        let known = self.entries_for(environment).filter(|entry| entry.secret && !entry.source_kind.asks_a_program());
        known.filter_map(|entry| entry.value(outside).ok().map(Cow::into_owned))
    }

    /// This configuration with a private one over it.
    #[must_use]
    pub fn overlaid_by(mut self, private: Config) -> Self {
        if !private.requests.is_empty() {
            self.requests = private.requests;
        }
        self.saved = private.saved.or(self.saved);
        self.schema_formats = private.schema_formats.or(self.schema_formats);
        self.env = private.env;
        self.environment = private.environment.or(self.environment);
        self.values.splice(..0, private.values);
        for own in private.environments {
            match self.environments.iter_mut().find(|shared| shared.name == own.name) {
                None => self.environments.push(own),
                Some(shared) => {
                    shared.guard = own.guard.or(shared.guard);
                    shared.tint = own.tint.or(shared.tint);
                    shared.values.splice(..0, own.values);
                    shared.send = own.send.over(&shared.send);
                    shared.apis = merged(own.apis, &shared.apis);
                }
            }
        }
        self.functions.retain(|shared| !private.functions.iter().any(|own| own.name == shared.name));
        self.functions.extend(private.functions);
        self.send = private.send.over(&self.send);
        self.apis = merged(private.apis, &self.apis);
        self.log = private.log.over(self.log);
        self.lint = private.lint.over(self.lint);
        self.signing.retain(|shared| !private.signing.iter().any(|own| own.name == shared.name));
        self.signing.extend(private.signing);
        for own in private.profiles {
            match self.profiles.iter_mut().find(|shared| shared.name == own.name) {
                None => self.profiles.push(own),
                Some(shared) => shared.take(own),
            }
        }
        self
    }
}

/// An environment nobody has described, with what was probably meant.
pub fn unknown_environment(name: &str, span: Span, config: &Config) -> Problem {
    let names: Vec<&str> = config.environments.iter().map(|environment| environment.name.as_str()).collect();
    let problem = Problem::error(Code::UnknownEnvironment, span, format!("no environment `{name}`"));
    if names.is_empty() {
        return problem.with_hint(format!("define it in `{CONFIG_FILE}`: `[environments.{name}.values]`"));
    }
    match closest(name, names.iter().copied()) {
        Some(meant) => problem.did_you_mean(meant),
        None => problem.with_hint(format!("available: {}", join_words(names))),
    }
}
