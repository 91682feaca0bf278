//! The exchanges of the log as a description is about them.

use crate::error::CommandError;
use crate::project::{Project, state};
use crate::run::response_source::LoggedResponse;
use url::Url;
use yieldtray_description::{Contract, Observation};
use yieldtray_http::{Exchange, GRAPHQL_MEDIA_TYPE, HopKind, PreparedRequest};
use yieldtray_store::log::Filter;

/// Exchanges that are looked at: the newest.
const MAX_EXCHANGES: usize = 20_000;

/// The exchanges of the chosen environment that are ones of this API, the newest first.
pub(super) fn observations(
    project: &Project,
    contract: &Contract,
    since: Option<i64>,
) -> Result<Vec<Observation>, CommandError> {
    let Some(store) = state::open(project)? else { return Ok(Vec::new()) };
    let environment = Some(state::environment(&project.settings).to_owned());
    let filter = Filter { since, environment, ..Filter::default() };
    let mut numbers = Vec::new();
    store.exchanges(&filter, |listed| {
        // The URL tells at once whether a server is another one.
        let is_own = Url::parse(&listed.summary.url).is_ok_and(|url| contract.path_of(&url).is_some());
        if is_own && listed.summary.status.is_some() {
            numbers.push(listed.number);
        }
        numbers.len() < MAX_EXCHANGES
    })?;
    let mut found = Vec::new();
    for number in numbers {
        let Some((listed, payload)) = store.exchange(number)? else { continue };
        // One that a later version wrote is left out.
        let Ok(logged) = LoggedResponse::read(&listed, payload) else { continue };
        if let Some(exchange) = logged.exchange.exchange() {
            found.extend(observation(number, contract, &exchange));
            found.extend(redirects(number, contract, &exchange));
        }
    }
    Ok(found)
}

fn observation(number: i64, contract: &Contract, exchange: &Exchange) -> Option<Observation> {
    let request = &exchange.sent;
    if is_graphql(request) && !contract.is_described(&request.method, &request.url) {
        return None;
    }
    let body = request.body.as_ref().map(|body| body.text());
    Some(Observation {
        number,
        method: request.method.clone(),
        path: contract.described_path(&request.method, &request.url)?,
        query: request.url.query_pairs().map(|(name, _)| name.into_owned()).collect(),
        headers: request.headers.iter().map(|(name, _)| name.to_ascii_lowercase()).collect(),
        request_body: body.and_then(|text| serde_json::from_str(&text).ok()),
        status: exchange.status,
        media_type: Some(exchange.media_type()),
        response_body: serde_json::from_slice(&exchange.body).ok(),
    })
}

/// The redirects that were followed: of these the log has the status alone.
fn redirects(number: i64, contract: &Contract, exchange: &Exchange) -> Vec<Observation> {
    let hops = exchange.hops.iter().filter(|hop| hop.kind == HopKind::Redirect);
    let observed = hops.filter_map(|hop| {
        let url = Url::parse(&hop.url).ok()?;
        Some(Observation {
            number,
            method: hop.method.clone(),
            path: contract.described_path(&hop.method, &url)?,
            query: url.query_pairs().map(|(name, _)| name.into_owned()).collect(),
            headers: Vec::new(),
            request_body: None,
            status: hop.status,
            media_type: None,
            response_body: None,
        })
    });
    observed.collect()
}

/// Whether a request is one of GraphQL, which descriptions in OpenAPI rarely have.
fn is_graphql(request: &PreparedRequest) -> bool {
    let accepts = request.headers.iter().filter(|(name, _)| name.eq_ignore_ascii_case("accept"));
    accepts.into_iter().any(|(_, value)| value.contains(GRAPHQL_MEDIA_TYPE))
}
