//! JSON reports, read back.

use super::entry::Entry;
use chrono::{DateTime, Utc};
use rustc_hash::FxHashMap;
use serde::{Deserialize, Serialize};
use std::fmt;
use yieldtray_engine::{Outcome, Summary};

/// The version of the JSON report. It changes when a field changes its meaning, not when one is added.
pub(super) const VERSION: u32 = 2;

/// The data of a report about the whole run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunInfo {
    /// The program that wrote it.
    pub tool: String,
    /// When the run started.
    #[serde(with = "rfc3339")]
    #[serde(alias = "began")]
    pub started: DateTime<Utc>,
    /// How long it took, in milliseconds.
    pub elapsed_ms: f64,
    /// The chosen environment.
    pub environment: Option<String>,
    /// The base URL of the requests.
    pub base: Option<String>,
    /// The seed of generated values, if there were any.
    pub seed: Option<u64>,
    /// Which shard of the run it is, as in `2/4`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shard: Option<String>,
    /// How many reports were merged into this one.
    #[serde(alias = "joined")]
    pub merged: Option<usize>,
    /// The figures.
    pub totals: Summary,
}

impl RunInfo {
    /// A run that starts now, of which nothing is known yet.
    pub fn new(started: DateTime<Utc>, environment: Option<String>, base: Option<String>) -> Self {
        Self {
            tool: concat!("yieldtray ", env!("CARGO_PKG_VERSION")).to_owned(),
            started,
            elapsed_ms: 0.0,
            environment,
            base,
            seed: None,
            shard: None,
            merged: None,
            totals: Summary::default(),
        }
    }
}

/// A report that was read again.
#[derive(Clone, Debug)]
pub struct LoadedReport {
    /// The data about the run.
    pub about: RunInfo,
    /// Its entries in order.
    pub entries: Vec<Entry<'static>>,
}

/// Why a text is not a report.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReadError {
    /// The message.
    pub message: String,
    /// Where, line and column from 1, if it is a matter of a place.
    pub place: Option<(usize, usize)>,
    /// How to correct it.
    pub hint: &'static str,
}

impl fmt::Display for ReadError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl LoadedReport {
    /// Reads a JSON report.
    pub fn read(text: &[u8]) -> Result<Self, ReadError> {
        const HINT: &str = "pass files written by `replay --report json=FILE`";
        let wrong = |message: String| ReadError { message, place: None, hint: HINT };
        let at = |error: &serde_json::Error| {
            let texts = error.to_string();
            let message = texts.split(" at line ").next().unwrap_or_default().to_owned();
            ReadError { message, place: Some((error.line(), error.column())), hint: HINT }
        };
        let head: Head = serde_json::from_slice(text).map_err(|error| match error.classify() {
            serde_json::error::Category::Data => wrong("this is JSON, but not a report".to_owned()),
            _ => at(&error),
        })?;
        if head.report != NAME {
            return Err(wrong("this is JSON, but not a report".to_owned()));
        }
        // Version 1 differs in the names of some fields, which serde knows as aliases.
        if !(1..=VERSION).contains(&head.version) {
            let message = format!("unsupported report version {}; this program reads version {VERSION}", head.version);
            let hint = "use the same version of the program to write and read it";
            return Err(ReadError { message, place: None, hint });
        }
        let own: Own = serde_json::from_slice(text).map_err(|error| at(&error))?;
        Ok(Self { about: own.run, entries: own.entries })
    }
}

/// The header of a JSON report.
pub(super) const NAME: &str = "yieldtray";

#[derive(Deserialize)]
struct Head {
    report: String,
    version: u32,
}

#[derive(Deserialize)]
struct Own {
    run: RunInfo,
    entries: Vec<Entry<'static>>,
}

/// The figures of these entries alone.
pub(super) fn summary_of(entries: &[Entry<'_>]) -> Summary {
    let count = |verdict: Outcome| entries.iter().filter(|entry| entry.outcome == verdict).count();
    Summary {
        cells: cells(entries),
        requests: entries.iter().map(|entry| entry.method.as_ref().map_or(0, |_| entry.tries.unwrap_or(1))).sum(),
        checks: entries.iter().map(|entry| entry.checks).sum(),
        failed_checks: entries.iter().map(|entry| entry.failures.len()).sum(),
        failed_yields: entries.iter().map(|entry| entry.failed_yields().count()).sum(),
        not_sent: count(Outcome::NotSent),
        skipped: count(Outcome::Skipped),
        not_reached: 0,
        invalid: count(Outcome::Invalid),
        no_response: count(Outcome::NoResponse),
        interrupted: false,
    }
}

/// How many cells these entries are of: one with rows has an entry for each.
fn cells(entries: &[Entry<'_>]) -> usize {
    // How often each cell was sent for each of its rows: a sequence may play it several times.
    let mut times: FxHashMap<_, usize> = FxHashMap::default();
    let mut cells: FxHashMap<_, usize> = FxHashMap::default();
    for Entry { file, name, played_by, round, row, .. } in entries {
        let cell = (file, name, played_by, round);
        let times = times.entry((cell, row)).or_default();
        *times += 1;
        let most = cells.entry(cell).or_default();
        *most = (*most).max(*times);
    }
    cells.into_values().sum()
}

mod rfc3339 {
    use chrono::{DateTime, SecondsFormat, Utc};
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    pub(super) fn serialize<S: Serializer>(time: &DateTime<Utc>, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&time.to_rfc3339_opts(SecondsFormat::Millis, true))
    }

    pub(super) fn deserialize<'d, D: Deserializer<'d>>(from: D) -> Result<DateTime<Utc>, D::Error> {
        let text = String::deserialize(from)?;
        let time = DateTime::parse_from_rfc3339(&text).map_err(D::Error::custom)?;
        Ok(time.to_utc())
    }
}
