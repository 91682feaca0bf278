//! The dispatch: orders that are taken only with a signature of the scale (RFC 9421), over the digest of the body (RFC 9530).

use crate::answer::{Problem, json_answer};
use crate::authorization::assertion::{is_signed, now};
use axum::body::{Body, Bytes};
use axum::http::{HeaderMap, Method, Response, StatusCode, Uri, header};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

/// How old a signature may be, in seconds.
const MAX_AGE: i64 = 60;

/// Takes an order.
pub(crate) async fn order(
    method: Method,
    uri: Uri,
    headers: HeaderMap,
    body: Bytes,
) -> Result<Response<Body>, Problem> {
    let covered = verify(&method, &uri, &headers, &body)
        .map_err(|why| Problem::new(StatusCode::UNAUTHORIZED, "the order is not signed", why))?;
    let order: Value = serde_json::from_slice(&body).unwrap_or_default();
    Ok(json_answer(StatusCode::ACCEPTED, &json!({ "trays": order["trays"], "signed": covered })))
}

/// The signed components, if the signature is valid.
fn verify(method: &Method, uri: &Uri, headers: &HeaderMap, body: &[u8]) -> Result<Vec<String>, &'static str> {
    let text = |name: &str| headers.get(name).and_then(|value| value.to_str().ok());
    let input = text("signature-input").ok_or("Signature-Input is wanted")?;
    let (label, parameters) = input.split_once('=').ok_or("Signature-Input cannot be read")?;
    let signature =
        text("signature").and_then(|value| value.strip_prefix(label)?.strip_prefix("=:")?.strip_suffix(':'));
    let signature = STANDARD.decode(signature.ok_or("Signature is wanted, with the same label")?);
    let signature = signature.map_err(|_| "Signature cannot be read")?;
    let (list, rest) =
        parameters.strip_prefix('(').and_then(|it| it.split_once(')')).ok_or("it lists no components")?;
    let parameter = |name: &str| rest.split(';').find_map(|one| one.strip_prefix(name)?.strip_prefix('='));
    let created: i64 = parameter("created").and_then(|at| at.parse().ok()).ok_or("`created` is wanted")?;
    if (now() - created).abs() > MAX_AGE {
        return Err("the signature is too old");
    }
    let host = uri.authority().map(ToString::to_string);
    let host = host.or_else(|| text(header::HOST.as_str()).map(str::to_owned)).unwrap_or_default();
    let (mut base, mut covered) = (String::new(), Vec::new());
    for component in list.split(' ').filter(|component| !component.is_empty()) {
        let name = component.trim_matches('"');
        let value = match name {
            "@method" => method.to_string(),
            "@target-uri" => format!("http://{host}{}", uri.path_and_query().map_or("/", |it| it.as_str())),
            "@authority" => host.clone(),
            "@path" => uri.path().to_owned(),
            _ if name.starts_with('@') => return Err("a component is not known here"),
            _ => text(name).ok_or("a field that is signed is not there")?.trim().to_owned(),
        };
        base.push_str(&format!("{component}: {value}\n"));
        covered.push(name.to_owned());
    }
    base.push_str(&format!("\"@signature-params\": {parameters}"));
    if !is_signed(base.as_bytes(), &signature) {
        return Err("the signature is wrong");
    }
    let digest = format!("sha-256=:{}:", STANDARD.encode(Sha256::digest(body)));
    if !covered.iter().any(|name| name == "content-digest") || text("content-digest") != Some(&digest) {
        return Err("the digest of the body must be right, and signed");
    }
    Ok(covered)
}
