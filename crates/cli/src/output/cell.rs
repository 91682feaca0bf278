//! How a run reads: one line a request, and under it what a person needs to see why it failed.

use super::table::{count, cut, left, push_left, push_right};
use crate::styles::Styles;
use std::borrow::Cow;
use std::time::Duration;
use yieldtray_engine::{CellReport, CheckFailure, CheckPart, Difference, Outcome, Summary, TokenReport, YieldReport};
use yieldtray_source::diff::DiffLine;
use yieldtray_source::escape::escape_line;
use yieldtray_workspace::config::EnvironmentColor;
use yieldtray_workspace::{CellId, Workspace};

/// Where no terminal gives a width, lines may be this long before a column is cut.
const DEFAULT_COLUMNS: usize = 160;

/// The name of a cell in a run, after that of the sequence that plays it.
pub(crate) fn shown_name(workspace: &Workspace, cell: CellId, played_by: Option<CellId>) -> Cow<'_, str> {
    let own = &*workspace.cell(cell).name;
    match played_by {
        Some(by) => Cow::Owned(format!("{} › {own}", workspace.cell(by).name)),
        None => Cow::Borrowed(own),
    }
}

/// The widths of the columns that all lines of a run share.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Columns {
    name: usize,
    method: usize,
    target: usize,
    /// The whole line.
    line: usize,
}

impl Columns {
    /// Columns wide enough for these names, methods and targets, as far as the terminal goes.
    pub(crate) fn new<'t>(
        cells: impl Iterator<Item = (Cow<'t, str>, &'t str, &'t str)>,
        terminal: Option<usize>,
    ) -> Self {
        let (mut name, mut method, mut target) = (4, 3, 8);
        for (cell_name, own_method, own_target) in cells {
            name = name.max(cell_name.chars().count());
            method = method.max(own_method.chars().count());
            target = target.max(own_target.chars().count());
        }
        let line = terminal.unwrap_or(DEFAULT_COLUMNS).max(40);
        // The columns after the target: status, time and the number of checks.
        let rest = 2 + 2 + 2 + 2 + 3 + 2 + 7 + 2 + 13;
        let name = name.min((line / 4).max(12));
        let method = method.min(8);
        let target = target.min(line.saturating_sub(name + method + rest).clamp(6, 60));
        Self { name, method, target, line }
    }
}

/// A run as text, one piece after another.
pub(crate) struct CellLines<'w> {
    /// The files.
    pub(crate) workspace: &'w Workspace,
    /// The columns.
    pub(crate) columns: Columns,
    /// The colours.
    pub(crate) styles: Styles,
    /// The base URL, which is left out of targets.
    pub(crate) base: Option<String>,
}

/// The line of a token that was obtained, with its URL as `target`.
pub(crate) fn token_line(report: &TokenReport, target: &str, styles: Styles) -> String {
    let what = if report.renewed { "refreshed token" } else { "token" };
    let holds = report.seconds.map(|seconds| format!(", valid for {}", holds(seconds))).unwrap_or_default();
    let line = format!("  {what} of `{}` from {target} in {}{holds}", report.profile, time(report.elapsed));
    styles.dim(&escape_line(&line))
}

impl CellLines<'_> {
    /// The line of one cell, and the lines under it.
    pub(crate) fn cell(&self, report: &CellReport) -> Vec<String> {
        let styles = self.styles;
        // The number of the row must stay, whatever else is cut; of a played cell, its own name.
        let row = report.row.map(|row| format!(" row {row}")).unwrap_or_default();
        let room = self.columns.name.saturating_sub(row.len()).max(4);
        let mut name = shown_name(self.workspace, report.cell, report.played_by);
        if report.played_by.is_some() && name.chars().count() > room {
            name = Cow::Owned(format!("› {}", self.workspace.cell(report.cell).name));
        }
        let name = format!("{}{row}", cut(&name, room));
        let name = left(&name, self.columns.name);
        let head = match not_sent(report, styles) {
            Some(why) => format!("  {name}  {why}"),
            None => self.sent(report, &name),
        };
        let mut lines = vec![head];
        if let Some(failure) = &report.failure {
            lines.push(format!("      {} {}", styles.bad("error:"), escape_line(&failure.message)));
            lines.extend(
                failure.hint.iter().map(|hint| format!("      {}", styles.dim(&escape_line(&format!("hint: {hint}"))))),
            );
        }
        lines.extend(report.advice.iter().map(|advice| format!("      {}", styles.warn(&escape_line(advice)))));
        for failure in &report.failures {
            lines.extend(self.failure(failure));
        }
        for taken in &report.yields {
            lines.extend(self.failed_yield(taken));
        }
        lines
    }

    /// The line of a token that was obtained.
    pub(crate) fn token(&self, report: &TokenReport) -> String {
        token_line(report, self.target(&report.url), self.styles)
    }

    /// The line of a cell that was sent. A long run writes thousands: it is made in one piece.
    fn sent(&self, report: &CellReport, name: &str) -> String {
        let (styles, columns) = (self.styles, &self.columns);
        let mut line = String::with_capacity(columns.line + 32);
        line.push_str("  ");
        line.push_str(name);
        line.push_str("  ");
        push_left(&mut line, &escape_line(&report.method), columns.method);
        line.push_str("  ");
        push_left(&mut line, &escape_line(self.target(&report.url)), columns.target);
        line.push_str("  ");
        match report.status {
            Some(status) => push_right(&mut line, &status.to_string(), 3),
            None => push_right(&mut line, "—", 3),
        }
        line.push_str("  ");
        push_right(&mut line, &time(report.elapsed), 7);
        line.push_str("  ");
        let so_far = line.chars().count();
        let failed = report.failures.len();
        let text = match (report.checks, failed) {
            _ if report.outcome == Outcome::NoResponse => "no response".to_owned(),
            (0, _) => "no checks".to_owned(),
            (all, 0) => count(all, "check", "checks"),
            (all, failed) => format!("{failed} of {all} failed"),
        };
        let mut text = match report.attempts {
            ..2 => text,
            tries => {
                let long = format!("{text}, {tries} attempts");
                let fits = so_far + long.chars().count() <= columns.line;
                if fits { long } else { format!("{text} ×{tries}") }
            }
        };
        let mut yields = String::new();
        for taken in &report.yields {
            let Ok(value) = &taken.value else { continue };
            let parts = [if yields.is_empty() { "" } else { "  " }, &taken.name, " = ", &escape_line(value)];
            yields.extend(parts);
        }
        // A few characters of a value are useless: it is left out.
        let room = columns.line.saturating_sub(so_far + text.chars().count().max(9) + 2);
        let shows = !yields.is_empty() && room >= 8;
        if shows {
            text = left(&text, 9);
        }
        match report.checks {
            _ if report.outcome != Outcome::Passed => line.push_str(&styles.bad(&text)),
            0 => line.push_str(&styles.dim(&text)),
            _ => line.push_str(&text),
        }
        if shows {
            line.push_str("  ");
            line.push_str(&styles.name(&cut(&yields, room)));
        }
        line
    }

    /// A URL as it is shown, without the base.
    fn target<'u>(&self, url: &'u str) -> &'u str {
        // A conversation has the origin of the handshake.
        let of_base = |base: &str| {
            let base = base.trim_end_matches('/');
            url.strip_prefix(base).or_else(|| url.strip_prefix("ws")?.strip_prefix(base.strip_prefix("http")?))
        };
        let path = self.base.as_deref().and_then(of_base);
        path.filter(|path| path.starts_with(['/', '?'])).unwrap_or(url)
    }

    /// A failed check: its position and message, then its parts with their values.
    pub(crate) fn failure(&self, failure: &CheckFailure) -> Vec<String> {
        let styles = self.styles;
        let place = self.workspace.shown_line(failure.source, failure.span.start());
        let label = failure.label.as_ref().map(|label| format!("{label}: ")).unwrap_or_default();
        let indent = " ".repeat(6 + place.chars().count() + 2);
        let room = self.columns.line.saturating_sub(indent.len()).max(24);
        let mut lines = vec![format!(
            "      {}  {}",
            styles.dim(&place),
            styles.bad(&format!("{label}{}", escape_line(&failure.expression)))
        )];
        lines.extend(self.underlines(failure, 6 + place.chars().count() + 2 + label.chars().count()));
        let texts = failure.parts.iter().map(|part| part.text.chars().count());
        let widest = texts.max().unwrap_or_default().min(room / 2);
        for CheckPart { text, value, .. } in &failure.parts {
            let text = cut(&escape_line(text), widest.max(1));
            let (word, value) = match value {
                Ok(value) => ("is", escape_line(value)),
                Err(error) => ("could not be evaluated:", escape_line(error.as_str())),
            };
            let room = room.saturating_sub(widest + word.len() + 4);
            lines.push(format!(
                "{indent}{}  {}  {}",
                left(&text, widest),
                styles.dim(word),
                styles.strong(&cut(&value, room.max(16)))
            ));
        }
        if let Some(difference) = &failure.difference {
            lines.extend(self.difference(difference, &indent, room));
        }
        lines.extend(failure.notes.iter().map(|note| format!("{indent}{}", styles.warn(&escape_line(note)))));
        lines.extend(failure.hint.iter().map(|hint| format!("{indent}{}", escape_line(hint))));
        lines
    }

    /// The line that underlines the parts of the expression above it, which begins at a column; none if the expression
    /// does not fit, is not shown as it is written, or is one part as a whole.
    fn underlines(&self, failure: &CheckFailure, column: usize) -> Option<String> {
        let expression = &failure.expression;
        let width = expression.chars().count();
        if column + width > self.columns.line || escape_line(expression) != *expression {
            return None;
        }
        let mut marks = vec![' '; width];
        for part in &failure.parts {
            let before = expression.get(..part.span.start())?.chars().count();
            let length = expression.get(part.span.range())?.chars().count();
            marks.get_mut(before..before + length)?.fill('^');
        }
        let marks: String = marks.into_iter().collect();
        let marks = marks.trim_end();
        let says_something = marks.contains('^') && marks.chars().count() - marks.matches(' ').count() < width;
        says_something.then(|| format!("{}{}", " ".repeat(column), self.styles.bad(marks)))
    }

    /// The difference of two long values: each line with the sign of its side.
    fn difference(&self, difference: &Difference, indent: &str, room: usize) -> Vec<String> {
        let styles = self.styles;
        let line =
            |sign: &str, text: &str| format!("{indent}{sign} {}", cut(&escape_line(text), room.saturating_sub(2)));
        // The whole expression is printed above; here only the sides are named.
        let side = |sign: &str, text: &str| styles.strong(&line(sign, &cut(text, 48)));
        let mut lines = vec![side("<", &difference.left), side(">", &difference.right)];
        lines.extend(difference.lines.iter().map(|one| match one {
            DiffLine::Context(text) => styles.dim(&line("   ", text)),
            DiffLine::Left(text) => styles.bad(&line("  <", text)),
            DiffLine::Right(text) => styles.good(&line("  >", text)),
            DiffLine::Skipped(number) => {
                styles.dim(&line("    …", &format!("{} unchanged", count(*number, "line", "lines"))))
            }
            DiffLine::Truncated(number) => {
                styles.dim(&line("    …", &format!("and {}", count(*number, "more line", "more lines"))))
            }
        }));
        lines
    }

    /// A yield that failed.
    pub(crate) fn failed_yield(&self, taken: &YieldReport) -> Option<String> {
        let message = taken.value.as_ref().err()?;
        let place = self.workspace.shown_line(taken.source, taken.span.start());
        let text = format!("`{}` was not yielded: {}", taken.name, escape_line(message.as_str()));
        Some(format!("      {}  {}", self.styles.dim(&place), self.styles.bad(&text)))
    }
}

/// Why a cell was not sent; nothing for one that was.
pub(crate) fn not_sent(report: &CellReport, styles: Styles) -> Option<String> {
    let reason = report.reason.as_deref().unwrap_or_default();
    Some(match report.outcome {
        Outcome::NotSent => styles.warn(&format!("not sent: {reason} did not pass")),
        Outcome::Skipped => styles.dim(&escape_line(&format!("skipped: {reason}"))),
        Outcome::Invalid => {
            let errors = report.problems.iter().filter(|problem| problem.is_error()).count();
            styles.bad(&format!("not sent: {}", count(errors, "error", "errors")))
        }
        Outcome::Passed | Outcome::Failed | Outcome::NoResponse => return None,
    })
}

/// A number of seconds as one says it.
fn holds(seconds: i64) -> String {
    match seconds {
        ..120 => format!("{seconds} s"),
        120..7_200 => format!("{} min", seconds / 60),
        _ => format!("{} h", seconds / 3_600),
    }
}

/// Environment and URL: always the first line.
#[derive(Clone, Debug, Default)]
pub(crate) struct Heading {
    /// The chosen environment's name and tint.
    pub(crate) environment: Option<(String, Option<EnvironmentColor>)>,
    /// The base URL of the requests.
    pub(crate) base: Option<String>,
    /// Warnings about trusted certificates and proxies.
    pub(crate) warnings: Vec<String>,
}

impl Heading {
    /// The heading as a line.
    pub(crate) fn text(&self, styles: Styles) -> String {
        let environment = match &self.environment {
            Some((name, tint)) => styles.environment(name, *tint),
            None => styles.dim("no environment"),
        };
        let warning = |warning: &String| format!("  {}", styles.warn(&escape_line(warning)));
        let warnings: String = self.warnings.iter().map(warning).collect();
        match &self.base {
            Some(base) => format!("{environment}  {}{warnings}", escape_line(base)),
            None => format!("{environment}{warnings}"),
        }
    }
}

/// The last line of a run.
pub(crate) fn summary(summary: &Summary, elapsed: Duration, styles: Styles) -> String {
    let checks = match summary.checks {
        0 => "no checks".to_owned(),
        all => count(all, "check", "checks"),
    };
    let mut parts = vec![count(summary.requests, "request", "requests"), checks];
    let failed = summary.failed_checks;
    if failed + summary.failed_yields + summary.no_response + summary.invalid + summary.not_sent == 0
        && !summary.interrupted
        && summary.checks > 0
    {
        parts.push(styles.good("all passed"));
    }
    let mut bad = |number: usize, text: String| {
        if number > 0 {
            parts.push(styles.bad(&text));
        }
    };
    bad(failed, format!("{failed} failed"));
    bad(summary.failed_yields, format!("{} not yielded", summary.failed_yields));
    bad(summary.no_response, format!("{} without a response", summary.no_response));
    bad(summary.invalid, format!("{} with errors", summary.invalid));
    bad(summary.not_sent, format!("{} not sent", summary.not_sent));
    if summary.skipped > 0 {
        parts.push(format!("{} skipped", summary.skipped));
    }
    let left_out = summary.not_reached;
    if left_out > 0 {
        parts.push(styles.warn(&format!("{left_out} not reached")));
    }
    if summary.interrupted {
        parts.push(styles.bad("interrupted"));
    }
    parts.push(time(elapsed));
    parts.join(" · ")
}

/// A length of time, to be read.
pub(crate) fn time(duration: Duration) -> String {
    let millis = duration.as_secs_f64() * 1000.0;
    match millis {
        0.0 => "0 ms".to_owned(),
        ..0.95 => "<1 ms".to_owned(),
        ..1000.0 => format!("{millis:.0} ms"),
        ..60_000.0 => format!("{:.2} s", millis / 1000.0),
        // As durations are written in request files.
        _ => format!("{}m{}s", duration.as_secs() / 60, duration.as_secs() % 60),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::workspace;
    use std::path::Path;
    use yieldtray_http::{Failure, FailureKind};
    use yieldtray_source::Span;

    const DESK: &str = "%% The morning at the intake desk\n% play book-a-lot-in\n\n%% Book a lot in\nPOST /lots\n\n%% Weigh\nGET /scale\n\n% check body.kg > 10\n";

    fn report(cell: CellId, outcome: Outcome) -> CellReport {
        CellReport {
            method: "POST".to_owned(),
            url: "http://local.example/lots/L-2043/weighings?tray=T-7&kg=11.5".to_owned(),
            status: Some(201),
            elapsed: Duration::from_millis(14),
            size: 118,
            checks: 4,
            ..CellReport::new(cell, outcome)
        }
    }

    #[test]
    fn a_line_keeps_what_matters_at_any_width() {
        let mut workspace = workspace(&[("desk.http", DESK)]);
        let source = workspace.load(Path::new("desk.http")).expect("the file is there");
        let cells: Vec<CellId> = workspace.cells(source).collect();
        let (morning, book, apply_levels) = (cells[0], cells[1], cells[2]);
        let taken = |name: &str, value: &str| {
            let value = Ok(value.to_owned());
            YieldReport { source, span: workspace.cell(book).span, name: name.to_owned(), value }
        };
        let failure = CheckFailure {
            source,
            span: workspace.cell(apply_levels).span,
            label: Some("full".to_owned()),
            expression: "body.kg > 10".to_owned(),
            parts: vec![CheckPart {
                text: "body.kg".to_owned(),
                span: Span::new(0, "body.kg".len()),
                value: Ok("9.5".to_owned()),
            }],
            difference: None,
            notes: vec!["a note".to_owned()],
            hint: Some("a full tray weighs more".to_owned()),
        };
        let refused = Failure {
            kind: FailureKind::Refused,
            message: "connection refused by local.example".to_owned(),
            hint: Some("is the server running on this port?".to_owned()),
            elapsed: Duration::ZERO,
        };
        let reports = [
            CellReport {
                yields: vec![taken("lot_id", "\"L-2043\""), taken("key", "[secret]")],
                ..report(book, Outcome::Passed)
            },
            CellReport { played_by: Some(morning), row: Some(12), ..report(book, Outcome::Passed) },
            CellReport { attempts: 3, ..report(apply_levels, Outcome::Passed) },
            CellReport { checks: 0, elapsed: Duration::from_secs(75), ..report(apply_levels, Outcome::Passed) },
            CellReport { failures: vec![failure], ..report(apply_levels, Outcome::Failed) },
            CellReport { status: None, failure: Some(refused), ..report(apply_levels, Outcome::NoResponse) },
            CellReport { reason: Some("book-a-lot-in".to_owned()), ..report(apply_levels, Outcome::NotSent) },
            CellReport { reason: Some("no truck came".to_owned()), ..report(apply_levels, Outcome::Skipped) },
            report(apply_levels, Outcome::Invalid),
        ];
        let mut shown = String::new();
        for width in [60, 90, 160] {
            let names = reports.iter().map(|report| {
                (shown_name(&workspace, report.cell, report.played_by), report.method.as_str(), report.url.as_str())
            });
            let columns = Columns::new(names, Some(width));
            let base = Some("http://local.example/".to_owned());
            let lines = CellLines { workspace: &workspace, columns, styles: Styles::new(false), base };
            shown += &format!("--- {width} columns\n");
            for report in &reports {
                let record = lines.cell(report);
                assert!(record[0].chars().count() <= width, "{width}: {}", record[0]);
                record.iter().for_each(|line| shown += &format!("{line}\n"));
            }
        }
        insta::assert_snapshot!("lines", shown);
    }

    #[test]
    fn times_and_figures_are_read_at_a_glance() {
        for (micros, shown) in [
            (0, "0 ms"),
            (300, "<1 ms"),
            (1_400, "1 ms"),
            (999_400, "999 ms"),
            (1_234_000, "1.23 s"),
            (61_000_000, "1m1s"),
            (3_599_900_000, "59m59s"),
        ] {
            assert_eq!(time(Duration::from_micros(micros)), shown);
        }
        assert_eq!([holds(90), holds(600), holds(86_400)], ["90 s", "10 min", "24 h"]);
        let line = |figures: Summary| summary(&figures, Duration::from_millis(7), Styles::new(false));
        let passed = Summary { cells: 2, requests: 2, checks: 3, ..Summary::default() };
        assert_eq!(line(passed), "2 requests · 3 checks · all passed · 7 ms");
        assert_eq!(line(Summary { checks: 0, ..passed }), "2 requests · no checks · 7 ms");
        let all = Summary {
            failed_checks: 1,
            failed_yields: 2,
            not_sent: 3,
            skipped: 4,
            not_reached: 5,
            invalid: 6,
            no_response: 7,
            interrupted: true,
            ..passed
        };
        assert_eq!(
            line(all),
            "2 requests · 3 checks · 1 failed · 2 not yielded · 7 without a response · 6 with errors · 3 not sent · 4 skipped · 5 not reached · interrupted · 7 ms"
        );
        let interrupted = Summary { interrupted: true, ..passed };
        assert_eq!(line(interrupted), "2 requests · 3 checks · interrupted · 7 ms", "what ran is no proof of the rest");
    }
}
