//! The scale at the sorting table: its readings as a stream of events, and page by page.

use crate::answer::json_answer;
use axum::body::{Body, Bytes};
use axum::extract::Query;
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use axum::response::IntoResponse;
use futures_util::stream;
use serde::Deserialize;
use serde_json::{Value, json};
use std::convert::Infallible;
use std::time::Duration;

/// How many readings there are page by page.
const READINGS: u64 = 12;

/// The options of a stream.
#[derive(Debug, Deserialize)]
#[serde(default)]
pub(crate) struct Wanted {
    /// How many readings there are; 0 for no end.
    count: u64,
    /// Milliseconds between two.
    every: u64,
    /// After how many the connection ends, as if it was lost.
    cut: Option<u64>,
    /// `sse`, `jsonl` or `seq`.
    format: String,
    /// How many are written at a time.
    batch: u64,
}

impl Default for Wanted {
    fn default() -> Self {
        Self { count: 5, every: 10, cut: None, format: "sse".to_owned(), batch: 1 }
    }
}

/// A reading. The numbers are the same each time.
pub(crate) fn reading(number: u64) -> Value {
    json!({ "tray": format!("T-{number}"), "kg": 12.0 + (number % 7) as f64 / 4.0, "number": number })
}

/// The readings as they come, after the one that `Last-Event-ID` names.
pub(crate) async fn stream(Query(wanted): Query<Wanted>, headers: HeaderMap) -> Response<Body> {
    let last = headers.get("last-event-id").and_then(|value| value.to_str().ok()?.parse::<u64>().ok()).unwrap_or(0);
    let end = if wanted.count == 0 { u64::MAX } else { wanted.count };
    if last >= end {
        // There is nothing more (WHATWG HTML 9.2.2).
        return StatusCode::NO_CONTENT.into_response();
    }
    let end = wanted.cut.map_or(end, |cut| end.min(last + cut));
    let media = match wanted.format.as_str() {
        "jsonl" => "application/jsonl",
        "seq" => "application/json-seq",
        _ => "text/event-stream",
    };
    let every = Duration::from_millis(wanted.every);
    let pieces = stream::unfold(last, move |number| {
        let format = wanted.format.clone();
        async move {
            if number >= end {
                return None;
            }
            if !every.is_zero() && number > last {
                tokio::time::sleep(every).await;
            }
            let until = end.min(number.saturating_add(wanted.batch.max(1)));
            let text: String =
                (number + 1..=until).map(|number| written(&format, number, number == last + 1)).collect();
            Some((Ok::<_, Infallible>(Bytes::from(text)), until))
        }
    });
    ([(header::CONTENT_TYPE, media)], Body::from_stream(pieces)).into_response()
}

fn written(format: &str, number: u64, is_first: bool) -> String {
    let reading = reading(number);
    match format {
        "jsonl" => format!("{reading}\n"),
        "seq" => format!("\u{1e}{reading}\n"),
        _ => {
            let retry = if is_first { ": scale 3\nretry: 20\n" } else { "" };
            format!("{retry}id: {number}\nevent: reading\ndata: {reading}\n\n")
        }
    }
}

/// The page that is asked for.
#[derive(Debug, Deserialize)]
#[serde(default)]
pub(crate) struct PageQuery {
    page: u64,
    size: u64,
    /// Whether the last page leads to the first.
    round: bool,
}

impl Default for PageQuery {
    fn default() -> Self {
        Self { page: 1, size: 5, round: false }
    }
}

/// The readings page by page, with a link to the next (RFC 8288) and the same in the body.
pub(crate) async fn list(Query(asked): Query<PageQuery>) -> Response<Body> {
    let size = asked.size.clamp(1, 100);
    let first = (asked.page.max(1) - 1) * size + 1;
    let readings: Vec<Value> = (first..=READINGS.min(first + size - 1)).map(reading).collect();
    let next = if first + size <= READINGS { Some(asked.page + 1) } else { asked.round.then_some(1) };
    let round = if asked.round { "&round=true" } else { "" };
    let next = next.map(|page| format!("/readings?page={page}&size={size}{round}"));
    let mut answer = json_answer(StatusCode::OK, &json!({ "readings": readings, "next": next, "all": READINGS }));
    if let Some(link) =
        next.and_then(|next| HeaderValue::from_str(&format!("</readings>; rel=\"first\", <{next}>; rel=\"next\"")).ok())
    {
        answer.headers_mut().insert(header::LINK, link);
    }
    answer
}
