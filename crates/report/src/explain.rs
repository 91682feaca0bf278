//! Why something did not pass, as plain text: for formats that have no other means.

use super::entry::{DiffRecord, Entry, FailedCheck};
use std::fmt::Write;

/// The first thing to say of an entry that did not pass, on one line.
pub(super) fn headline(entry: &Entry<'_>) -> String {
    if let Some(failed) = entry.failures.first() {
        let label = failed.label.as_ref().map(|label| format!("{label}: ")).unwrap_or_default();
        let more = match entry.failures.len() {
            1 => String::new(),
            all => format!(" (and {} more)", all - 1),
        };
        return one_line(&format!("{label}{}{more}", failed.expression));
    }
    if let Some((name, why)) = entry.failed_yields().next() {
        return one_line(&format!("`{name}` was not yielded: {why}"));
    }
    if let Some(failure) = &entry.failure {
        return one_line(&failure.message);
    }
    if let Some(need) = &entry.needs {
        return one_line(&format!("not sent: {need} did not pass"));
    }
    if let Some(reason) = &entry.reason {
        return one_line(&format!("skipped: {reason}"));
    }
    let error = entry.diagnostics.iter().find(|problem| problem.severity == "error");
    error.map_or_else(String::new, |error| one_line(&error.message))
}

/// All there is to say of it: what was sent, and why each check failed, with the place of each.
pub(super) fn explanation(entry: &Entry<'_>) -> String {
    let mut text = String::new();
    let mut line = |texts: &str| {
        text.push_str(texts);
        text.push('\n');
    };
    if let (Some(method), Some(url)) = (&entry.method, &entry.url) {
        let status = entry.status.map_or_else(|| "no response".to_owned(), |status| status.to_string());
        line(&format!("{method} {url} → {status}"));
    }
    entry.failures.iter().for_each(|failed| check(failed, &mut line));
    for (name, why) in entry.failed_yields() {
        line(&format!("`{name}` was not yielded: {why}"));
    }
    if let Some(failure) = &entry.failure {
        line(&format!("error: {}", failure.message));
        failure.hint.iter().for_each(|hint| line(&format!("hint: {hint}")));
    }
    for problem in entry.diagnostics.iter().filter(|problem| problem.severity == "error") {
        let place = match (&problem.file, problem.line, problem.column) {
            (Some(file), Some(at), Some(column)) => format!("{file}:{at}:{column}: "),
            _ => String::new(),
        };
        line(&format!("{place}{}", problem.message));
        problem.hint.iter().for_each(|hint| line(&format!("  hint: {hint}")));
    }
    entry.advice.iter().for_each(|advice| line(advice));
    text
}

fn check(failed: &FailedCheck, line: &mut impl FnMut(&str)) {
    let label = failed.label.as_ref().map(|label| format!("{label}: ")).unwrap_or_default();
    line(&format!("{}:{}: {label}{}", failed.file, failed.line, failed.expression));
    for part in &failed.parts {
        match (&part.value, &part.error) {
            (Some(value), _) => line(&format!("  {} is {value}", part.text)),
            (None, Some(error)) => line(&format!("  {} has no value: {error}", part.text)),
            (None, None) => {}
        }
    }
    if let Some(sides) = &failed.difference {
        difference(sides, line);
    }
    failed.notes.iter().chain(&failed.hint).for_each(|message| line(&format!("  {message}")));
}

fn difference(sides: &DiffRecord, line: &mut impl FnMut(&str)) {
    line(&format!("  < {}", sides.left));
    line(&format!("  > {}", sides.right));
    for (whose, what) in &sides.lines {
        line(&format!("  {}", difference_line(whose, what)));
    }
}

/// One line of a difference, with the sign of its side.
pub(super) fn difference_line(whose: &str, what: &serde_json::Value) -> String {
    let text = what.as_str().unwrap_or_default();
    match whose {
        "left" => format!("  < {text}"),
        "right" => format!("  > {text}"),
        "unchanged" | "alike" => format!("    … {what} unchanged"),
        "truncated" | "more" => format!("    … and {what} more"),
        _ => format!("    {text}"),
    }
}

/// Text on one line.
pub(super) fn one_line(text: &str) -> String {
    let mut line = String::with_capacity(text.len());
    for (at, part) in text.lines().enumerate() {
        let _ = write!(line, "{}{part}", if at > 0 { " " } else { "" });
    }
    line
}
