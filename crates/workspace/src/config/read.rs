//! A configuration's text to a configuration.

use super::model::{Config, Environment, EnvironmentColor};
use super::reader::{Key, Reader, Table, TableKeys, TomlValue, key_span};
use super::value_source::{Described, ValueEntry, ValueSource};
use crate::secret::short_secret;
use std::path::Path;
use toml::de::{DeTable, DeValue};
use yieldtray_expression::{UserFunction, Value};
use yieldtray_http::parse_origin;
use yieldtray_source::names::is_value_name;
use yieldtray_source::{Code, Problem, SourceId, Span, closest, join_words};
use yieldtray_syntax::is_language_name;

const ROOT: TableKeys = TableKeys {
    table: "the configuration",
    known: &[
        "workspace",
        "values",
        "environments",
        "functions",
        "send",
        "log",
        "lint",
        "oauth2",
        "signing",
        "env",
        "api",
    ],
};
const WORKSPACE: TableKeys =
    TableKeys { table: "`[workspace]`", known: &["requests", "environment", "saved", "schema_formats"] };
const ENVIRONMENT: TableKeys =
    TableKeys { table: "an environment", known: &["values", "guard", "tint", "send", "api"] };
const SOURCE: TableKeys =
    TableKeys { table: "a value's description", known: &["value", "from", "command", "secret", "for"] };
const FUNCTION: TableKeys = TableKeys { table: "a function", known: &["params", "is", "help"] };

impl Config {
    /// Reads one configuration's text. What cannot be read is reported and left out. Only a `private` one may take values
    /// from commands.
    pub fn parse(text: &str, source: SourceId, private: bool) -> (Self, Vec<Problem>) {
        let mut reader = Reader::new(text, source, private);
        let mut config = Config::default();
        match DeTable::parse(text) {
            Ok(table) => reader.root(table.get_ref(), &mut config),
            Err(error) => {
                let range = error.span().unwrap_or_default();
                let end = range.end.min(text.len()).max(range.start.min(text.len()));
                let span = Span::new(range.start.min(text.len()), end);
                let message = error.message().lines().next().unwrap_or("cannot be read").to_owned();
                reader.problem(
                    Problem::error(Code::BadConfiguration, span, format!("invalid TOML: {message}"))
                        .with_hint("see toml.io for the syntax"),
                );
            }
        }
        (config, reader.into_problems())
    }
}

impl Reader<'_> {
    fn root(&mut self, table: &Table<'_>, config: &mut Config) {
        for (key, held) in table {
            match (key.get_ref().as_ref(), self.expect_table(key, held)) {
                ("workspace", Some(table)) => self.workspace(table, config),
                ("values", Some(table)) => config.values = self.values(table),
                ("environments", Some(table)) => {
                    for (name, held) in table {
                        let Some(table) = self.expect_table(name, held) else { continue };
                        let mut environment = Environment::new(name.get_ref(), (self.source, key_span(name)));
                        self.environment(table, &mut environment);
                        config.environments.push(environment);
                    }
                }
                ("functions", Some(table)) => {
                    config.functions = table.iter().filter_map(|(name, held)| self.function(name, held)).collect();
                }
                ("api", Some(table)) => config.apis = self.api_settings(key, table),
                ("send", Some(table)) => config.send = self.send_settings(table),
                ("log", Some(table)) => config.log = self.log_settings(table),
                ("lint", Some(table)) => config.lint = self.lint_settings(table),
                ("env", Some(table)) => config.env = self.env_settings(table),
                ("signing", Some(table)) => {
                    for (name, held) in table {
                        let Some(table) = self.expect_table(name, held) else { continue };
                        let profile = self.signing_profile(name, table);
                        config.signing.push(profile);
                    }
                }
                ("oauth2", Some(table)) => {
                    for (name, held) in table {
                        let Some(table) = self.expect_table(name, held) else { continue };
                        let profile = self.profile(name, table);
                        config.profiles.push(profile);
                    }
                }
                (known, None) if ROOT.known.contains(&known) => {}
                _ => self.unknown_key(key, &ROOT),
            }
        }
    }

    fn workspace(&mut self, table: &Table<'_>, config: &mut Config) {
        for (key, held) in table {
            match key.get_ref().as_ref() {
                "requests" => {
                    if let Some(folder) = self.expect_text(key, held) {
                        let inside =
                            !folder.starts_with(['/', '\\']) && folder.split(['/', '\\']).all(|part| part != "..");
                        if inside {
                            config.requests = folder.trim_end_matches('/').trim_start_matches("./").to_owned();
                        } else {
                            let message = format!("`{folder}` is outside the workspace");
                            self.error(held.span().into(), message, "use a directory below this file");
                        }
                    }
                }
                "saved" => {
                    if let Some(folder) = self.expect_text(key, held) {
                        match saved_folder(&folder) {
                            Some(folder) => config.saved = Some(folder),
                            None => {
                                let message = format!("`{folder}` cannot be used for saved bodies");
                                let hint =
                                    "use a directory below this file that is not hidden, for example `\"saved\"`";
                                self.error(held.span().into(), message, hint);
                            }
                        }
                    }
                }
                "schema_formats" => config.schema_formats = self.expect_bool(key, held),
                "environment" => {
                    let name = self.expect_text(key, held);
                    config.environment = name.map(|name| (name, self.source, held.span().into()));
                }
                _ => self.unknown_key(key, &WORKSPACE),
            }
        }
    }

    fn environment(&mut self, table: &Table<'_>, environment: &mut Environment) {
        for (key, held) in table {
            match key.get_ref().as_ref() {
                "values" => {
                    if let Some(table) = self.expect_table(key, held) {
                        environment.values = self.values(table);
                    }
                }
                "guard" => environment.guard = self.expect_bool(key, held),
                "api" => {
                    if let Some(table) = self.expect_table(key, held) {
                        environment.apis = self.api_settings(key, table);
                    }
                }
                "send" => {
                    if let Some(table) = self.expect_table(key, held) {
                        environment.send = self.send_settings(table);
                    }
                }
                "tint" => {
                    let Some(word) = self.expect_text(key, held) else { continue };
                    environment.tint = EnvironmentColor::parse(&word);
                    if environment.tint.is_none() {
                        let hint = match closest(&word, EnvironmentColor::WORDS.iter().copied()) {
                            Some(meant) => format!("did you mean `{meant}`?"),
                            None => format!("available: {}", join_words(EnvironmentColor::WORDS)),
                        };
                        self.error(held.span().into(), format!("unknown color `{word}`"), &hint);
                    }
                }
                _ => self.unknown_key(key, &ENVIRONMENT),
            }
        }
    }

    fn values(&mut self, table: &Table<'_>) -> Vec<ValueEntry> {
        let mut entries = Vec::new();
        for (key, held) in table {
            let (name, span) = (key.get_ref().as_ref(), key_span(key));
            if !is_value_name(name) {
                let message = format!("`{name}` is not a valid variable name");
                let hint = "use letters, digits and `_`, not starting with a digit, for example `lot_id`";
                self.problem(Problem::error(Code::BadName, span, message).with_hint(hint));
            } else if is_language_name(name) {
                let message = format!("`{name}` is reserved and cannot be a variable name");
                let hint = format!("use another name, for example `my_{name}`");
                self.problem(Problem::error(Code::ReservedName, span, message).with_hint(hint));
            } else if let Some(described) = self.given(held) {
                if let Described { given: ValueSource::Value(value), secret: true, .. } = &described {
                    let short = value.as_text().and_then(|text| short_secret(name, text, span));
                    short.into_iter().for_each(|problem| self.problem(problem));
                }
                entries.push(ValueEntry::new(name, described, self.private, self.source, span));
            }
        }
        entries
    }

    /// How a value is given, whether it is secret, and where it may be sent.
    fn given(&mut self, held: &TomlValue<'_>) -> Option<Described> {
        let plain = |value| Described { given: ValueSource::Value(value), secret: false, origins: Vec::new() };
        let DeValue::Table(table) = held.get_ref() else { return Some(plain(self.value(held))) };
        // A table with none of these keys is a map: the value itself.
        if !table.iter().any(|(key, _)| SOURCE.known.contains(&key.get_ref().as_ref())) {
            return Some(plain(self.value(held)));
        }
        let (mut ways, mut secret, mut origins, mut listed) = (Vec::new(), None, Vec::new(), None);
        for (key, held) in table {
            match key.get_ref().as_ref() {
                "value" => ways.push(ValueSource::Value(self.value(held))),
                "secret" => secret = Some(self.expect_bool(key, held)?),
                "for" => {
                    origins = self.origins(held)?;
                    listed = Some(key_span(key));
                }
                "from" => ways.push(self.from(key, held)?),
                "command" => ways.push(self.command(key, held)?),
                _ => {
                    self.unknown_key(key, &SOURCE);
                    return None;
                }
            }
        }
        let one = ways.pop();
        if one.is_none() || !ways.is_empty() {
            let message = match one {
                None => "this variable has no source",
                Some(_) => "this variable has two sources",
            };
            self.error(held.span().into(), message, "use one of `value`, `from` and `command`");
            return None;
        }
        one.map(|given| {
            // A variable of the process is nobody's business unless the configuration says otherwise.
            let secret = secret.unwrap_or(given.is_secret());
            if let Some(span) = listed.filter(|_| !secret) {
                self.error(span, "`for` applies only to secrets", "add `secret = true`");
            }
            Described { given, secret, origins }
        })
    }

    /// The origins of `for`.
    pub(super) fn origins(&mut self, held: &TomlValue<'_>) -> Option<Vec<String>> {
        let hint = "for example `for = [\"https://scale.example\"]`";
        let DeValue::Array(members) = held.get_ref() else {
            self.error(held.span().into(), "`for` must be a list of origins", hint);
            return None;
        };
        let mut origins = Vec::new();
        for member in members {
            let origin = match member.get_ref() {
                DeValue::String(text) => parse_origin(text),
                _ => None,
            };
            match origin {
                Some(origin) => origins.push(origin),
                None => {
                    self.error(
                        member.span().into(),
                        "this is not an origin: scheme, host and port, without a path",
                        hint,
                    );
                    return None;
                }
            }
        }
        if origins.is_empty() {
            self.error(held.span().into(), "`for` is empty", hint);
            return None;
        }
        Some(origins)
    }

    fn from(&mut self, key: &Key<'_>, held: &TomlValue<'_>) -> Option<ValueSource> {
        let text = self.expect_text(key, held)?;
        match text.split_once(':') {
            Some(("env", name)) if !name.is_empty() => Some(ValueSource::Variable(name.to_owned())),
            Some(("file", path)) if !path.is_empty() => Some(ValueSource::File(path.to_owned())),
            Some(("keyring", name)) if !name.is_empty() => Some(ValueSource::Keyring(name.to_owned())),
            Some(("sealed", path)) if !path.is_empty() => Some(ValueSource::Sealed(path.to_owned())),
            _ => {
                // The text is not repeated: it may be the secret itself.
                let message = "unknown source";
                self.error(held.span().into(), message, "use `env:NAME`, `file:PATH`, `keyring:NAME` or `sealed:PATH`");
                None
            }
        }
    }

    /// Only the private configuration may name programs: a repository one cloned must not run any.
    fn command(&mut self, key: &Key<'_>, held: &TomlValue<'_>) -> Option<ValueSource> {
        if !self.private {
            let hint = format!("move this line to `{}`, which is not committed", yieldtray_source::access::LOCAL_FILE);
            self.error(key_span(key), "commands are allowed only in the local configuration", &hint);
            return None;
        }
        let command = match held.get_ref() {
            DeValue::Array(members) => members
                .iter()
                .map(|member| match member.get_ref() {
                    DeValue::String(word) => Some(word.to_string()),
                    _ => None,
                })
                .collect::<Option<Vec<_>>>()
                .filter(|command| !command.is_empty()),
            _ => None,
        };
        if command.is_none() {
            let hint = "for example `[\"pass\", \"show\", \"packhouse\"]`";
            self.error(held.span().into(), "a command must be a list of strings", hint);
        }
        command.map(ValueSource::Command)
    }

    fn function(&mut self, name: &Key<'_>, held: &TomlValue<'_>) -> Option<UserFunction> {
        let span = key_span(name);
        let DeValue::Table(table) = held.get_ref() else {
            let hint = format!("for example `{} = {{ params = [\"lot\"], is = \"'PH-' + lot\" }}`", name.get_ref());
            self.error(held.span().into(), "a function must be a table with `params` and `is`", &hint);
            return None;
        };
        let (mut params, mut is, mut help) = (Vec::new(), None, None);
        for (key, held) in table {
            match key.get_ref().as_ref() {
                "params" => params = self.params(held)?,
                "is" => is = self.expect_text(key, held).map(|text| (text, Span::from(held.span()))),
                "help" => help = self.expect_text(key, held),
                _ => self.unknown_key(key, &FUNCTION),
            }
        }
        if !is_value_name(name.get_ref()) || is_language_name(name.get_ref()) {
            let message = format!("`{}` is not a valid function name", name.get_ref());
            let hint = "use letters, digits and `_`, and no reserved name";
            self.problem(Problem::error(Code::BadName, span, message).with_hint(hint));
            return None;
        }
        let Some((is, body)) = is else {
            self.error(span, format!("`{}` is missing its expression, `is`", name.get_ref()), "add `is = \"…\"`");
            return None;
        };
        Some(UserFunction { name: name.get_ref().to_string(), params, is, help, source: self.source, span, body })
    }

    fn params(&mut self, held: &TomlValue<'_>) -> Option<Vec<String>> {
        let DeValue::Array(members) = held.get_ref() else {
            self.error(held.span().into(), "`params` must be a list of names", "write `params = [\"lot\", \"row\"]`");
            return None;
        };
        let mut names: Vec<String> = Vec::new();
        for member in members {
            let word = match member.get_ref() {
                // Inside the function its parameters hide every other name, the language's too.
                DeValue::String(word) if is_value_name(word) && !is_constant(word) => word.to_string(),
                _ => {
                    let hint = "use letters, digits and `_`, not starting with a digit";
                    self.error(member.span().into(), "this is not a valid parameter name", hint);
                    return None;
                }
            };
            if names.contains(&word) {
                self.error(member.span().into(), format!("duplicate parameter `{word}`"), "rename one");
                return None;
            }
            names.push(word);
        }
        Some(names)
    }

    fn value(&mut self, held: &TomlValue<'_>) -> Value {
        match held.get_ref() {
            DeValue::String(text) => Value::text(text.as_ref()),
            DeValue::Boolean(truth) => Value::from(*truth),
            DeValue::Integer(integer) => {
                let digits = integer.as_str().replace('_', "");
                match i64::from_str_radix(digits.trim_start_matches('+'), integer.radix()) {
                    Ok(integer) => Value::from(integer),
                    Err(_) => {
                        let message = "this integer does not fit in 64 bits";
                        self.error(held.span().into(), message, "write it as a string, in quotes");
                        Value::null()
                    }
                }
            }
            DeValue::Float(double) => Value::from(double.as_str().replace('_', "").parse().unwrap_or(f64::NAN)),
            DeValue::Datetime(time) => Value::text(time.to_string()),
            DeValue::Array(members) => {
                let members: Vec<Value> = members.iter().map(|member| self.value(member)).collect();
                Value::list(members)
            }
            DeValue::Table(table) => {
                let entries: Vec<(String, Value)> =
                    table.iter().map(|(key, held)| (key.get_ref().to_string(), self.value(held))).collect();
                Value::map(entries)
            }
        }
    }
}

/// A directory below the root, cleaned; `None` for the root itself, one outside it, or a hidden one.
fn saved_folder(text: &str) -> Option<String> {
    let folder = yieldtray_source::files::normalize(Path::new(text))?;
    let hidden = yieldtray_source::access::check_writable(&folder.join("file")).is_err();
    (!hidden && folder.components().next().is_some()).then(|| folder.to_string_lossy().replace('\\', "/"))
}

/// True for words that are constants in expressions.
fn is_constant(word: &str) -> bool {
    matches!(word, "true" | "false" | "null" | "in")
}
