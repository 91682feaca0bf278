//! A replay as one text: the files, the responses in the order of the requests, and the expected events.

use crate::{RunRecord, answer, settings, side_by_side, with_run};
use std::fmt::Write;
use std::time::Duration;
use yieldtray_engine::{CellReport, Event};
use yieldtray_http::{Exchange, Failure, FailureKind, PreparedRequest};
use yieldtray_source::Severity;
use yieldtray_workspace::Workspace;

/// Replays a fixture, and compares the requests and the events with those in it.
///
/// A fixture is files, each after a line `#- PATH`, and two sections more. The requests of the cells in all `.http` files
/// whose names do not begin with `_` are answered by the lines of `#- responses`, in order; what happens must be the lines
/// of `#- events`:
///
/// ```text
/// #- desk.http
/// %% Book in
/// POST http://local/lots
///
/// % yield lot = body.id
/// % check status == 200
/// #- responses
/// POST /lots -> 201 {"id": "L-1"}
/// #- events
/// book-in failed 201, 1 check
///   lot = "L-1"
///   status == 200: status is 201
/// 1 request, 1 failed, exit 1
/// ```
///
/// A response is `STATUS [JSON]`, or `none` for a request that times out.
///
/// # Panics
/// If a request is not the expected one, or if the events differ.
pub fn check_replay(fixture: &str) {
    let (files, rest) = fixture.split_once("#- responses\n").expect("a fixture has responses");
    let (responses, expected) = rest.split_once("#- events\n").expect("a fixture has events");
    let paths = files.split("#- ").skip(1).filter_map(|file| file.lines().next());
    let paths: Vec<&str> = paths.filter(|path| path.ends_with(".http") && !path.starts_with('_')).collect();
    let mut responses = responses.lines();
    let events = with_run(files, &paths, settings(None, &[]), 1, |run| {
        let record = side_by_side(run, 1, &mut |_| 0, &mut |request| respond(request, responses.next()));
        describe(run.workspace(), &record)
    });
    assert_eq!(responses.next(), None, "a response was not asked for");
    assert_eq!(events, expected, "\n--- the events are:\n{events}");
}

fn respond(request: &PreparedRequest, line: Option<&str>) -> Result<Exchange, Failure> {
    let query = request.url.query().map(|query| format!("?{query}")).unwrap_or_default();
    let sent = format!("{} {}{query}", request.method, request.url.path());
    let (expected, response) = line.and_then(|line| line.split_once(" -> ")).unwrap_or(("nothing more", "none"));
    assert_eq!(sent, expected, "another request is expected");
    if response == "none" {
        let (message, elapsed) = ("no answer in time".to_owned(), Duration::from_secs(1));
        return Err(Failure { kind: FailureKind::TimedOut, message, hint: None, elapsed });
    }
    let (status, body) = response.split_once(' ').unwrap_or((response, ""));
    let headers: &[_] = if body.is_empty() { &[] } else { &[("content-type", "application/json")] };
    Ok(answer(status.parse().expect("a status"), headers, body))
}

/// The events of a run, a line each, with details below.
fn describe(workspace: &Workspace, record: &RunRecord) -> String {
    let mut text = String::new();
    for event in &record.events {
        match event {
            Event::CellFinished(report) => describe_cell(workspace, report, &mut text),
            Event::TokenObtained(token) => writeln!(text, "token of {}", token.profile).expect("a text"),
            Event::RunStarted { .. } | Event::RunFinished(_) => {}
        }
    }
    let summary = record.summary;
    let parts = [
        (summary.failed_checks + summary.failed_yields, "failed"),
        (summary.not_sent, "not sent"),
        (summary.skipped, "skipped"),
        (summary.invalid, "with errors"),
        (summary.no_response, "without response"),
    ];
    let parts: String =
        parts.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!(", {count} {what}")).collect();
    let requests = count(summary.requests, "request");
    writeln!(text, "{requests}{parts}, exit {}", summary.exit_code().code()).expect("a text");
    text
}

fn describe_cell(workspace: &Workspace, report: &CellReport, text: &mut String) {
    let name = &workspace.cell(report.cell).name;
    let sequence = report.played_by.map(|sequence| format!("{} › ", workspace.cell(sequence).name)).unwrap_or_default();
    let row = report.row.map(|row| format!(" row {row}")).unwrap_or_default();
    let reason = report.reason.as_ref().map(|reason| format!(": {reason}")).unwrap_or_default();
    let status = report.status.map(|status| format!(" {status}")).unwrap_or_default();
    let checks = if report.checks > 0 { format!(", {}", count(report.checks, "check")) } else { String::new() };
    let attempts = if report.attempts > 1 { format!(", {}", count(report.attempts, "attempt")) } else { String::new() };
    let mut line = |words: String| writeln!(text, "{words}").expect("a text");
    line(format!("{sequence}{name}{row} {}{status}{checks}{attempts}{reason}", report.outcome.as_str()));
    for captured in &report.yields {
        match &captured.value {
            Ok(value) => line(format!("  {} = {value}", captured.name)),
            Err(why) => line(format!("  {} not captured: {why}", captured.name)),
        }
    }
    for failure in &report.failures {
        let parts = failure.parts.iter().map(|part| match &part.value {
            Ok(value) => format!("{} is {value}", part.text),
            Err(why) => format!("{}: {why}", part.text),
        });
        let why: Vec<String> = parts.chain(failure.notes.iter().cloned()).chain(failure.hint.clone()).collect();
        line(format!("  {}: {}", failure.expression, why.join("; ")));
    }
    for problem in &report.problems {
        let severity = if problem.severity == Severity::Error { "error" } else { "warning" };
        line(format!("  {severity}[{}]: {}", problem.code.as_str(), problem.message));
    }
    if let Some(failure) = &report.failure {
        line(format!("  no response: {}", failure.message));
    }
}

fn count(count: usize, what: &str) -> String {
    format!("{count} {what}{}", if count == 1 { "" } else { "s" })
}
