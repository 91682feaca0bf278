//! The shapes of `--json`, described in docs/commands.md. A field that does not apply is left out.

use base64::Engine as _;
use serde_json::{Map, Value, json};
use std::time::Duration;
use yieldtray_core::problem::{Level, Problem, SourceId};
use yieldtray_core::replay::{
    CellReport, CheckFailure, Difference, DifferentLine, Event, Outcome, Summary, TokenReport,
};
use yieldtray_core::request::Prepared;
use yieldtray_core::response::{Exchange, HopKind, Nature, Timings};
use yieldtray_core::secret::{MASK, Masker, is_secret_header};
use yieldtray_core::syntax::{Kind, Span};
use yieldtray_core::workspace::{CellId, Workspace};

/// Problems: code, level, message, hint, and the place with both ends; lines and columns from 1.
pub(crate) fn problems(workspace: &Workspace, problems: &[Problem]) -> Vec<Value> {
    problems
        .iter()
        .map(|problem| {
            let level = if problem.level == Level::Mistake { "mistake" } else { "remark" };
            let mut data = json!({ "code": problem.code.as_str(), "level": level, "message": problem.message });
            if let Some(hint) = &problem.hint {
                data["hint"] = hint.as_str().into();
            }
            if let Some(source) = problem.source {
                extend(&mut data, place(workspace, source, problem.span));
            }
            if let Some((source, span, words)) = &problem.also {
                let mut also = place(workspace, *source, *span);
                also["message"] = words.as_str().into();
                data["also"] = also;
            }
            data
        })
        .collect()
}

fn place(workspace: &Workspace, id: SourceId, span: Span) -> Value {
    let source = workspace.source(id);
    let (start, end) = (source.place(span.start()), source.place(span.end()));
    json!({
        "file": workspace.shown_path(id),
        "line": start.line,
        "column": start.column,
        "end_line": end.line,
        "end_column": end.column,
    })
}

fn extend(data: &mut Value, more: Value) {
    if let (Value::Object(data), Value::Object(more)) = (data, more) {
        data.extend(more);
    }
}

/// One event of a replay; the last tells the seed, if anything was made up.
pub(crate) fn event(workspace: &Workspace, event: &Event, elapsed: Duration, seed: Option<u64>) -> Value {
    match event {
        Event::Began { environment, cells } => {
            json!({ "event": "began", "environment": environment, "cells": cells })
        }
        Event::Token(report) => {
            let mut data = json!({ "event": "token" });
            extend(&mut data, token(report));
            data
        }
        Event::Cell(report) => {
            let mut data = json!({ "event": "cell" });
            extend(&mut data, cell_report(workspace, report));
            data
        }
        Event::Ended(summary) => {
            let mut data = json!({ "event": "ended" });
            extend(&mut data, totals(summary, elapsed));
            if let Some(seed) = seed {
                data["seed"] = seed.into();
            }
            data
        }
    }
}

/// A token that was got.
pub(crate) fn token(report: &TokenReport) -> Value {
    json!({
        "profile": report.profile,
        "url": report.url,
        "elapsed_ms": millis(report.elapsed),
        "seconds": report.seconds,
        "renewed": report.renewed,
    })
}

fn totals(summary: &Summary, elapsed: Duration) -> Value {
    json!({
        "cells": summary.cells,
        "requests": summary.requests,
        "checks": summary.checks,
        "failed_checks": summary.failed_checks,
        "failed_yields": summary.failed_yields,
        "not_sent": summary.not_sent,
        "skipped": summary.skipped,
        "left_out": summary.left_out,
        "mistaken": summary.mistaken,
        "no_answer": summary.no_answer,
        "interrupted": summary.interrupted,
        "elapsed_ms": millis(elapsed),
        "exit_code": summary.exit_code(),
    })
}

/// A cell and how it came out.
pub(crate) fn cell_report(workspace: &Workspace, report: &CellReport) -> Value {
    let cell = workspace.cell(report.cell);
    let mut data = json!({
        "file": workspace.shown_path(report.cell.source),
        "line": workspace.line_of(report.cell),
        "name": &*cell.name,
        "outcome": report.outcome.as_str(),
    });
    let mut set = |name: &str, value: Value| data[name] = value;
    match &report.outcome {
        Outcome::NotSent(need) => set("needs", need.as_str().into()),
        Outcome::Skipped(reason) => set("reason", reason.as_str().into()),
        _ => {}
    }
    if let Some(by) = report.played_by {
        set("played_by", (&*workspace.cell(by).name).into());
    }
    if report.round > 1 {
        set("round", report.round.into());
    }
    if let Some(row) = report.row {
        set("row", row.into());
    }
    if report.tries > 1 {
        set("tries", report.tries.into());
    }
    if !report.method.is_empty() {
        set("method", report.method.as_str().into());
        set("url", report.url.as_str().into());
        set("elapsed_ms", millis(report.elapsed));
    }
    if let Some(status) = report.status {
        set("status", status.into());
        set("size", report.size.into());
        set("checks", report.checks.into());
        set("failures", report.failures.iter().map(|failure| check_failure(workspace, failure)).collect());
        set("yields", report.yields.iter().map(|taken| outcome_of(&taken.name, "name", &taken.value)).collect());
    }
    if !report.problems.is_empty() {
        set("problems", problems(workspace, &report.problems).into());
    }
    if let Some(advice) = &report.advice {
        set("advice", advice.as_str().into());
    }
    if let Some(failure) = &report.failure {
        set("failure", json!({ "kind": failure.kind.as_str(), "message": failure.message, "hint": failure.hint }));
    }
    data
}

fn check_failure(workspace: &Workspace, failure: &CheckFailure) -> Value {
    let mut data = place(workspace, failure.source, failure.span);
    if let Some(label) = &failure.label {
        data["label"] = label.as_str().into();
    }
    data["expression"] = failure.expression.as_str().into();
    data["parts"] = failure.parts.iter().map(|(text, value)| outcome_of(text, "text", value)).collect();
    if let Some(difference) = &failure.difference {
        data["difference"] = difference_of(difference);
    }
    data["notes"] = failure.notes.clone().into();
    if let Some(hint) = &failure.hint {
        data["hint"] = hint.as_str().into();
    }
    data
}

/// Each line as a pair: whose it is, and its text; or how many lines are left out.
fn difference_of(difference: &Difference) -> Value {
    let line = |line: &DifferentLine| match line {
        DifferentLine::Both(text) => json!(["both", text]),
        DifferentLine::Left(text) => json!(["left", text]),
        DifferentLine::Right(text) => json!(["right", text]),
        DifferentLine::Alike(number) => json!(["alike", number]),
        DifferentLine::More(number) => json!(["more", number]),
    };
    let lines: Vec<Value> = difference.lines.iter().map(line).collect();
    json!({ "left": difference.left, "right": difference.right, "lines": lines })
}

fn outcome_of(text: &str, key: &str, value: &Result<String, String>) -> Value {
    match value {
        Ok(value) => json!({ key: text, "value": value }),
        Err(message) => json!({ key: text, "error": message }),
    }
}

/// A request as it goes out, secrets masked; a file in its body by its name.
pub(crate) fn request(request: &Prepared, masker: &Masker) -> Value {
    let headers: Vec<Value> =
        request.wire_headers().iter().map(|(name, value)| json!([name, header_value(name, value, masker)])).collect();
    let mut data = json!({
        "method": request.method,
        "url": masker.mask(request.url.as_str()),
        "headers": headers,
    });
    if let Some(body) = &request.body {
        data["body"] = masker.mask(&body.text()).into();
    }
    data
}

fn timings(timings: &Timings) -> Value {
    json!({
        "began": millis(timings.began),
        "lookup": timings.lookup.map(millis),
        "connect": timings.connect.map(millis),
        "tls": timings.tls.map(millis),
        "wait": millis(timings.wait),
        "receive": millis(timings.receive),
    })
}

/// The answer of `send`, secrets masked. A body that is JSON stands as JSON, other text as text, other
/// bytes in base64.
pub(crate) fn response(exchange: &Exchange, masker: &Masker) -> Value {
    let headers: Vec<Value> = exchange
        .headers
        .iter()
        .map(|(name, value)| json!([name, header_value(name, &String::from_utf8_lossy(value), masker)]))
        .collect();
    let mut data = json!({
        "status": exchange.status,
        "reason": exchange.reason,
        "version": exchange.version,
        "headers": headers,
        "size": exchange.size,
        "elapsed_ms": millis(exchange.timings.total),
        "timings_ms": timings(&exchange.timings),
        "hops": exchange.hops.iter().map(|hop| json!({
            "kind": match hop.kind { HopKind::Redirect => "redirect", HopKind::Challenge => "challenge" },
            "status": hop.status,
            "method": hop.method,
            "url": masker.mask(&hop.url),
            "location": masker.mask(&hop.location),
            "timings_ms": timings(&hop.timings),
        })).collect::<Vec<_>>(),
        "cookies": exchange.cookies.iter().map(|note| json!({
            "name": note.name,
            "host": note.host,
            "fate": note.fate.as_str(),
            "words": note.words,
        })).collect::<Vec<_>>(),
    });
    if let Some(proxy) = &exchange.proxy {
        data["proxy"] = proxy.as_str().into();
    }
    if !exchange.holds_body() {
        return data;
    }
    if matches!(exchange.nature(), Nature::Binary(..)) {
        data["body_base64"] = base64::engine::general_purpose::STANDARD.encode(&exchange.body).into();
        return data;
    }
    let text = exchange.text();
    let text = masker.mask(&text);
    let looks_json = text.trim_start().starts_with(['{', '[']);
    data["body"] = match serde_json::from_str::<Value>(&text) {
        Ok(json) if looks_json => json,
        _ => text.into(),
    };
    data
}

/// A header value as it is shown: never a credential.
pub(crate) fn header_value(name: &str, value: &str, masker: &Masker) -> String {
    if masker.reveals() || !is_secret_header(name) {
        return masker.mask(value).into_owned();
    }
    match value.split_once(' ') {
        // The scheme is no secret, and tells what was sent.
        Some((scheme, _)) if name.to_ascii_lowercase().ends_with("authorization") => format!("{scheme} {MASK}"),
        _ => MASK.to_owned(),
    }
}

/// A request of `list`.
pub(crate) fn listed(workspace: &Workspace, id: CellId) -> Value {
    let cell = workspace.cell(id);
    let text = &workspace.source(id.source).text;
    let words = |list: Span| Kind::list(list, text).map(|word| Value::from(word.of(text))).collect::<Vec<_>>();
    let mut data = Map::new();
    data.insert("file".to_owned(), workspace.shown_path(id.source).into());
    data.insert("line".to_owned(), workspace.line_of(id).into());
    data.insert("name".to_owned(), (&*cell.name).into());
    data.insert("title".to_owned(), workspace.title(id).into());
    if let Some(request) = &cell.request {
        data.insert("method".to_owned(), request.method.map_or("GET", |method| method.of(text)).into());
        data.insert("target".to_owned(), request.target.of(text).into());
    }
    let (mut needs, mut yields, mut plays) = (Vec::new(), Vec::new(), Vec::new());
    for instruction in cell.instructions() {
        match instruction.kind {
            Kind::Needs(list) => needs.extend(words(list)),
            Kind::Yield { name, .. } => yields.push(Value::from(name.of(text))),
            Kind::Play { name, .. } => plays.push(Value::from(name.of(text))),
            _ => {}
        }
    }
    data.insert("needs".to_owned(), needs.into());
    data.insert("yields".to_owned(), yields.into());
    if !plays.is_empty() {
        data.insert("plays".to_owned(), plays.into());
    }
    data.insert("tags".to_owned(), workspace.tags(id).into());
    Value::Object(data)
}

/// How long ago something was, in words.
pub(crate) fn age(seconds: i64) -> String {
    match seconds {
        ..5 => "just now".to_owned(),
        5..60 => format!("{seconds} s ago"),
        60..3_600 => format!("{} min ago", seconds / 60),
        3_600..172_800 => format!("{} h ago", seconds / 3_600),
        _ => format!("{} days ago", seconds / 86_400),
    }
}

/// How far ahead something is, in words.
pub(crate) fn ahead(seconds: i64) -> String {
    match seconds {
        ..60 => "ends within a minute".to_owned(),
        60..3_600 => format!("{} min left", seconds / 60),
        3_600..172_800 => format!("{} h left", seconds / 3_600),
        _ => format!("{} days left", seconds / 86_400),
    }
}

/// Milliseconds with three decimals.
fn millis(duration: Duration) -> Value {
    ((duration.as_secs_f64() * 1e6).round() / 1e3).into()
}
