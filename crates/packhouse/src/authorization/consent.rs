//! The page where a clerk agrees (RFC 6749 4.1.1).

use super::{Code, Form, Granted, client, derived, escaped, field, form, html, issuer};
use crate::state::Shared;
use axum::body::{Body, Bytes};
use axum::extract::{RawQuery, State};
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use axum::response::IntoResponse;
use std::sync::Arc;

/// Asks the clerk.
pub(crate) async fn page(RawQuery(query): RawQuery) -> Response<Body> {
    let asked = form(query.unwrap_or_default().as_bytes());
    if let Err(why) = check(&asked) {
        return html(StatusCode::BAD_REQUEST, "This cannot be asked", &format!("<p>{why}</p>"));
    }
    let hidden: String = asked
        .iter()
        .map(|(name, value)| format!("<input type=\"hidden\" name=\"{}\" value=\"{}\">", escaped(name), escaped(value)))
        .collect();
    let content = format!(
        "<p><b>{}</b> wants to use the packhouse for you: {}.</p><form method=\"post\">{hidden}\
         <button name=\"answer\" value=\"allow\" id=\"allow\">Allow</button> \
         <button name=\"answer\" value=\"deny\" id=\"deny\">Deny</button></form>",
        escaped(field(&asked, "client_id")),
        escaped(field(&asked, "scope")),
    );
    html(StatusCode::OK, "Allow access?", &content)
}

/// Takes what the clerk decided, and sends the browser back.
pub(crate) async fn decided(State(shared): State<Arc<Shared>>, headers: HeaderMap, body: Bytes) -> Response<Body> {
    let asked = form(&body);
    if let Err(why) = check(&asked) {
        return html(StatusCode::BAD_REQUEST, "This cannot be asked", &format!("<p>{why}</p>"));
    }
    let redirect_uri = field(&asked, "redirect_uri").to_owned();
    let mut answer: Vec<(&str, String)> = Vec::new();
    if field(&asked, "answer") == "allow" {
        let audience = asked.iter().filter(|(name, _)| matches!(name.as_str(), "audience" | "resource"));
        let granted = Granted {
            client: field(&asked, "client_id").to_owned(),
            user: Some(shared.server.clerk().to_owned()),
            scope: field(&asked, "scope").to_owned(),
            audience: audience.map(|(_, value)| value.clone()).collect(),
            bound_to: None,
        };
        let challenge = field(&asked, "code_challenge").to_owned();
        let nonce = Some(field(&asked, "nonce").to_owned()).filter(|nonce| !nonce.is_empty());
        let mut stock = shared.stock();
        stock.authorization.given += 1;
        let code = derived(&shared, "code", stock.authorization.given);
        let known = Code { granted, redirect_uri: redirect_uri.clone(), challenge, nonce };
        // A test may have a code that was redeemed by another.
        if !field(&asked, "scope").contains("replayed") {
            stock.authorization.codes.insert(code.clone(), known);
        }
        answer.push(("code", code));
    } else {
        answer.push(("error", "access_denied".to_owned()));
        answer.push(("error_description", "the clerk said no".to_owned()));
    }
    // A test may send the browser back with another state.
    let state = if field(&asked, "scope").contains("confused") { "another" } else { field(&asked, "state") };
    answer.push(("state", state.to_owned()));
    answer.push(("iss", issuer(&shared, &headers)));
    let target = format!("{redirect_uri}?{}", serde_urlencoded::to_string(answer).unwrap_or_default());
    let Ok(target) = HeaderValue::from_str(&target) else { return StatusCode::BAD_REQUEST.into_response() };
    (StatusCode::SEE_OTHER, [(header::LOCATION, target)]).into_response()
}

/// The violation of a request for an authorization. The browser is never sent to another machine.
fn check(asked: &Form) -> Result<(), &'static str> {
    let redirect = field(asked, "redirect_uri");
    let is_loopback =
        ["http://127.0.0.1:", "http://localhost:", "http://[::1]:"].iter().any(|it| redirect.starts_with(it));
    match () {
        () if !client::is_for_people(field(asked, "client_id")) => Err("this client is not known"),
        () if !is_loopback => Err("the redirect address is not registered"),
        () if field(asked, "response_type") != "code" => Err("only codes are given"),
        () if field(asked, "code_challenge_method") != "S256" => Err("a code challenge is wanted (RFC 7636)"),
        () => Ok(()),
    }
}
