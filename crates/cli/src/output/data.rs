//! The shapes of `--json`, described in docs/commands.md. A field that does not apply is left out.

use serde_json::{Map, Value, json};
use std::time::Duration;
use yieldtray_engine::{CellReport, Event, Summary, TokenReport};
use yieldtray_http::{Exchange, PreparedRequest};
use yieldtray_report::record::{RequestRecord, ResponseRecord};
use yieldtray_report::{Entry, ProblemRecord, RunInfo, millis};
use yieldtray_source::{Problem, Span};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace};

/// Problems: code, level, message, hint, and the place with both ends; lines and columns from 1.
pub(crate) fn problems(workspace: &Workspace, problems: &[Problem]) -> Vec<Value> {
    problems.iter().map(|problem| json!(ProblemRecord::of(workspace, problem))).collect()
}

fn extend(data: &mut Value, more: Value) {
    if let (Value::Object(data), Value::Object(more)) = (data, more) {
        data.extend(more);
    }
}

/// One event of a replay; the last has the seed, if values were generated.
pub(crate) fn event(workspace: &Workspace, event: &Event, elapsed: Duration, seed: Option<u64>) -> Value {
    match event {
        Event::RunStarted { environment, cells } => {
            json!({ "event": "started", "environment": environment, "cells": cells })
        }
        Event::TokenObtained(report) => {
            let mut data = json!({ "event": "token" });
            extend(&mut data, token(report));
            data
        }
        Event::CellFinished(report) => {
            let mut data = json!({ "event": "cell" });
            extend(&mut data, cell_report(workspace, report));
            data
        }
        Event::RunFinished(summary) => {
            let mut data = json!({ "event": "finished" });
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
    let mut data = json!(summary);
    data["elapsed_ms"] = millis(elapsed).into();
    data["exit_code"] = summary.exit_code().code().into();
    data
}

/// The figures of reports that were joined.
pub(crate) fn joined(about: &RunInfo, entries: usize) -> Value {
    let mut data = totals(&about.totals, Duration::try_from_secs_f64(about.elapsed_ms / 1e3).unwrap_or_default());
    data["merged"] = about.merged.into();
    data["entries"] = entries.into();
    data
}

/// Something the tool refuses, without a place in a text.
pub(crate) fn refusal(code: Option<&str>, message: &str, hint: Option<&str>) -> Value {
    json!({ "diagnostics": [{ "code": code, "severity": "error", "message": message, "hint": hint }] })
}

/// A cell and its outcome.
pub(crate) fn cell_report(workspace: &Workspace, report: &CellReport) -> Value {
    json!(Entry { place: None, ..Entry::of(workspace, report) })
}

/// A request as it goes out, secrets masked; a file in its body by its name.
pub(crate) fn request(request: &PreparedRequest, masker: &Masker) -> Value {
    json!(RequestRecord::of(request, masker))
}

/// The response of `send`, secrets masked. A JSON body is embedded as JSON, other text as text, other bytes in base64.
pub(crate) fn response(exchange: &Exchange, masker: &Masker) -> Value {
    let mut response = ResponseRecord::of(exchange, masker);
    let body = response.body.take();
    let mut data = json!(response);
    if let Some(text) = body {
        let looks_json = text.trim_start().starts_with(['{', '[']);
        data["body"] = match serde_json::from_str::<Value>(&text) {
            Ok(json) if looks_json => json,
            _ => text.into(),
        };
    }
    data
}

/// A request of `list`.
pub(crate) fn listed(workspace: &Workspace, id: CellId) -> Value {
    let cell = workspace.cell(id);
    let text = &workspace.source(id.source).text;
    let texts =
        |list: Span| InstructionKind::list(list, text).map(|word| Value::from(word.of(text))).collect::<Vec<_>>();
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
            InstructionKind::Needs(list) => needs.extend(texts(list)),
            InstructionKind::Yield { name, .. } => yields.push(Value::from(name.of(text))),
            InstructionKind::Play { name, .. } => plays.push(Value::from(name.of(text))),
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
        ..60 => "expires within a minute".to_owned(),
        60..3_600 => format!("{} min left", seconds / 60),
        3_600..172_800 => format!("{} h left", seconds / 3_600),
        _ => format!("{} days left", seconds / 86_400),
    }
}
