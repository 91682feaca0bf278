//! Weighings of lots.

use crate::answer::{Fields, Problem, json_answer, object};
use crate::state::{Shared, Weighing};
use crate::{access, lots};
use axum::body::{Body, Bytes};
use axum::extract::{Path, State};
use axum::http::{HeaderMap, Response, StatusCode};
use serde_json::json;
use std::sync::Arc;

pub(crate) async fn list(State(shared): State<Arc<Shared>>, Path(id): Path<String>) -> Result<Response<Body>, Problem> {
    let stock = shared.stock();
    let lot = &stock.lots[&lots::find(&stock, &id)?];
    let total: f64 = lot.weighings.iter().map(|weighing| weighing.kg).sum();
    Ok(json_answer(StatusCode::OK, &json!({ "lot": lot.id, "weighings": lot.weighings, "total_kg": total })))
}

pub(crate) async fn add(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response<Body>, Problem> {
    access::require(&shared, &headers)?;
    let mut stock = shared.stock();
    let number = lots::find(&stock, &id)?;
    lots::may_change(&stock.lots[&number], &headers)?;
    let mut fields = Fields::new(object(&headers, &body)?);
    let tray = fields.text("tray");
    let kg = fields.number("kg", 0.1, 500.0, false);
    fields.need("tray", &tray);
    fields.need("kg", &kg);
    fields.finish()?;
    let weighing = Weighing { tray: tray.unwrap_or_default(), kg: kg.unwrap_or_default() };
    let answer = json!({ "lot": id, "tray": weighing.tray, "kg": weighing.kg });
    stock.lots.entry(number).and_modify(|lot| lot.weighings.push(weighing));
    Ok(json_answer(StatusCode::CREATED, &answer))
}
