//! Codes that a clerk enters for a device (RFC 8628).

use super::{DeviceCode, Granted, client, derived, escaped, field, form, html, issuer};
use crate::answer::json_answer;
use crate::state::Shared;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, Response, StatusCode};
use serde_json::json;
use std::sync::Arc;

/// Gives a code to a device.
pub(crate) async fn code(State(shared): State<Arc<Shared>>, headers: HeaderMap, body: Bytes) -> Response<Body> {
    let form = form(&body);
    let client = match client::authenticate(&shared, &headers, &form) {
        Ok(client) => client,
        Err(refused) => return *refused,
    };
    let scope = field(&form, "scope").to_owned();
    let page = format!("{}/oauth/device", issuer(&shared, &headers));
    let mut stock = shared.stock();
    stock.authorization.given += 1;
    let number = stock.authorization.given;
    let (device_code, user_code) = (derived(&shared, "device", number), format!("PEAR-{:04}", 2037 + number));
    // A code that nobody has the time to enter.
    let seconds = if scope.contains("brief") { 1 } else { 300 };
    let granted = Granted { client, scope, ..Granted::default() };
    let known = DeviceCode { user_code: user_code.clone(), granted, decided: None, asked: 0 };
    stock.authorization.devices.insert(device_code.clone(), known);
    json_answer(
        StatusCode::OK,
        &json!({
            "device_code": device_code, "user_code": user_code, "verification_uri": page,
            "verification_uri_complete": format!("{page}?code={user_code}"), "expires_in": seconds, "interval": 1,
        }),
    )
}

/// The page where the code is entered.
pub(crate) async fn page() -> Response<Body> {
    let content = "<form method=\"post\"><p><label>The code on the device <input name=\"code\" id=\"code\"></label></p>\
                   <button name=\"answer\" value=\"allow\" id=\"allow\">Allow</button> \
                   <button name=\"answer\" value=\"deny\" id=\"deny\">Deny</button></form>";
    html(StatusCode::OK, "Which device?", content)
}

/// Takes the code and what the clerk decided.
pub(crate) async fn entered(State(shared): State<Arc<Shared>>, body: Bytes) -> Response<Body> {
    let form = form(&body);
    let (entered, allowed) = (field(&form, "code").trim().to_ascii_uppercase(), field(&form, "answer") == "allow");
    let clerk = shared.server.clerk().to_owned();
    let mut stock = shared.stock();
    match stock.authorization.devices.values_mut().find(|device| device.user_code == entered) {
        None => html(StatusCode::NOT_FOUND, "No such code", &format!("<p>{}</p>", escaped(&entered))),
        Some(device) => {
            device.decided = Some(allowed);
            device.granted.user = Some(clerk);
            html(StatusCode::OK, "Done", "<p>The device goes on by itself.</p>")
        }
    }
}
