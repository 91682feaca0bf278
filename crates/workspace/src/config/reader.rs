//! Reads parts of a configuration's text, and reports at which key it goes wrong.

use std::borrow::Cow;
use toml::Spanned;
use toml::de::{DeTable, DeValue};
use yieldtray_source::{Code, Problem, SourceId, Span, closest, join_words};

pub(super) type Table<'t> = DeTable<'t>;
pub(super) type Key<'t> = Spanned<Cow<'t, str>>;
pub(super) type TomlValue<'t> = Spanned<DeValue<'t>>;

/// The keys of a table of ours.
pub(super) struct TableKeys {
    pub(super) table: &'static str,
    pub(super) known: &'static [&'static str],
}

pub(super) struct Reader<'t> {
    pub(super) text: &'t str,
    pub(super) source: SourceId,
    pub(super) private: bool,
    problems: Vec<Problem>,
}

impl<'t> Reader<'t> {
    pub(super) fn new(text: &'t str, source: SourceId, private: bool) -> Self {
        Self { text, source, private, problems: Vec::new() }
    }

    /// The problems that were reported.
    pub(super) fn into_problems(self) -> Vec<Problem> {
        let source = self.source;
        self.problems.into_iter().map(|problem| problem.in_source(source)).collect()
    }
}

impl Reader<'_> {
    pub(super) fn expect_table<'h, 't>(&mut self, key: &Key<'t>, held: &'h TomlValue<'t>) -> Option<&'h Table<'t>> {
        if let DeValue::Table(table) = held.get_ref() {
            return Some(table);
        }
        let name = key.get_ref();
        self.error(held.span().into(), format!("`{name}` must be a table"), "see `yieldtray help config`");
        None
    }

    pub(super) fn expect_text(&mut self, key: &Key<'_>, held: &TomlValue<'_>) -> Option<String> {
        if let DeValue::String(text) = held.get_ref() {
            return Some(text.to_string());
        }
        self.error(held.span().into(), format!("`{}` must be a string", key.get_ref()), "put it in quotes");
        None
    }

    pub(super) fn expect_bool(&mut self, key: &Key<'_>, held: &TomlValue<'_>) -> Option<bool> {
        if let DeValue::Boolean(truth) = held.get_ref() {
            return Some(*truth);
        }
        self.error(held.span().into(), format!("`{}` must be true or false", key.get_ref()), "remove the quotes");
        None
    }

    pub(super) fn unknown_key(&mut self, key: &Key<'_>, keys: &TableKeys) {
        let name = key.get_ref().as_ref();
        let span = key_span(key);
        let problem = Problem::error(Code::UnknownKey, span, format!("{} has no key `{name}`", keys.table));
        let problem = match closest(name, keys.known.iter().copied()) {
            Some(meant) => problem.did_you_mean(meant),
            None => problem.with_hint(format!("available: {}", join_words(keys.known))),
        };
        self.problems.push(problem);
    }

    pub(super) fn problem(&mut self, problem: Problem) {
        self.problems.push(problem);
    }

    pub(super) fn error(&mut self, span: Span, message: impl Into<String>, hint: &str) {
        self.problems.push(Problem::error(Code::BadConfiguration, span, message).with_hint(hint));
    }
}

pub(super) fn key_span(key: &Key<'_>) -> Span {
    key.span().into()
}
