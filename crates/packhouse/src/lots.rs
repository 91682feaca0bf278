//! Lots of fruit.

use crate::access;
use crate::answer::{Fields, Problem, json_answer, object};
use crate::state::{Lot, LotState, Shared, Stock};
use axum::body::{Body, Bytes};
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use axum::response::IntoResponse;
use serde::Deserialize;
use serde_json::json;
use std::sync::Arc;

const MAX_PAGE_SIZE: usize = 100;

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Filter {
    grower: Option<String>,
    state: Option<String>,
    variety: Option<String>,
    page: Option<usize>,
    per_page: Option<usize>,
}

pub(crate) async fn list(
    State(shared): State<Arc<Shared>>,
    filter: Result<Query<Filter>, axum::extract::rejection::QueryRejection>,
) -> Result<Response<Body>, Problem> {
    let Query(filter) = filter
        .map_err(|error| Problem::new(StatusCode::BAD_REQUEST, "the query cannot be taken", error.body_text()))?;
    let per_page = filter.per_page.unwrap_or(20);
    let page = filter.page.unwrap_or(1);
    if !(1..=MAX_PAGE_SIZE).contains(&per_page) || page == 0 {
        let detail = format!("page counts from 1, per_page goes from 1 to {MAX_PAGE_SIZE}");
        return Err(Problem::new(StatusCode::BAD_REQUEST, "the query cannot be taken", detail));
    }
    let stock = shared.stock();
    let fits = |wanted: &Option<String>, is: &str| wanted.as_deref().is_none_or(|wanted| wanted == is);
    let found: Vec<&Lot> = stock
        .lots
        .values()
        .filter(|lot| {
            let state = if lot.state == LotState::Open { "open" } else { "closed" };
            fits(&filter.grower, &lot.grower) && fits(&filter.variety, &lot.variety) && fits(&filter.state, state)
        })
        .collect();
    let pages = found.len().div_ceil(per_page).max(1);
    let shown: Vec<&Lot> = found.iter().skip((page - 1).saturating_mul(per_page)).take(per_page).copied().collect();
    let body = json!({ "lots": shown, "page": page, "pages": pages, "total": found.len() });
    let mut answer = json_answer(StatusCode::OK, &body);
    // RFC 8288
    let mut links = Vec::new();
    if page < pages {
        links.push(format!("</lots?page={}&per_page={per_page}>; rel=\"next\"", page + 1));
    }
    if page > 1 {
        links.push(format!("</lots?page={}&per_page={per_page}>; rel=\"prev\"", page - 1));
    }
    if let Ok(links) = HeaderValue::from_str(&links.join(", "))
        && !links.is_empty()
    {
        answer.headers_mut().insert(header::LINK, links);
    }
    Ok(answer)
}

pub(crate) async fn create(
    State(shared): State<Arc<Shared>>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response<Body>, Problem> {
    access::require(&shared, &headers)?;
    let mut fields = Fields::new(object(&headers, &body)?);
    let mut stock = shared.stock();
    let grower = fields.text("grower");
    let bins = fields.number("bins", 1.0, 400.0, true);
    let variety = fields.text("variety");
    let reference = fields.text("ref");
    fields.need("grower", &grower);
    fields.need("bins", &bins);
    check_grower(&mut fields, &stock, grower.as_deref());
    fields.finish()?;
    let number = stock.next_lot;
    stock.next_lot += 1;
    let lot = Lot {
        id: format!("L-{number}"),
        grower: grower.unwrap_or_default(),
        variety: variety.unwrap_or_else(|| "mixed".to_owned()),
        bins: bins.unwrap_or_default() as u32,
        state: LotState::Open,
        reference,
        weighings: Vec::new(),
        version: 1,
    };
    let mut answer = with_etag(StatusCode::CREATED, &lot);
    if let Ok(location) = HeaderValue::from_str(&format!("/lots/{}", lot.id)) {
        answer.headers_mut().insert(header::LOCATION, location);
    }
    stock.lots.insert(number, lot);
    Ok(answer)
}

fn check_grower(fields: &mut Fields, stock: &Stock, grower: Option<&str>) {
    if let Some(grower) = grower
        && !stock.has_grower(grower)
    {
        fields.wrong("grower", "is no grower of ours");
    }
}

pub(crate) async fn one(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Result<Response<Body>, Problem> {
    let stock = shared.stock();
    let lot = &stock.lots[&find(&stock, &id)?];
    let known = headers.get(header::IF_NONE_MATCH).and_then(|value| value.to_str().ok());
    if known == Some(lot.etag().as_str()) {
        return Ok((StatusCode::NOT_MODIFIED, [(header::ETAG, lot.etag())]).into_response());
    }
    Ok(with_etag(StatusCode::OK, lot))
}

pub(crate) async fn replace(
    shared: State<Arc<Shared>>,
    id: Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response<Body>, Problem> {
    update(&shared, &id, &headers, &body, true)
}

pub(crate) async fn change(
    shared: State<Arc<Shared>>,
    id: Path<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response<Body>, Problem> {
    update(&shared, &id, &headers, &body, false)
}

/// Changes a lot; with `whole` every field but `ref` must be there.
fn update(
    shared: &Shared,
    id: &str,
    headers: &HeaderMap,
    body: &Bytes,
    whole: bool,
) -> Result<Response<Body>, Problem> {
    access::require(shared, headers)?;
    let mut stock = shared.stock();
    let number = find(&stock, id)?;
    may_change(&stock.lots[&number], headers)?;
    let mut fields = Fields::new(object(headers, body)?);
    let grower = fields.text("grower");
    let variety = fields.text("variety");
    let bins = fields.number("bins", 1.0, 400.0, true);
    let reference = fields.text("ref");
    let state = match fields.text("state").as_deref() {
        None => None,
        Some("open") => Some(LotState::Open),
        Some("closed") => Some(LotState::Closed),
        Some(_) => {
            fields.wrong("state", "must be open or closed");
            None
        }
    };
    if whole {
        fields.need("grower", &grower);
        fields.need("variety", &variety);
        fields.need("bins", &bins);
        fields.need("state", &state);
    }
    check_grower(&mut fields, &stock, grower.as_deref());
    fields.finish()?;
    let lot = stock.lots.entry(number).and_modify(|lot| {
        lot.grower = grower.unwrap_or_else(|| lot.grower.clone());
        lot.variety = variety.unwrap_or_else(|| lot.variety.clone());
        lot.bins = bins.map_or(lot.bins, |bins| bins as u32);
        lot.state = state.unwrap_or(lot.state);
        lot.reference = if whole { reference } else { reference.or_else(|| lot.reference.clone()) };
        lot.version += 1;
    });
    match lot {
        std::collections::btree_map::Entry::Occupied(lot) => Ok(with_etag(StatusCode::OK, lot.get())),
        std::collections::btree_map::Entry::Vacant(_) => Err(no_such_lot(id)),
    }
}

pub(crate) async fn remove(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Result<StatusCode, Problem> {
    access::require(&shared, &headers)?;
    let mut stock = shared.stock();
    let number = find(&stock, &id)?;
    may_change(&stock.lots[&number], &headers)?;
    stock.lots.remove(&number);
    Ok(StatusCode::NO_CONTENT)
}

/// `/lots/` is `/lots`: a redirect that many clients follow with GET.
pub(crate) async fn with_slash() -> impl IntoResponse {
    (StatusCode::MOVED_PERMANENTLY, [(header::LOCATION, "/lots")])
}

pub(crate) fn find(stock: &Stock, id: &str) -> Result<u32, Problem> {
    stock.lot_number(id).ok_or_else(|| no_such_lot(id))
}

fn no_such_lot(id: &str) -> Problem {
    Problem::new(StatusCode::NOT_FOUND, "no such lot", format!("no lot has the id {id}"))
}

/// A closed lot stays as it is, and so does one that changed since the caller looked (RFC 9110 13.1.1).
pub(crate) fn may_change(lot: &Lot, headers: &HeaderMap) -> Result<(), Problem> {
    if lot.state == LotState::Closed {
        let detail = format!("{} was closed: its weighings are final", lot.id);
        return Err(Problem::new(StatusCode::CONFLICT, "the lot is closed", detail));
    }
    let wanted = headers.get(header::IF_MATCH).and_then(|value| value.to_str().ok());
    if wanted.is_some_and(|wanted| wanted != "*" && wanted != lot.etag()) {
        let detail = format!("{} is now {}", lot.id, lot.etag());
        return Err(Problem::new(StatusCode::PRECONDITION_FAILED, "the lot has changed", detail));
    }
    Ok(())
}

fn with_etag(status: StatusCode, lot: &Lot) -> Response<Body> {
    let mut answer = json_answer(status, &json!(lot));
    if let Ok(etag) = HeaderValue::from_str(&lot.etag()) {
        answer.headers_mut().insert(header::ETAG, etag);
    }
    answer
}
