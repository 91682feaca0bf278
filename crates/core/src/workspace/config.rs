use crate::expression::Value;
use crate::problem::{Code, Problem, SourceId, closest, enumerate};
use crate::syntax::{Span, is_value_name};
use std::borrow::Cow;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// The name of the configuration at a workspace's root.
pub const CONFIG_FILE: &str = "yieldtray.toml";

/// What `yieldtray.toml` says.
#[derive(Clone, Debug, Default)]
pub struct Config {
    /// The folder of the request files, relative to the root; empty for the root itself.
    pub requests: String,
    /// The environment chosen when nobody says otherwise, and where that is said.
    pub environment: Option<(String, Span)>,
    /// Values of every environment.
    pub values: Vec<Entry>,
    /// The environments in the order they stand.
    pub environments: Vec<Environment>,
}

/// A named set of values.
#[derive(Clone, Debug)]
pub struct Environment {
    /// Its name.
    pub name: String,
    /// Its values.
    pub values: Vec<Entry>,
}

/// `NAME = value`
#[derive(Clone, Debug)]
pub struct Entry {
    /// The name.
    pub name: String,
    /// The value.
    pub value: Value,
    /// Where the name stands.
    pub span: Span,
}

impl Config {
    /// The environment of that name.
    pub fn environment(&self, name: &str) -> Option<&Environment> {
        self.environments.iter().find(|environment| environment.name == name)
    }

    /// Reads the configuration's text. What cannot be read is reported and left out.
    pub fn parse(text: &str, source: SourceId) -> (Self, Vec<Problem>) {
        let mut reader = Reader { text, problems: Vec::new() };
        let mut config = Self::default();
        match DeTable::parse(text) {
            Ok(table) => reader.root(table.get_ref(), &mut config),
            Err(error) => {
                let range = error.span().unwrap_or_default();
                let end = range.end.min(text.len()).max(range.start.min(text.len()));
                let span = Span::new(range.start.min(text.len()), end);
                let message = error.message().lines().next().unwrap_or("it cannot be read").to_owned();
                reader.problems.push(
                    Problem::mistake(Code::BadConfiguration, span, format!("this is not TOML: {message}"))
                        .with_hint("see toml.io for how TOML is written"),
                );
            }
        }
        if let Some((name, span)) = &config.environment
            && config.environment(name).is_none()
        {
            reader.problems.push(unknown_environment(name, *span, &config));
        }
        let problems = reader.problems.into_iter().map(|problem| problem.in_source(source)).collect();
        (config, problems)
    }
}

/// An environment nobody has described, with what was probably meant.
pub fn unknown_environment(name: &str, span: Span, config: &Config) -> Problem {
    let names: Vec<&str> = config.environments.iter().map(|environment| environment.name.as_str()).collect();
    let problem = Problem::mistake(Code::UnknownEnvironment, span, format!("no environment `{name}`"));
    if names.is_empty() {
        return problem.with_hint(format!("describe it in `{CONFIG_FILE}`: `[environments.{name}.values]`"));
    }
    match closest(name, names.iter().copied()) {
        Some(meant) => problem.with_hint(format!("did you mean `{meant}`?")),
        None => problem.with_hint(format!("there is {}", enumerate(names))),
    }
}

type Table<'t> = DeTable<'t>;
type Key<'t> = Spanned<Cow<'t, str>>;
type Held<'t> = Spanned<DeValue<'t>>;

/// The keys of a table of ours: those that are carried out, and those of the language that are not yet.
struct Keys {
    table: &'static str,
    known: &'static [&'static str],
    later: &'static [&'static str],
}

const ROOT: Keys = Keys {
    table: "the configuration",
    known: &["workspace", "values", "environments"],
    later: &["send", "oauth2", "functions", "lint"],
};
const WORKSPACE: Keys = Keys { table: "`[workspace]`", known: &["requests", "environment"], later: &[] };
const ENVIRONMENT: Keys = Keys { table: "an environment", known: &["values"], later: &["guard", "tint"] };

struct Reader<'t> {
    text: &'t str,
    problems: Vec<Problem>,
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
                        let values = self.environment(table);
                        config.environments.push(Environment { name: name.get_ref().to_string(), values });
                    }
                }
                ("workspace" | "values" | "environments", None) => {}
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
                            let message = format!("`{folder}` lies outside the workspace");
                            self.mistake(
                                Code::BadConfiguration,
                                span_of(held),
                                message,
                                "name a folder below this file",
                            );
                        }
                    }
                }
                "environment" => {
                    config.environment = self.expect_text(key, held).map(|name| (name, span_of(held)));
                }
                _ => self.unknown_key(key, &WORKSPACE),
            }
        }
    }

    fn environment(&mut self, table: &Table<'_>) -> Vec<Entry> {
        let mut values = Vec::new();
        for (key, held) in table {
            match key.get_ref().as_ref() {
                "values" => {
                    if let Some(table) = self.expect_table(key, held) {
                        values = self.values(table);
                    }
                }
                _ => self.unknown_key(key, &ENVIRONMENT),
            }
        }
        values
    }

    fn values(&mut self, table: &Table<'_>) -> Vec<Entry> {
        let mut entries = Vec::new();
        for (key, held) in table {
            let (name, span) = (key.get_ref().as_ref(), key_span(key));
            if !is_value_name(name) {
                let message = format!("`{name}` cannot name a value");
                self.mistake(
                    Code::BadName,
                    span,
                    message,
                    "use letters, digits and `_`, the first no digit, as in `lot_id`",
                );
            } else if crate::syntax::is_language_name(name) {
                let message = format!("`{name}` is a name of the language, so no value can take it");
                self.mistake(Code::ReservedName, span, message, &format!("choose another name, such as `my_{name}`"));
            } else if let Some(later) = source_of_value(held.get_ref()) {
                let message = format!("a value by `{later}` is not carried out by this version");
                self.mistake(
                    Code::NotCarriedOut,
                    span_of(held),
                    message,
                    "write the value itself, or pass it with `--set`",
                );
            } else {
                entries.push(Entry { name: name.to_owned(), value: self.value(held), span });
            }
        }
        entries
    }

    fn value(&mut self, held: &Held<'_>) -> Value {
        match held.get_ref() {
            DeValue::String(text) => Value::text(text.as_ref()),
            DeValue::Boolean(truth) => Value::from(*truth),
            DeValue::Integer(integer) => {
                let digits = integer.as_str().replace('_', "");
                match i64::from_str_radix(digits.trim_start_matches('+'), integer.radix()) {
                    Ok(integer) => Value::from(integer),
                    Err(_) => {
                        let message = "this integer does not fit 64 bits";
                        self.mistake(Code::BadConfiguration, span_of(held), message, "write it as text, in quotes");
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

    fn expect_table<'h, 't>(&mut self, key: &Key<'t>, held: &'h Held<'t>) -> Option<&'h Table<'t>> {
        if let DeValue::Table(table) = held.get_ref() {
            return Some(table);
        }
        let name = key.get_ref();
        // A key that is not known at all is reported as that.
        if ROOT.known.contains(&name.as_ref()) || !ROOT.later.contains(&name.as_ref()) {
            self.mistake(
                Code::BadConfiguration,
                span_of(held),
                format!("`{name}` must be a table"),
                "see docs/configuration.md",
            );
        }
        None
    }

    fn expect_text(&mut self, key: &Key<'_>, held: &Held<'_>) -> Option<String> {
        if let DeValue::String(text) = held.get_ref() {
            return Some(text.to_string());
        }
        let message = format!("`{}` must be text", key.get_ref());
        self.mistake(Code::BadConfiguration, span_of(held), message, "put it in quotes");
        None
    }

    fn unknown_key(&mut self, key: &Key<'_>, keys: &Keys) {
        let name = key.get_ref().as_ref();
        let span = key_span(key);
        if keys.later.contains(&name) {
            let message = format!("`{name}` is a key that this version does not carry out");
            self.mistake(Code::NotCarriedOut, span, message, &format!("this version knows {}", enumerate(keys.known)));
            return;
        }
        let hint = match closest(name, keys.known.iter().copied()) {
            Some(meant) => format!("did you mean `{meant}`?"),
            None => format!("it knows {}", enumerate(keys.known)),
        };
        self.mistake(Code::UnknownKey, span, format!("{} has no key `{name}`", keys.table), &hint);
    }

    fn mistake(&mut self, code: Code, span: Span, message: impl Into<String>, hint: &str) {
        debug_assert!(span.end() <= self.text.len());
        self.problems.push(Problem::mistake(code, span, message).with_hint(hint));
    }
}

/// The key by which a table describes where a value comes from, instead of being the value.
fn source_of_value(held: &DeValue<'_>) -> Option<&'static str> {
    let DeValue::Table(table) = held else { return None };
    let described = |key: &&str| table.iter().any(|(name, _)| name.get_ref() == key);
    ["from", "command", "secret"].into_iter().find(described)
}

fn key_span(key: &Key<'_>) -> Span {
    Span::new(key.span().start, key.span().end)
}

fn span_of(held: &Held<'_>) -> Span {
    Span::new(held.span().start, held.span().end)
}
