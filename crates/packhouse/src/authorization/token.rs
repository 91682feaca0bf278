//! The token endpoint: every grant.

use super::assertion::{self, now};
use super::client::SCALE;
use super::proof::{self, Refused};
use super::{Form, Granted, client, derived, field, form, issuer, refuse, with_nonce};
use crate::answer::json_answer;
use crate::state::Shared;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, Response, StatusCode};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde_json::json;
use sha2::{Digest, Sha256};
use std::sync::Arc;

const DEVICE_CODE: &str = "urn:ietf:params:oauth:grant-type:device_code";
const JWT_BEARER: &str = "urn:ietf:params:oauth:grant-type:jwt-bearer";
const TOKEN_EXCHANGE: &str = "urn:ietf:params:oauth:grant-type:token-exchange";

/// A token that ends soon ends after this many seconds, any other after an hour.
const BRIEF: u32 = 5;

/// The grant of a request, and the claims of its ID token.
struct Decision {
    granted: Granted,
    nonce: Option<String>,
    renewed: bool,
}

impl From<Granted> for Decision {
    fn from(granted: Granted) -> Self {
        Self { granted, nonce: None, renewed: false }
    }
}

/// Gives tokens. With the scope `brief` they end after five seconds.
pub(crate) async fn token(State(shared): State<Arc<Shared>>, headers: HeaderMap, body: Bytes) -> Response<Body> {
    let form = form(&body);
    let issuer = issuer(&shared, &headers);
    let bound_to = match headers.contains_key("dpop") {
        false => None,
        true => {
            let url = format!("{issuer}/oauth/token");
            match proof::verify(&shared, &headers, &proof::Expected { method: "POST", url: &url, token: None }) {
                Ok(thumbprint) => Some(thumbprint),
                Err(Refused::Nonce) => {
                    let refused = refuse(StatusCode::BAD_REQUEST, "use_dpop_nonce", "the proof has no nonce of ours");
                    return with_nonce(&shared, refused);
                }
                Err(Refused::Invalid) => {
                    return refuse(StatusCode::BAD_REQUEST, "invalid_dpop_proof", "the proof is not valid");
                }
            }
        }
    };
    let Decision { mut granted, nonce, renewed } = match decide(&shared, &headers, &form, &issuer) {
        Ok(decision) => decision,
        Err(refused) => return *refused,
    };
    granted.bound_to = bound_to;
    let mut stock = shared.stock();
    let grants = &mut stock.authorization;
    grants.given += 1;
    let number = grants.given;
    let (access, refresh) = (derived(&shared, "access", number), derived(&shared, "refresh", number));
    grants.access.insert(access.clone(), granted.clone());
    grants.refresh.insert(refresh.clone(), granted.clone());
    let kind = if granted.bound_to.is_some() { "DPoP" } else { "Bearer" };
    let seconds = if granted.scope.contains("brief") { BRIEF } else { 3_600 };
    let mut answer = json!({
        "access_token": access, "token_type": kind, "expires_in": seconds, "refresh_token": refresh,
        "scope": granted.scope, "renewed": renewed,
    });
    if granted.scope.split(' ').any(|scope| scope == "openid") && granted.user.is_some() && !renewed {
        // A test may get the ID token of another sign-in.
        let nonce = if granted.scope.contains("mistaken") { Some("another".to_owned()) } else { nonce };
        let claims =
            json!({ "iss": issuer, "aud": granted.client, "sub": granted.user, "exp": now() + 300, "nonce": nonce });
        let encode = |text: String| URL_SAFE_NO_PAD.encode(text);
        answer["id_token"] =
            format!("{}.{}.", encode("{\"alg\":\"none\"}".to_owned()), encode(claims.to_string())).into();
    }
    if field(&form, "grant_type") == TOKEN_EXCHANGE {
        answer["issued_token_type"] = "urn:ietf:params:oauth:token-type:access_token".into();
    }
    json_answer(StatusCode::OK, &answer)
}

fn decide(shared: &Shared, headers: &HeaderMap, form: &Form, issuer: &str) -> Result<Decision, Box<Response<Body>>> {
    let invalid =
        || Box::new(refuse(StatusCode::BAD_REQUEST, "invalid_grant", "this grant is not valid, or has ended"));
    let audience = form.iter().filter(|(name, _)| matches!(name.as_str(), "audience" | "resource"));
    let audience: Vec<String> = audience.map(|(_, value)| value.clone()).collect();
    let scope = field(form, "scope").to_owned();
    if field(form, "grant_type") == JWT_BEARER {
        // The assertion itself says who asks.
        let audiences = [issuer.to_owned(), format!("{issuer}/oauth/token")];
        let claims = assertion::verify(shared, field(form, "assertion"), &audiences).map_err(|_| invalid())?;
        if claims["iss"] != SCALE {
            return Err(invalid());
        }
        let user = claims["sub"].as_str().filter(|user| *user != SCALE).map(str::to_owned);
        let scope = claims["scope"].as_str().map_or(scope, str::to_owned);
        return Ok(Granted { client: SCALE.to_owned(), user, scope, audience, bound_to: None }.into());
    }
    let client = client::authenticate(shared, headers, form)?;
    let granted = Granted { client: client.clone(), user: None, scope, audience, bound_to: None };
    let clerk = shared.server.clerk();
    let grants = &mut shared.stock().authorization;
    match field(form, "grant_type") {
        "client_credentials" => Ok(granted.into()),
        "password" if (field(form, "username"), field(form, "password")) == (clerk, shared.server.password()) => {
            Ok(Granted { user: Some(clerk.to_owned()), ..granted }.into())
        }
        "refresh_token" => {
            let before = grants.refresh.remove(field(form, "refresh_token")).filter(|before| before.client == client);
            let before = before.ok_or_else(invalid)?;
            let scope = if granted.scope.is_empty() { before.scope.clone() } else { granted.scope };
            Ok(Decision { granted: Granted { scope, ..before }, nonce: None, renewed: true })
        }
        "authorization_code" => {
            // Once, whatever comes of it (RFC 6749 4.1.2).
            let code = grants.codes.remove(field(form, "code")).ok_or_else(invalid)?;
            let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(field(form, "code_verifier")));
            let fits = code.challenge == challenge
                && code.redirect_uri == field(form, "redirect_uri")
                && code.granted.client == client;
            if fits {
                Ok(Decision { granted: code.granted, nonce: code.nonce, renewed: false })
            } else {
                Err(invalid())
            }
        }
        DEVICE_CODE => {
            let name = field(form, "device_code");
            let device = grants.devices.get_mut(name).filter(|device| device.granted.client == client);
            let device = device.ok_or_else(invalid)?;
            device.asked += 1;
            let refused =
                |error: &str| Err(Box::new(refuse(StatusCode::BAD_REQUEST, error, "the clerk has not agreed")));
            match device.decided {
                None if device.granted.scope.contains("brief") => refused("expired_token"),
                None => refused("authorization_pending"),
                Some(false) => refused("access_denied"),
                Some(true) => grants.devices.remove(name).map(|device| device.granted.into()).ok_or_else(invalid),
            }
        }
        TOKEN_EXCHANGE => {
            let subject = grants.access.get(field(form, "subject_token")).ok_or_else(invalid)?;
            Ok(Granted { user: subject.user.clone(), ..granted }.into())
        }
        "password" => Err(invalid()),
        _ => Err(Box::new(refuse(StatusCode::BAD_REQUEST, "unsupported_grant_type", "no such grant"))),
    }
}
