//! `[api]` of a configuration: where the descriptions of an API come from, and whether responses are validated against
//! them.

use super::send_settings::Setting;
use crate::config::reader::{Key, Reader, Table, TableKeys, TomlValue, key_span};
use std::path::Path;
use toml::de::DeValue;
use yieldtray_source::files::normalize;
use yieldtray_source::names::slug;
use yieldtray_source::{SourceId, Span};

/// The name of the description that `[api]` itself is about.
pub const DEFAULT_API: &str = "api";

/// One description of an API. Texts may have placeholders.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ApiSettings {
    /// Its name: that of `[api.NAME]`, or [`DEFAULT_API`].
    pub name: String,
    /// The configuration that names it first, and where; `None` if none does.
    pub place: Option<(SourceId, Span)>,
    /// Where it comes from; `None` if it is looked for at the server.
    pub origin: Option<Setting<ApiOrigin>>,
    /// The URL that its paths are joined to; without it, the variable `base`.
    pub base: Option<Setting<String>>,
    /// Whether each response is validated against it.
    pub check: Option<bool>,
    /// The paths at which it is looked for.
    pub paths: Option<Vec<String>>,
}

/// Where a description comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ApiOrigin {
    /// A file, relative to the root.
    File(String),
    /// A URL.
    Url(String),
    /// A GraphQL endpoint, which is asked for its schema.
    GraphQl(String),
    /// A request, whose response it is: `requests/api.http#describe`.
    Request(String),
}

impl ApiOrigin {
    /// Its key of the configuration, and its text.
    pub fn describe(&self) -> (&'static str, &str) {
        match self {
            ApiOrigin::File(text) => ("file", text),
            ApiOrigin::Url(text) => ("url", text),
            ApiOrigin::GraphQl(text) => ("graphql", text),
            ApiOrigin::Request(text) => ("request", text),
        }
    }
}

const API: TableKeys =
    TableKeys { table: "`[api]`", known: &["file", "url", "graphql", "request", "base", "check", "paths"] };

impl ApiSettings {
    /// One of which only the name is known.
    pub fn named(name: &str, place: Option<(SourceId, Span)>) -> Self {
        Self { name: name.to_owned(), place, origin: None, base: None, check: None, paths: None }
    }

    /// These, and where they say nothing, what `other` says.
    #[must_use]
    fn over(self, other: &Self) -> Self {
        Self {
            origin: self.origin.or_else(|| other.origin.clone()),
            base: self.base.or_else(|| other.base.clone()),
            check: self.check.or(other.check),
            paths: self.paths.or_else(|| other.paths.clone()),
            ..self
        }
    }
}

/// The descriptions of `own`, each over that of its name in `outer`, then the others of `outer`.
pub(super) fn merged(own: Vec<ApiSettings>, outer: &[ApiSettings]) -> Vec<ApiSettings> {
    let mut all: Vec<ApiSettings> = own
        .into_iter()
        .map(|own| match outer.iter().find(|other| other.name == own.name) {
            Some(other) => own.over(other),
            None => own,
        })
        .collect();
    let others = outer.iter().filter(|other| !all.iter().any(|own| own.name == other.name));
    let others: Vec<ApiSettings> = others.cloned().collect();
    all.extend(others);
    all
}

impl Reader<'_> {
    /// Reads a table `api`: a description without a name, and those with one as tables in it.
    pub(super) fn api_settings(&mut self, key: &Key<'_>, table: &Table<'_>) -> Vec<ApiSettings> {
        let (mut own, mut named) = (Vec::new(), Vec::new());
        for (key, held) in table {
            match held.get_ref() {
                DeValue::Table(table) => named.push((key, table)),
                _ => own.push((key, held)),
            }
        }
        let mut all = Vec::new();
        if !own.is_empty() || named.is_empty() {
            let settings = ApiSettings::named(DEFAULT_API, Some((self.source, key_span(key))));
            all.push(self.api_keys(settings, own.into_iter()));
        }
        for (key, table) in named {
            let name = key.get_ref().as_ref();
            if slug(name) != name || name.is_empty() || API.known.contains(&name) {
                let hint = "use lower-case letters, digits and `-`, for example `[api.stock]`";
                self.error(key_span(key), format!("`{name}` is not a valid name of a description"), hint);
                continue;
            }
            let settings = ApiSettings::named(name, Some((self.source, key_span(key))));
            all.push(self.api_keys(settings, table.iter()));
        }
        all
    }

    fn api_keys<'a, 't: 'a>(
        &mut self,
        mut settings: ApiSettings,
        keys: impl Iterator<Item = (&'a Key<'t>, &'a TomlValue<'t>)>,
    ) -> ApiSettings {
        for (key, held) in keys {
            let word = key.get_ref().as_ref();
            match word {
                "check" => settings.check = self.expect_bool(key, held),
                "paths" => settings.paths = self.api_paths(held),
                "base" => {
                    let value = self.expect_text(key, held);
                    settings.base = value.map(|value| self.api_setting(value, held));
                }
                "file" | "url" | "graphql" | "request" => {
                    let Some(text) = self.expect_text(key, held) else { continue };
                    if word == "file" && (text.starts_with('~') || normalize(Path::new(&text)).is_none()) {
                        let message = format!("`{text}` is outside the workspace");
                        self.error(held.span().into(), message, "use a file below this directory");
                        continue;
                    }
                    if settings.origin.is_some() {
                        let message = format!("`{word}` is a second place for the same description");
                        let hint = "keep one of `file`, `url`, `graphql` and `request`; give another description a name: `[api.NAME]`";
                        self.error(key_span(key), message, hint);
                        continue;
                    }
                    let origin = match word {
                        "file" => ApiOrigin::File(text),
                        "url" => ApiOrigin::Url(text),
                        "graphql" => ApiOrigin::GraphQl(text),
                        _ => ApiOrigin::Request(text),
                    };
                    settings.origin = Some(self.api_setting(origin, held));
                }
                _ => self.unknown_key(key, &API),
            }
        }
        settings
    }

    fn api_setting<T>(&self, value: T, held: &TomlValue<'_>) -> Setting<T> {
        Setting { value, private: self.private, source: self.source, span: held.span().into() }
    }

    fn api_paths(&mut self, held: &TomlValue<'_>) -> Option<Vec<String>> {
        let message = "`paths` must be a list of paths that begin with `/`";
        let hint = "for example `paths = [\"/openapi.json\"]`";
        let DeValue::Array(members) = held.get_ref() else {
            self.error(held.span().into(), message, hint);
            return None;
        };
        let mut paths = Vec::new();
        for member in members {
            match member.get_ref() {
                DeValue::String(path) if path.starts_with('/') => paths.push(path.to_string()),
                _ => self.error(member.span().into(), message, hint),
            }
        }
        Some(paths)
    }
}
