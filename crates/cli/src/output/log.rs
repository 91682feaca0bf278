//! Past exchanges as a list, and what is said about one.

use super::table::{Cell, count, right};
use super::{body, cell, data as shapes};
use crate::styles::Styles;
use chrono::{DateTime, Local, SecondsFormat};
use serde_json::{Value, json};
use std::time::Duration;
use yieldtray_engine::Outcome;
use yieldtray_report::log::LoggedExchange;
use yieldtray_report::{Entry, FailedCheck};
use yieldtray_source::escape::escape_line;
use yieldtray_store::log::{ExchangeRow, NumberedExchange};
use yieldtray_workspace::config::Config;

/// A time in milliseconds since 1970 by RFC 3339, in UTC.
pub(crate) fn rfc3339(at: i64) -> String {
    DateTime::from_timestamp_millis(at).unwrap_or_default().to_rfc3339_opts(SecondsFormat::Millis, true)
}

/// The same where the user is.
pub(crate) fn local(at: i64) -> String {
    let time = DateTime::from_timestamp_millis(at).unwrap_or_default().with_timezone(&Local);
    time.format("%Y-%m-%d %H:%M:%S").to_string()
}

/// When something was: how long ago for a person who looks on, else the time.
pub(crate) fn when(at: i64, now: i64, terminal: bool) -> String {
    if terminal { shapes::age((now - at) / 1_000) } else { local(at) }
}

/// Exchanges as rows of a table.
pub(crate) fn lines(
    exchanges: &[NumberedExchange],
    config: &Config,
    now: i64,
    terminal: bool,
    styles: Styles,
) -> Vec<Vec<Cell>> {
    let number = aligned(exchanges, |listed| listed.number.to_string());
    let time = aligned(exchanges, |listed| cell::time(elapsed(&listed.summary)));
    let size = aligned(exchanges, |listed| listed.summary.status.map_or_else(String::new, |_| size(&listed.summary)));
    let row = |(at, listed): (usize, &NumberedExchange)| {
        let own = &listed.summary;
        let tint = config.environment(&own.environment).and_then(|environment| environment.tint);
        let environment = match own.environment.as_str() {
            "" => Cell::new("—"),
            name if tint.is_some() => {
                Cell::new(escape_line(name)).painted(styles.environment(&escape_line(name), tint))
            }
            name => Cell::new(escape_line(name)),
        };
        let status = own.status.map_or_else(|| "—".to_owned(), |status| status.to_string());
        let painted = match own.status {
            Some(101 | 200..400) => styles.good(&status),
            // One that its checks expect is nothing to look at.
            Some(_) if own.outcome == Outcome::Passed.as_str() && own.checks > 0 => status.clone(),
            _ => styles.bad(&status),
        };
        let name = escape_line(&name(own)).into_owned();
        let (judged, well) = judged(own);
        let judged_painted = match (own.checks, well) {
            (0, true) => styles.dim(&judged),
            (_, true) => judged.clone(),
            (_, false) => styles.bad(&judged),
        };
        vec![
            Cell::new(number[at].as_str()),
            Cell::new(when(own.at, now, terminal)),
            environment,
            Cell::new(name.as_str()).painted(styles.name(&name)).shrinkable(),
            Cell::new(escape_line(&own.method)),
            Cell::new(status).painted(painted),
            Cell::new(time[at].as_str()),
            Cell::new(size[at].as_str()),
            Cell::new(judged).painted(judged_painted),
        ]
    };
    exchanges.iter().enumerate().map(row).collect()
}

/// A column of one text for each exchange, aligned right.
fn aligned(exchanges: &[NumberedExchange], text: impl Fn(&NumberedExchange) -> String) -> Vec<String> {
    let texts: Vec<String> = exchanges.iter().map(text).collect();
    let widest = texts.iter().map(|text| text.chars().count()).max().unwrap_or_default();
    texts.iter().map(|text| right(text, widest)).collect()
}

fn elapsed(own: &ExchangeRow) -> Duration {
    Duration::from_micros(u64::try_from(own.micros).unwrap_or_default())
}

fn size(own: &ExchangeRow) -> String {
    body::size(u64::try_from(own.size).unwrap_or_default())
}

/// The name with that of its sequence and the row; for a request without a file, its URL.
fn name(own: &ExchangeRow) -> String {
    if !own.file.ends_with(".http") {
        return own.url.clone();
    }
    let row = own.row.map(|row| format!(" row {row}")).unwrap_or_default();
    let by = own.played_by.as_ref().map(|by| format!("{by} › ")).unwrap_or_default();
    format!("{by}{}{row}", own.name)
}

/// The summary of the checks, and whether all passed.
fn judged(own: &ExchangeRow) -> (String, bool) {
    match (own.status, own.checks, own.failed) {
        (None, ..) => ("no response".to_owned(), false),
        (_, 0, 0) => ("no checks".to_owned(), true),
        (_, all, 0) => (count(usize::try_from(all).unwrap_or_default(), "check", "checks"), true),
        (_, all, failed) if own.outcome == Outcome::Failed.as_str() && failed <= all => {
            (format!("{failed} of {all} failed"), false)
        }
        (_, _, failed) => (format!("{failed} failed"), false),
    }
}

/// An exchange as data.
pub(crate) fn data(listed: &NumberedExchange) -> Value {
    let own = &listed.summary;
    let commit = own.revision.as_deref().map(|revision| revision.trim_end_matches('+'));
    let mut data = json!({
        "number": listed.number,
        "at": rfc3339(own.at),
        "environment": if own.environment.is_empty() { None } else { Some(&own.environment) },
        "file": own.file,
        "name": own.name,
        "method": own.method,
        "url": own.url,
        "elapsed_ms": own.micros as f64 / 1e3,
        // An older version stored other names.
        "outcome": Outcome::named(&own.outcome).map_or(own.outcome.as_str(), |outcome| outcome.as_str()),
        "checks": own.checks,
        "failed": own.failed,
    });
    if let Some(status) = own.status {
        data["status"] = status.into();
        data["size"] = own.size.into();
    }
    if let Some(commit) = commit {
        data["commit"] = commit.into();
        data["changed"] = own.revision.as_ref().is_some_and(|revision| revision.ends_with('+')).into();
    }
    if let Some(row) = own.row {
        data["row"] = row.into();
    }
    if let Some(by) = &own.played_by {
        data["played_by"] = by.as_str().into();
    }
    data
}

/// The first line about one exchange: its number, when and where it was sent, and from which state of its file.
pub(crate) fn introduction(listed: &NumberedExchange, past: &LoggedExchange<'_>, styles: Styles) -> String {
    let own = &listed.summary;
    let environment = match own.environment.as_str() {
        "" => styles.dim("no environment"),
        name => styles.strong(&escape_line(name)),
    };
    let mut place = escape_line(&own.file).into_owned();
    if own.file.ends_with(".http") {
        place.push_str(&format!(":{}", past.entry.line));
    }
    let mut parts = vec![
        styles.strong(&listed.number.to_string()),
        environment,
        local(own.at),
        styles.dim(&place),
        escape_line(&name(own)).into_owned(),
    ];
    if let Some(revision) = &own.revision {
        let message = match revision.strip_suffix('+') {
            Some(commit) => format!("at {commit}, changed since"),
            None => format!("at {revision}"),
        };
        parts.push(styles.dim(&message));
    }
    parts.join("  ")
}

/// The results of the checks at that time.
pub(crate) fn explained(entry: &Entry<'_>, styles: Styles) -> Vec<String> {
    let mut lines = Vec::new();
    if let Some(failure) = &entry.failure {
        lines.push(format!("{} {}", styles.bad("error:"), escape_line(&failure.message)));
        lines.extend(failure.hint.iter().map(|hint| styles.dim(&escape_line(&format!("hint: {hint}")))));
    }
    match (entry.checks, entry.failures.len()) {
        (0, _) => {}
        (all, 0) => lines.push(styles.good(&format!("{} passed", count(all, "check", "checks")))),
        (all, failed) => lines.push(styles.bad(&format!("{failed} of {} failed", count(all, "check", "checks")))),
    }
    entry.failures.iter().for_each(|failed| failure(failed, styles, &mut lines));
    for (name, why) in entry.failed_yields() {
        lines.push(styles.bad(&format!("`{name}` was not yielded: {}", escape_line(why))));
    }
    lines
}

fn failure(failed: &FailedCheck, styles: Styles, lines: &mut Vec<String>) {
    let label = failed.label.as_ref().map(|label| format!("{label}: ")).unwrap_or_default();
    let place = styles.dim(&format!("{}:{}", failed.file, failed.line));
    lines.push(format!("      {place}  {}", styles.bad(&escape_line(&format!("{label}{}", failed.expression)))));
    let indent = " ".repeat(10);
    for part in &failed.parts {
        let (word, value) = match (&part.value, &part.error) {
            (Some(value), _) => ("is", value),
            (None, Some(error)) => ("could not be evaluated:", error),
            (None, None) => continue,
        };
        let (text, value) = (escape_line(&part.text), styles.strong(&escape_line(value)));
        lines.push(format!("{indent}{text}  {}  {value}", styles.dim(word)));
    }
    lines.extend(failed.notes.iter().map(|note| format!("{indent}{}", styles.warn(&escape_line(note)))));
    lines.extend(failed.hint.iter().map(|hint| format!("{indent}{}", escape_line(hint))));
}
