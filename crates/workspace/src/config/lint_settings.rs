//! `[lint]` of a configuration: how much each class of finding matters here.

use crate::config::reader::{Reader, Table, key_span};
use std::collections::BTreeMap;
use yieldtray_source::{Code, Problem, Severity, closest};

/// How much findings matter; a class that is not named matters as much as it always does.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LintSettings(BTreeMap<Code, Option<Severity>>);

/// Codes that are reported only if the configuration asks for them.
const OFF: &[Code] = &[Code::NoChecks];

impl LintSettings {
    /// These, and where they say nothing, what `overlaid_by` says.
    #[must_use]
    pub fn over(mut self, overlaid_by: LintSettings) -> Self {
        for (code, level) in overlaid_by.0 {
            self.0.entry(code).or_insert(level);
        }
        self
    }

    /// How much a finding of this class matters, which by itself matters as `level` says; `None` if not at all.
    pub fn level(&self, code: Code, level: Severity) -> Option<Severity> {
        match self.0.get(&code) {
            Some(said) => *said,
            None => (!OFF.contains(&code)).then_some(level),
        }
    }

    /// True if a code is reported.
    pub fn tells(&self, code: Code) -> bool {
        self.level(code, Severity::Warning).is_some()
    }
}

const LEVELS: &[&str] = &["off", "info", "warning", "error"];

impl Reader<'_> {
    /// Reads a table `lint`.
    pub(super) fn lint_settings(&mut self, table: &Table<'_>) -> LintSettings {
        let mut settings = LintSettings::default();
        for (key, held) in table {
            let name = key.get_ref().as_ref();
            let Some(code) = Code::named(name) else {
                let problem =
                    Problem::error(Code::UnknownKey, key_span(key), format!("unknown diagnostic code `{name}`"));
                let meant = closest(name, Code::ALL.iter().map(|code| code.as_str()));
                self.problem(match meant {
                    Some(meant) => problem.did_you_mean(meant),
                    None => problem.with_hint("see `yieldtray help diagnostics` for the codes"),
                });
                continue;
            };
            let Some(word) = self.expect_text(key, held) else { continue };
            let level = match word.as_str() {
                "off" => None,
                "info" => Some(Severity::Info),
                // The last of each are the names before version 0.2.
                "warning" | "warn" | "remark" => Some(Severity::Warning),
                "error" | "mistake" => Some(Severity::Error),
                _ => {
                    let message = format!("unknown level `{word}`");
                    self.error(
                        held.span().into(),
                        message,
                        &format!("available: {}", yieldtray_source::join_words(LEVELS)),
                    );
                    continue;
                }
            };
            settings.0.insert(code, level);
        }
        settings
    }
}
