//! Requests and responses as reports hold them: masked, and of bounded size.

use super::time::millis;
use crate::received_parts::ReceivedParts;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use yieldtray_http::{BodyKind, Exchange, MASK, PreparedRequest, Timings, is_secret_header};
use yieldtray_workspace::secret::Masker;

/// A larger body, in bytes, is left out of what is kept.
pub const MAX_REPORTED_BODY: u64 = 1 << 20;

/// A request as it went out, secrets masked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RequestRecord<'k> {
    /// The method.
    pub method: Cow<'k, str>,
    /// The URL.
    pub url: Cow<'k, str>,
    /// The header fields in order.
    pub headers: Vec<(Cow<'k, str>, Cow<'k, str>)>,
    /// The body as text, a file in it by its name; left out where there is none, or it is too large.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body: Option<Cow<'k, str>>,
}

/// A response, secrets masked.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ResponseRecord<'k> {
    /// The status code (RFC 9110 15).
    pub status: u16,
    /// The reason phrase.
    pub reason: Cow<'k, str>,
    /// `HTTP/1.1` or `HTTP/2`.
    pub version: Cow<'k, str>,
    /// The header fields in order.
    pub headers: Vec<(Cow<'k, str>, Cow<'k, str>)>,
    /// Bytes of the body.
    pub size: u64,
    /// How long the exchange took, in milliseconds.
    pub elapsed_ms: f64,
    /// The timings.
    pub timings_ms: Phases,
    /// Earlier responses: redirects and challenges.
    pub hops: Vec<Hop>,
    /// The cookies.
    pub cookies: Vec<Cookie>,
    /// The proxy the last hop went through.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proxy: Option<String>,
    /// The body as text; left out where it is none, or was not kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body: Option<Cow<'k, str>>,
    /// A binary body, in base64.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body_base64: Option<String>,
    /// What it has beside.
    #[serde(default, skip_serializing_if = "ReceivedParts::is_empty")]
    pub parts: ReceivedParts,
}

/// How long each phase took, in milliseconds; `None` for one that did not happen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Phases {
    /// When the hop started, after the first one.
    #[serde(alias = "began")]
    pub started: f64,
    /// Looking the name up.
    pub lookup: Option<f64>,
    /// Connecting, without TLS.
    pub connect: Option<f64>,
    /// Agreeing on TLS.
    pub tls: Option<f64>,
    /// From sending to the first byte.
    pub wait: f64,
    /// From the first byte to the last.
    pub receive: f64,
}

/// A response that was not the last.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Hop {
    /// `redirect` or `challenge`.
    pub kind: String,
    /// Its status.
    pub status: u16,
    /// The method that was answered so.
    pub method: String,
    /// The URL that was requested.
    pub url: String,
    /// Where it led.
    pub location: String,
    /// The duration of each phase.
    pub timings_ms: Phases,
}

/// A cookie and its status.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cookie {
    /// Its name.
    pub name: String,
    /// The host it was sent to or received from.
    pub host: String,
    /// `sent`, `set`, `deleted` or `refused`.
    #[serde(alias = "fate")]
    pub action: String,
    /// Where it holds and how long, or why it was refused.
    #[serde(alias = "words")]
    pub reason: String,
}

impl<'k> RequestRecord<'k> {
    /// The request as it may be written down.
    pub fn of(prepared: &'k PreparedRequest, masker: &Masker) -> Self {
        let held = prepared.body.as_ref().filter(|body| body.size() <= MAX_REPORTED_BODY);
        Self {
            method: Cow::Borrowed(&prepared.method),
            url: masker.mask(&prepared.address()).into_owned().into(),
            headers: fields(prepared.wire_headers().into_iter(), masker),
            body: held.map(|body| masker.mask_cow(body.text())),
        }
    }
}

impl<'k> ResponseRecord<'k> {
    /// The response in the form that may be written to files.
    pub fn of(exchange: &'k Exchange, masker: &Masker) -> Self {
        let texts =
            exchange.headers.iter().map(|(name, value)| (Cow::Borrowed(name.as_str()), String::from_utf8_lossy(value)));
        let (mut body, mut body_base64) = (None, None);
        if exchange.is_body_complete() {
            match exchange.body_kind() {
                BodyKind::Text => body = Some(masker.mask_cow(exchange.text())),
                BodyKind::Binary(..) => body_base64 = Some(STANDARD.encode(masker.mask_bytes(&exchange.body))),
            }
        }
        Self {
            status: exchange.status,
            reason: masker.mask(&exchange.reason),
            version: Cow::Borrowed(exchange.version),
            headers: fields(texts, masker),
            size: exchange.size,
            elapsed_ms: millis(exchange.timings.total),
            timings_ms: Phases::of(&exchange.timings),
            hops: exchange.hops.iter().map(|hop| Hop::of(hop, masker)).collect(),
            cookies: exchange.cookies.iter().map(Cookie::of).collect(),
            proxy: exchange.proxy.clone(),
            body,
            body_base64,
            parts: ReceivedParts::of(exchange, masker),
        }
    }

    /// The first header field of that name.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(own, _)| own.eq_ignore_ascii_case(name)).map(|(_, value)| &**value)
    }

    /// The media type without parameters, in lower case.
    pub fn media_type(&self) -> String {
        let full = self.header("content-type").unwrap_or_default();
        full.split(';').next().unwrap_or_default().trim().to_ascii_lowercase()
    }
}

impl RequestRecord<'_> {
    /// The same, borrowing nothing.
    pub(crate) fn into_owned(self) -> RequestRecord<'static> {
        RequestRecord {
            method: owned(self.method),
            url: owned(self.url),
            headers: owned_fields(self.headers),
            body: self.body.map(owned),
        }
    }
}

impl ResponseRecord<'_> {
    /// The same, borrowing nothing.
    pub(crate) fn into_owned(self) -> ResponseRecord<'static> {
        let Self { status, size, elapsed_ms, timings_ms, hops, cookies, proxy, body_base64, .. } = self;
        ResponseRecord {
            status,
            reason: owned(self.reason),
            version: owned(self.version),
            headers: owned_fields(self.headers),
            size,
            elapsed_ms,
            timings_ms,
            hops,
            cookies,
            proxy,
            body: self.body.map(owned),
            body_base64,
            parts: self.parts,
        }
    }
}

fn owned(text: Cow<'_, str>) -> Cow<'static, str> {
    Cow::Owned(text.into_owned())
}

fn owned_fields(fields: Vec<(Cow<'_, str>, Cow<'_, str>)>) -> Vec<(Cow<'static, str>, Cow<'static, str>)> {
    fields.into_iter().map(|(name, value)| (owned(name), owned(value))).collect()
}

impl Hop {
    /// The hop as it may be written down.
    pub(crate) fn of(hop: &yieldtray_http::Hop, masker: &Masker) -> Self {
        Self {
            kind: hop.kind.as_str().to_owned(),
            status: hop.status,
            method: hop.method.clone(),
            url: masker.mask(&hop.url).into_owned(),
            location: masker.mask(&hop.location).into_owned(),
            timings_ms: Phases::of(&hop.timings),
        }
    }
}

impl Cookie {
    /// The note as it may be written down.
    pub(crate) fn of(note: &yieldtray_http::CookieNote) -> Self {
        Self {
            name: note.name.clone(),
            host: note.host.clone(),
            action: note.status.as_str().to_owned(),
            reason: note.message.clone(),
        }
    }
}

impl Phases {
    pub(crate) fn of(timings: &Timings) -> Self {
        Self {
            started: millis(timings.began),
            lookup: timings.lookup.map(millis),
            connect: timings.connect.map(millis),
            tls: timings.tls.map(millis),
            wait: millis(timings.wait),
            receive: millis(timings.receive),
        }
    }
}

fn fields<'f>(
    fields: impl Iterator<Item = (Cow<'f, str>, Cow<'f, str>)>,
    masker: &Masker,
) -> Vec<(Cow<'f, str>, Cow<'f, str>)> {
    fields
        .map(|(name, value)| {
            let value = masked_value(&name, value, masker);
            (name, value)
        })
        .collect()
}

/// A header value as it is shown: never a credential.
pub fn header_value(name: &str, value: &str, masker: &Masker) -> String {
    masked_value(name, Cow::Borrowed(value), masker).into_owned()
}

fn masked_value<'v>(name: &str, value: Cow<'v, str>, masker: &Masker) -> Cow<'v, str> {
    if masker.reveals() || !is_secret_header(name) {
        return masker.mask_cow(value);
    }
    if name.eq_ignore_ascii_case("set-cookie") {
        // Its name, scope and lifetime are not secret.
        let (pair, attributes) = value.split_at(value.find(';').unwrap_or(value.len()));
        return Cow::Owned(masked_cookie(pair) + &masker.mask(attributes));
    }
    if name.eq_ignore_ascii_case("cookie") {
        return Cow::Owned(value.split("; ").map(masked_cookie).collect::<Vec<_>>().join("; "));
    }
    match value.split_once(' ') {
        // The scheme is not secret, and shows what was sent.
        Some((scheme, _)) if name.to_ascii_lowercase().ends_with("authorization") => {
            Cow::Owned(format!("{scheme} {MASK}"))
        }
        _ => Cow::Borrowed(MASK),
    }
}

/// `name=value` of a cookie without the value.
fn masked_cookie(pair: &str) -> String {
    pair.split_once('=').map_or_else(|| MASK.to_owned(), |(name, _)| format!("{name}={MASK}"))
}
