//! Grading takes its time: a job is queued, runs, and is done. And a scale that fails before it works.

use crate::answer::{Problem, json_answer};
use crate::lots;
use crate::state::Shared;
use axum::body::Body;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderValue, Response, StatusCode, header};
use serde::Deserialize;
use serde_json::json;
use std::sync::Arc;

/// How often a job is asked for before it is done.
const DONE_AFTER: u32 = 3;

/// Starts the grading of a lot.
pub(crate) async fn start(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<Response<Body>, Problem> {
    let mut stock = shared.stock();
    lots::find(&stock, &id)?;
    let number = stock.gradings.len() + 1;
    stock.gradings.push((id.clone(), 0));
    let mut answer = json_answer(StatusCode::ACCEPTED, &json!({ "job": number, "lot": id, "state": "queued" }));
    if let Ok(place) = HeaderValue::from_str(&format!("/gradings/{number}")) {
        answer.headers_mut().insert(header::LOCATION, place);
    }
    Ok(answer)
}

/// How far a job is: further each time somebody asks.
pub(crate) async fn state(
    State(shared): State<Arc<Shared>>,
    Path(number): Path<usize>,
) -> Result<Response<Body>, Problem> {
    let mut stock = shared.stock();
    let job = number.checked_sub(1).and_then(|index| stock.gradings.get_mut(index));
    let Some((lot, asked)) = job else {
        return Err(Problem::new(StatusCode::NOT_FOUND, "no such job", format!("no grading has the number {number}")));
    };
    *asked += 1;
    let state = match *asked {
        1 => "queued",
        DONE_AFTER.. => "done",
        _ => "running",
    };
    let grade = (state == "done").then_some("A");
    Ok(json_answer(StatusCode::OK, &json!({ "job": number, "lot": lot, "state": state, "grade": grade })))
}

#[derive(Deserialize)]
pub(crate) struct Flaky {
    key: String,
    fails: u32,
}

/// A scale that fails so often for each key before it works.
pub(crate) async fn flaky(
    State(shared): State<Arc<Shared>>,
    Query(Flaky { key, fails }): Query<Flaky>,
) -> Result<Response<Body>, Problem> {
    let mut stock = shared.stock();
    let asked = stock.flaky.entry(key).or_default();
    *asked += 1;
    if *asked <= fails {
        return Err(Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the scale swings", "ask again in a moment"));
    }
    Ok(json_answer(StatusCode::OK, &json!({ "scale": "gate-1", "kg": 398.0, "asked": *asked })))
}
