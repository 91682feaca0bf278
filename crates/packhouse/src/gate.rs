//! The gate: trucks announce themselves with a form, and the scale takes its time.

use crate::answer::{Problem, json_answer};
use crate::state::Shared;
use axum::body::{Body, Bytes};
use axum::extract::{Query, RawForm, State};
use axum::http::{Response, StatusCode, header};
use axum::response::IntoResponse;
use futures_util::stream;
use serde::Deserialize;
use serde_json::json;
use std::sync::Arc;
use std::time::Duration;

/// The longest the scale can be asked to wait.
const MAX_DELAY: Duration = Duration::from_secs(30);

/// Bytes of one chunk of an export.
const BLOCK_BYTES: usize = 256 << 10;

/// Takes a truck's form (application/x-www-form-urlencoded).
pub(crate) async fn arrive(
    State(shared): State<Arc<Shared>>,
    RawForm(form): RawForm,
) -> Result<Response<Body>, Problem> {
    let fields: Vec<(String, String)> = url_decoded(&form);
    let value = |name: &str| fields.iter().find(|(own, _)| own == name).map(|(_, value)| value.as_str());
    let mut errors = Vec::new();
    let grower = value("grower").unwrap_or_default();
    if shared.stock().growers.iter().all(|known| known.id != grower) {
        errors.push(("grower".to_owned(), "is not known".to_owned()));
    }
    let bins = value("bins").and_then(|bins| bins.parse::<u32>().ok()).filter(|bins| (1..=400).contains(bins));
    if bins.is_none() {
        errors.push(("bins".to_owned(), "must be a whole number from 1 to 400".to_owned()));
    }
    if !errors.is_empty() {
        return Err(Problem::fields(errors));
    }
    let arrival = json!({ "grower": grower, "bins": bins, "truck": value("truck"), "gate": 2 });
    Ok(json_answer(StatusCode::CREATED, &arrival))
}

fn url_decoded(form: &Bytes) -> Vec<(String, String)> {
    serde_urlencoded::from_bytes(form).unwrap_or_default()
}

#[derive(Deserialize)]
pub(crate) struct Wait {
    #[serde(default)]
    ms: u64,
}

/// The reading of the scale, once it is stable.
pub(crate) async fn reading(Query(wait): Query<Wait>) -> Response<Body> {
    tokio::time::sleep(Duration::from_millis(wait.ms).min(MAX_DELAY)).await;
    json_answer(StatusCode::OK, &json!({ "scale": "gate-2", "kg": 412.5, "still": true }))
}

#[derive(Deserialize)]
pub(crate) struct Size {
    bytes: u64,
}

/// The whole season's weighings: as many bytes as are asked for, made while they go out.
pub(crate) async fn export(Query(Size { bytes }): Query<Size>) -> impl IntoResponse {
    let line = b"L-2043,gala,24,412.5\n";
    let block = Bytes::from(line.iter().copied().cycle().take(BLOCK_BYTES).collect::<Vec<u8>>());
    let chunks = stream::unfold(bytes, move |left| {
        let size = left.min(BLOCK_BYTES as u64);
        let chunk = block.slice(..size as usize);
        async move { (left > 0).then_some((Ok::<_, std::io::Error>(chunk), left - size)) }
    });
    let headers = [(header::CONTENT_TYPE, "text/csv".to_owned()), (header::CONTENT_LENGTH, bytes.to_string())];
    (headers, Body::from_stream(chunks))
}
