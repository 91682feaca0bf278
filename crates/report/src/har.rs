//! HTTP Archive 1.2: exchanges, for tools that show network traffic. Cells that were not sent are left out.

use super::entry::Entry;
use super::explain::headline;
use super::record::{RequestRecord, ResponseRecord};
use super::time::duration;
use super::{Format, Frame, RunInfo, Streams};
use chrono::{DateTime, SecondsFormat, TimeDelta, Utc};
use serde_json::{Value, json};
use url::Url;

/// Writes it.
pub(super) struct Har {
    began: DateTime<Utc>,
    entries: usize,
}

impl Har {
    pub(super) fn new(about: &RunInfo) -> Self {
        Self { began: about.started, entries: 0 }
    }
}

impl Format for Har {
    fn entry(&mut self, entry: &Entry<'_>, to: &mut Streams) {
        let Some(request) = &entry.request else { return };
        let after = TimeDelta::from_std(duration(entry.started_ms.unwrap_or_default())).unwrap_or_default();
        let version = entry.response.as_ref().map_or("", |response| &*response.version);
        let data = json!({
            "startedDateTime": (self.began + after).to_rfc3339_opts(SecondsFormat::Micros, true),
            "time": entry.elapsed_ms.unwrap_or_default(),
            "request": sent(request, version),
            "response": entry.response.as_ref().map_or_else(|| no_answer(entry), answer),
            "cache": {},
            "timings": timings(entry),
            "comment": comment(entry),
        });
        if self.entries > 0 {
            to.all.push_str(",\n");
        }
        self.entries += 1;
        to.all.push_str(&data.to_string());
    }

    fn frame(&mut self, about: &RunInfo) -> Frame {
        let (name, version) = about.tool.split_once(' ').unwrap_or((&about.tool, ""));
        let creator = json!({ "name": name, "version": version });
        let head = format!("{{\"log\":{{\"version\":\"1.2\",\"creator\":{creator},\n\"entries\":[\n");
        Frame { head, tail: "\n]}}\n".to_owned(), ..Frame::default() }
    }
}

fn sent(request: &RequestRecord<'_>, version: &str) -> Value {
    let pairs = Url::parse(&request.url).map(|url| url.query_pairs().into_owned().collect::<Vec<_>>());
    let query = pairs.unwrap_or_default();
    let mut data = json!({
        "method": request.method,
        "url": request.url,
        "httpVersion": version,
        "cookies": [],
        "headers": named(&request.headers),
        "queryString": named(&query),
        "headersSize": -1,
        "bodySize": request.body.as_ref().map_or(0, |body| body.len()),
    });
    if let Some(body) = &request.body {
        let media = request.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("content-type"));
        data["postData"] = json!({ "mimeType": media.map_or("", |(_, value)| value), "text": body });
    }
    data
}

fn answer(response: &ResponseRecord<'_>) -> Value {
    let mut content = json!({
        "size": response.size,
        "mimeType": response.header("content-type").unwrap_or_default(),
    });
    if let Some(body) = &response.body {
        content["text"] = (&**body).into();
    } else if let Some(body) = &response.body_base64 {
        content["text"] = body.as_str().into();
        content["encoding"] = "base64".into();
    } else if response.size > 0 {
        content["comment"] = "the body was not kept".into();
    }
    json!({
        "status": response.status,
        "statusText": response.reason,
        "httpVersion": response.version,
        "cookies": [],
        "headers": named(&response.headers),
        "content": content,
        "redirectURL": response.header("location").unwrap_or_default(),
        "headersSize": -1,
        // The number of bytes on the wire is unknown if they were encoded.
        "bodySize": -1,
    })
}

/// A request without a response: by convention the status is 0.
fn no_answer(entry: &Entry<'_>) -> Value {
    json!({
        "status": 0,
        "statusText": headline(entry),
        "httpVersion": "",
        "cookies": [],
        "headers": [],
        "content": { "size": 0, "mimeType": "" },
        "redirectURL": "",
        "headersSize": -1,
        "bodySize": -1,
    })
}

fn named<T: AsRef<str>>(pairs: &[(T, T)]) -> Vec<Value> {
    pairs.iter().map(|(name, value)| json!({ "name": name.as_ref(), "value": value.as_ref() })).collect()
}

/// The phases of the last hop. Earlier hops, and our own work, count as blocked, so that the parts add up to the
/// whole.
fn timings(entry: &Entry<'_>) -> Value {
    let whole = entry.elapsed_ms.unwrap_or_default();
    let Some(phases) = entry.response.as_ref().map(|response| response.timings_ms) else {
        return json!({ "blocked": 0, "dns": -1, "connect": -1, "ssl": -1, "send": 0, "wait": whole, "receive": 0 });
    };
    let connect = phases.connect.map(|connect| connect + phases.tls.unwrap_or_default());
    let known = phases.lookup.unwrap_or_default() + connect.unwrap_or_default() + phases.wait + phases.receive;
    let optional = |time: Option<f64>| time.map_or(json!(-1), |time| json!(rounded(time)));
    json!({
        "blocked": rounded((whole - known).max(0.0)),
        "dns": optional(phases.lookup),
        // The time for TLS is part of that for connecting.
        "connect": optional(connect),
        "ssl": optional(phases.tls),
        "send": 0,
        "wait": phases.wait,
        "receive": phases.receive,
    })
}

fn rounded(millis: f64) -> f64 {
    (millis * 1e3).round() / 1e3
}

fn comment(entry: &Entry<'_>) -> String {
    let mut message = format!("{}:{} {}: {}", entry.file, entry.line, entry.title(), entry.outcome.describe());
    for hop in entry.response.iter().flat_map(|response| &response.hops) {
        message.push_str(&format!("; {} {} → {} {}", hop.method, hop.url, hop.status, hop.location));
    }
    message
}
