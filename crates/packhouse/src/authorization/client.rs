//! The authentication of clients: by a secret, a key, a certificate, or only a name.

use super::assertion::{self, CLIENT_ASSERTION};
use super::{Form, field, issuer, refuse};
use crate::state::Shared;
use axum::body::Body;
use axum::http::{HeaderMap, Response, StatusCode, header};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

/// The client with the secret that [`crate::Server::api_key`] gives.
const DESK: &str = "packhouse-desk";
/// The client with a key: [`crate::Server::client_key`].
pub(super) const SCALE: &str = "packhouse-scale";
/// The client without a secret, for people with a browser or a device.
const PHONE: &str = "packhouse-phone";

/// The name of the client, if it is the one it says.
pub(super) fn authenticate(shared: &Shared, headers: &HeaderMap, form: &Form) -> Result<String, Box<Response<Body>>> {
    let unknown = || Box::new(refuse(StatusCode::UNAUTHORIZED, "invalid_client", "this client is not known"));
    let basic = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    let secret = shared.server.api_key();
    if let Some(given) = basic.and_then(|value| value.strip_prefix("Basic ")) {
        let is_known = given == STANDARD.encode(format!("{DESK}:{secret}"));
        return if is_known { Ok(DESK.to_owned()) } else { Err(unknown()) };
    }
    if field(form, "client_assertion_type") == CLIENT_ASSERTION {
        let audience = [issuer(shared, headers), format!("{}/oauth/token", issuer(shared, headers))];
        let claims = assertion::verify(shared, field(form, "client_assertion"), &audience).map_err(|_| unknown())?;
        return if claims["sub"] == SCALE && claims["iss"] == SCALE { Ok(SCALE.to_owned()) } else { Err(unknown()) };
    }
    match (field(form, "client_id"), field(form, "client_secret")) {
        (DESK, given) if given == secret => Ok(DESK.to_owned()),
        (PHONE, "") => Ok(PHONE.to_owned()),
        // Whoever has a certificate got this far.
        (SCALE, "") if shared.wants_certificates => Ok(SCALE.to_owned()),
        _ => Err(unknown()),
    }
}

/// Whether people sign in through this client.
pub(super) fn is_for_people(client: &str) -> bool {
    matches!(client, DESK | PHONE)
}
