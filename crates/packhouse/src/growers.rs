//! Growers.

use crate::answer::{Problem, json_answer};
use crate::state::{COLD_ROOMS, Shared};
use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::{Response, StatusCode};
use serde_json::json;
use std::sync::Arc;

pub(crate) async fn list(State(shared): State<Arc<Shared>>) -> Response<Body> {
    json_answer(StatusCode::OK, &json!({ "growers": shared.stock().growers }))
}

pub(crate) async fn one(State(shared): State<Arc<Shared>>, Path(id): Path<String>) -> Result<Response<Body>, Problem> {
    let stock = shared.stock();
    let grower = stock.growers.iter().find(|grower| grower.id == id);
    let grower = grower
        .ok_or_else(|| Problem::new(StatusCode::NOT_FOUND, "no such grower", format!("no grower has the id {id}")))?;
    Ok(json_answer(StatusCode::OK, &json!(grower)))
}

pub(crate) async fn cold_rooms() -> Response<Body> {
    json_answer(StatusCode::OK, &json!({ "cold_rooms": COLD_ROOMS }))
}
