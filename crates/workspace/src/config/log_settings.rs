//! `[log]` of a configuration: whether exchanges are kept, how many and how long.

use crate::config::reader::{Reader, Table, TableKeys};
use toml::de::DeValue;

/// The settings of `[log]`; `None` for those that are not set.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct LogSettings {
    /// Whether anything is logged.
    pub on: Option<bool>,
    /// How many exchanges are kept at most.
    pub exchanges: Option<u32>,
    /// For how many days each is kept.
    pub days: Option<u32>,
}

/// The exchanges that are kept by default.
const DEFAULT_EXCHANGES: u32 = 10_000;

/// The days that an exchange is kept by default.
const DEFAULT_DAYS: u32 = 30;

const LOG: TableKeys = TableKeys { table: "`[log]`", known: &["on", "exchanges", "days"] };

impl LogSettings {
    /// These, and where they say nothing, what `overlaid_by` says.
    #[must_use]
    pub fn over(self, overlaid_by: LogSettings) -> Self {
        Self {
            on: self.on.or(overlaid_by.on),
            exchanges: self.exchanges.or(overlaid_by.exchanges),
            days: self.days.or(overlaid_by.days),
        }
    }

    /// Whether anything is logged.
    pub fn is_on(self) -> bool {
        self.on != Some(false)
    }

    /// How many exchanges are kept at most.
    pub fn exchanges(self) -> u32 {
        self.exchanges.unwrap_or(DEFAULT_EXCHANGES)
    }

    /// For how many days each is kept.
    pub fn days(self) -> u32 {
        self.days.unwrap_or(DEFAULT_DAYS)
    }
}

impl Reader<'_> {
    /// Reads a table `log`.
    pub(super) fn log_settings(&mut self, table: &Table<'_>) -> LogSettings {
        let mut settings = LogSettings::default();
        for (key, held) in table {
            let mut number = |most: u32, what: &str| {
                let number = match held.get_ref() {
                    DeValue::Integer(integer) if integer.radix() == 10 => {
                        integer.as_str().replace('_', "").parse().ok().filter(|number| (1..=most).contains(number))
                    }
                    _ => None,
                };
                if number.is_none() {
                    let message = format!("`{}` must be a number from 1 to {most}", key.get_ref());
                    self.error(
                        held.span().into(),
                        message,
                        &format!("set {what}; use `on = false` to disable the log"),
                    );
                }
                number
            };
            match key.get_ref().as_ref() {
                "exchanges" => settings.exchanges = number(10_000_000, "the maximum number of exchanges"),
                "days" => settings.days = number(36_500, "the maximum age in days"),
                "on" => settings.on = self.expect_bool(key, held),
                _ => self.unknown_key(key, &LOG),
            }
        }
        settings
    }
}
