//! Exchanges as the log stores them.

use crate::received_parts::ReceivedParts;
use crate::record::{MAX_REPORTED_BODY, Phases, RequestRecord, ResponseRecord, header_value};
use crate::{Entry, duration, millis, record};
use bytes::Bytes;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use url::Url;
use yieldtray_http::{
    Body, BodyKind, BodyPart, CapturedExchange, CookieNote, CookieStatus, Exchange, FileBody, HeaderFields, Hop,
    HopKind, MASK, PreparedRequest, Timings, digest, is_secret_header,
};
use yieldtray_workspace::secret::Masker;

/// Of a larger body, in bytes, the log keeps only the size and the digest.
pub const MAX_LOGGED_BODY: u64 = MAX_REPORTED_BODY;

/// An exchange as the log keeps it, every secret masked.
#[derive(Clone, Debug, PartialEq)]
pub struct LoggedExchange<'k> {
    /// The cell, and its outcome.
    pub entry: Cow<'k, Entry<'static>>,
    /// The seed of generated values.
    pub seed: u64,
    /// The request's body.
    pub sent: StoredBody<'k>,
    /// The response body.
    pub received: StoredBody<'k>,
    /// The method and URL of the last hop, if it is not the first.
    last_hop: Option<(String, String)>,
    /// The response, if there is one, without its header fields and its body.
    answer: Option<Answer>,
    /// The header fields of the request, an empty line, and those of the response: a line each, as in HTTP.
    fields: String,
}

/// Further data of a response.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Answer {
    reason: String,
    version: String,
    timings: Phases,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    hops: Vec<record::Hop>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    cookies: Vec<record::Cookie>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    proxy: Option<String>,
    #[serde(default, skip_serializing_if = "ReceivedParts::is_empty")]
    parts: ReceivedParts,
}

/// A body, as far as it is kept.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StoredBody<'k> {
    /// How many bytes it had.
    pub size: u64,
    /// Its bytes, secrets masked; `None` where it was too large.
    pub bytes: Option<Cow<'k, [u8]>>,
    /// The BLAKE3 digest, in hexadecimal digits, of one that is not kept.
    pub digest: Option<String>,
}

/// All but header fields and bodies.
#[derive(Serialize, Deserialize)]
struct LoggedHead<E, A> {
    entry: E,
    seed: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    last_hop: Option<(String, String)>,
    #[serde(default = "Option::default", skip_serializing_if = "Option::is_none")]
    answer: Option<A>,
    #[serde(default, skip_serializing_if = "is_nothing")]
    sent_size: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    sent_blake3: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[serde(rename = "came_blake3")]
    received_blake3: Option<String>,
}

#[allow(clippy::trivially_copy_pass_by_ref)] // as serde asks it
fn is_nothing(size: &u64) -> bool {
    *size == 0
}

/// Why what the log holds cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("cannot read an exchange of the log: {0}")]
pub struct LoggedReadError(#[from] serde_json::Error);

impl<'k> LoggedExchange<'k> {
    /// The logged form of a cell and its exchange. `masker` must hide secrets.
    pub fn of(mut entry: Cow<'k, Entry<'static>>, kept: &'k CapturedExchange, masker: &Masker, seed: u64) -> Self {
        let answer = kept.answer.as_ref();
        let mut fields = String::with_capacity(512);
        for (name, value) in kept.sent.wire_headers() {
            add_field(&mut fields, &name, &value, masker);
        }
        fields.push('\n');
        for (name, value) in answer.iter().flat_map(|answer| &answer.headers) {
            add_field(&mut fields, name, &String::from_utf8_lossy(value), masker);
        }
        // In one go: to look for each secret in each field takes several times as long.
        masker.hide(&mut fields);
        let began = Some(millis(kept.began));
        if entry.started_ms != began {
            entry.to_mut().started_ms = began;
        }
        let last = (kept.sent.method.as_str(), masker.mask(&kept.sent.address()).into_owned());
        let is_first = entry.method.as_deref() == Some(last.0) && entry.url.as_deref() == Some(&*last.1);
        Self {
            last_hop: (!is_first).then(|| (last.0.to_owned(), last.1)),
            entry,
            seed,
            sent: kept.sent.body.as_ref().map_or_else(StoredBody::default, |body| sent(body, masker)),
            received: answer.map_or_else(StoredBody::default, |answer| received_body(answer, masker)),
            answer: answer.map(|answer| Answer::of(answer, masker)),
            fields,
        }
    }

    /// Everything but header fields and bodies, as JSON.
    pub fn head(&self) -> String {
        let head = LoggedHead {
            entry: &*self.entry,
            seed: self.seed,
            last_hop: self.last_hop.clone(),
            answer: self.answer.as_ref(),
            sent_size: self.sent.size,
            sent_blake3: self.sent.digest.clone(),
            received_blake3: self.received.digest.clone(),
        };
        serde_json::to_string(&head).expect("texts and numbers are JSON")
    }

    /// The header fields, as [`Self::read`] takes them.
    pub fn fields(&self) -> &str {
        &self.fields
    }

    /// Restores it from [`Self::head`], [`Self::fields`] and the bodies.
    pub fn read(
        head: &str,
        fields: String,
        sent: Option<Vec<u8>>,
        received: Option<Vec<u8>>,
    ) -> Result<LoggedExchange<'static>, LoggedReadError> {
        let head: LoggedHead<Entry<'static>, Answer> = serde_json::from_str(head)?;
        let LoggedHead { entry, seed, last_hop, answer, sent_size, sent_blake3, received_blake3 } = head;
        let size = entry.size.unwrap_or_default();
        Ok(LoggedExchange {
            entry: Cow::Owned(entry),
            seed,
            last_hop,
            sent: StoredBody { size: sent_size, bytes: sent.map(Cow::Owned), digest: sent_blake3 },
            received: StoredBody { size, bytes: received.map(Cow::Owned), digest: received_blake3 },
            answer,
            fields,
        })
    }

    /// Whether a secret was masked in it.
    pub fn is_masked(&self) -> bool {
        let mask = MASK.as_bytes();
        let bodies = [&self.sent, &self.received].into_iter().filter_map(|held| held.bytes.as_deref());
        let texts = [self.fields.as_bytes(), self.entry.url.as_deref().unwrap_or_default().as_bytes()];
        texts.into_iter().chain(bodies).any(|bytes| memchr::memmem::find(bytes, mask).is_some())
    }

    /// The entry with the exchange, as in reports.
    pub fn with_exchange(&self) -> Entry<'static> {
        // Nothing in it is secret any more.
        let masker = Masker::default();
        let request = self.prepared().map(|prepared| RequestRecord::of(&prepared, &masker).into_owned());
        let response = self.exchange().map(|exchange| ResponseRecord::of(&exchange, &masker).into_owned());
        Entry { request, response, ..Entry::clone(&self.entry) }
    }

    /// The lines of the header fields: the request's, and the response's.
    fn lines(&self) -> [impl Iterator<Item = (&str, &str)>; 2] {
        let empty = if self.fields.starts_with('\n') { Some(0) } else { self.fields.find("\n\n").map(|at| at + 1) };
        let (sent, received) = self.fields.split_at(empty.unwrap_or(self.fields.len()));
        // A mask may have taken the place of more than a value.
        [sent, received].map(|lines| {
            lines.lines().filter(|line| !line.is_empty()).map(|line| line.split_once(": ").unwrap_or((line, "")))
        })
    }

    /// Whether redirects were followed: then the first request, with its body, is not kept.
    pub fn was_redirected(&self) -> bool {
        self.last_hop.is_some()
    }

    /// The request as it was sent, of the last hop, but for what is masked in it.
    pub fn prepared(&self) -> Option<PreparedRequest> {
        let last = self.last_hop.as_ref().map(|(method, url)| (method.as_str(), url.as_str()));
        let (method, url) = last.or_else(|| self.entry.method.as_deref().zip(self.entry.url.as_deref()))?;
        // A host that was a secret is none that can be named.
        let url = Url::parse(url).or_else(|_| Url::parse("http://masked.invalid/")).ok()?;
        let mut prepared = PreparedRequest::new(method, url);
        let has_body = self.sent.size > 0 || self.sent.bytes.is_some();
        prepared.body = has_body.then(|| match &self.sent.bytes {
            Some(bytes) => Body::Bytes(Bytes::copy_from_slice(bytes)),
            None => not_stored(self.sent.size),
        });
        // Fields that the connection adds are not the request's own.
        let added = PreparedRequest { headers: HeaderFields::new(), ..prepared.clone() };
        let added = added.wire_headers();
        let is_added = |name: &str, value: &str| {
            name == "content-length" || added.iter().any(|(own, other)| own == name && other == value)
        };
        let [own, _] = self.lines();
        let own = own.filter(|(name, value)| !is_added(name, value));
        prepared.headers = own.map(|(name, value)| (name.to_owned().into(), value.to_owned().into())).collect();
        Some(prepared)
    }

    /// The exchange, with secrets masked; `None` without a response.
    pub fn exchange(&self) -> Option<Exchange> {
        let own = self.answer.as_ref()?;
        let hop = |hop: &record::Hop| Hop {
            kind: HopKind::of(&hop.kind),
            timings: timings(&hop.timings_ms, Duration::ZERO),
            status: hop.status,
            method: hop.method.clone(),
            url: hop.url.clone(),
            location: hop.location.clone(),
        };
        let cookie = |cookie: &record::Cookie| CookieNote {
            host: cookie.host.clone(),
            name: cookie.name.clone(),
            status: CookieStatus::of(&cookie.action),
            message: cookie.reason.clone(),
        };
        let body = self.received.bytes.as_deref().map(Bytes::copy_from_slice);
        let [_, fields] = self.lines();
        let headers = fields.map(|(name, value)| (name.to_owned(), value.as_bytes().to_owned())).collect();
        let mut exchange = Exchange {
            hops: own.hops.iter().map(hop).collect(),
            reason: own.reason.clone(),
            version: match own.version.as_str() {
                "HTTP/2" => "HTTP/2",
                "HTTP/1.0" => "HTTP/1.0",
                _ => "HTTP/1.1",
            },
            // A body with masks in it is as long as it is; one that is not kept says how long it was.
            size: body.as_ref().map_or(self.received.size, |body| body.len() as u64),
            digest: self.received.digest.clone(),
            timings: timings(&own.timings, self.entry.elapsed()),
            proxy: own.proxy.clone(),
            cookies: own.cookies.iter().map(cookie).collect(),
            ..Exchange::new(Arc::new(self.prepared()?), self.entry.status?, headers, body.unwrap_or_default())
        };
        own.parts.restore(&mut exchange);
        Some(exchange)
    }
}

impl Answer {
    fn of(answer: &Exchange, masker: &Masker) -> Self {
        Self {
            reason: masker.mask(&answer.reason).into_owned(),
            version: answer.version.to_owned(),
            timings: Phases::of(&answer.timings),
            hops: answer.hops.iter().map(|hop| record::Hop::of(hop, masker)).collect(),
            cookies: answer.cookies.iter().map(record::Cookie::of).collect(),
            proxy: answer.proxy.clone(),
            parts: ReceivedParts::of(answer, masker),
        }
    }
}

/// Adds a header field; one that carries credentials without them.
fn add_field(lines: &mut String, name: &str, value: &str, masker: &Masker) {
    lines.push_str(name);
    lines.push_str(": ");
    match is_secret_header(name) {
        true => lines.push_str(&header_value(name, value, masker)),
        false => lines.push_str(value),
    }
    lines.push('\n');
}

fn timings(phases: &Phases, total: Duration) -> Timings {
    Timings {
        began: duration(phases.started),
        lookup: phases.lookup.map(duration),
        connect: phases.connect.map(duration),
        tls: phases.tls.map(duration),
        wait: duration(phases.wait),
        receive: duration(phases.receive),
        total,
    }
}

/// Stands where a body was.
fn not_stored(size: u64) -> Body {
    let shown = "not stored".to_owned();
    Body::Pieces(vec![BodyPart::File(FileBody { path: PathBuf::new(), shown, size })])
}

fn sent<'k>(body: &'k Body, masker: &Masker) -> StoredBody<'k> {
    let size = body.size();
    let (bytes, digest) = match body {
        Body::Bytes(bytes) if size <= MAX_LOGGED_BODY => (Some(masker.mask_bytes(bytes)), None),
        Body::Bytes(bytes) => (None, Some(digest(bytes))),
        // Files are in it by name.
        Body::Pieces(_) => match body.text() {
            text if text.len() as u64 <= MAX_LOGGED_BODY => {
                (Some(Cow::Owned(masker.mask(&text).into_owned().into_bytes())), None)
            }
            _ => (None, None),
        },
    };
    StoredBody { size, bytes, digest }
}

fn received_body<'k>(answer: &'k Exchange, masker: &Masker) -> StoredBody<'k> {
    let size = answer.size;
    if !answer.is_body_complete() || size > MAX_LOGGED_BODY {
        let digest = answer.digest.clone().or_else(|| answer.is_body_complete().then(|| digest(&answer.body)));
        return StoredBody { size, bytes: None, digest };
    }
    // Nearly every body is plain UTF-8, in which the masker sees all there is.
    if std::str::from_utf8(&answer.body).is_ok() && memchr::memchr(0, &answer.body).is_none() {
        return StoredBody { size, bytes: Some(masker.mask_bytes(&answer.body)), digest: None };
    }
    let bytes = match (answer.body_kind(), answer.text()) {
        // In another charset a secret does not look as the masker knows it. The text is kept instead, with a byte
        // order mark that overrides the charset of the response.
        (BodyKind::Text, Cow::Owned(text)) if masker.finds_in(&text) => {
            Cow::Owned(format!("\u{feff}{}", masker.mask(&text)).into_bytes())
        }
        _ => masker.mask_bytes(&answer.body),
    };
    StoredBody { size, bytes: Some(bytes), digest: None }
}

/// Why the secrets of a logged request cannot be restored.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RestoreError {
    /// This part of the current request has no secret where the logged one has a mask.
    #[error("the secret in {0} is masked in the log, and the current request has none there")]
    Missing(String),
    /// The URL is not valid once its secret is restored.
    #[error("the URL is invalid: {0}")]
    Address(url::ParseError),
    /// The body was not stored, and the current one differs.
    #[error("the body was too large to be stored, and the current request has another one")]
    LargeBody,
    /// The current request goes to another origin (RFC 6454).
    #[error("it was sent to {logged}, but the current secrets belong to {current}")]
    OtherOrigin {
        /// The origin of the logged request.
        logged: String,
        /// The origin of the current one.
        current: String,
    },
}

/// The request that was sent then, with the secrets of `now` where it is masked: `now` is the request of the
/// same cell as its file makes it today.
///
/// # Errors
/// If a secret cannot be found.
pub fn restore_secrets(
    then: PreparedRequest,
    now: Option<&PreparedRequest>,
    masker: &Masker,
) -> Result<PreparedRequest, RestoreError> {
    let mut filled = then;
    let origin = |own: &PreparedRequest| own.url.origin();
    let url = fill(filled.url.as_str(), now.map(|now| now.url.as_str()), masker)
        .ok_or_else(|| RestoreError::Missing("the URL".to_owned()))?;
    if let Some(url) = url {
        filled.url = Url::parse(&url).map_err(RestoreError::Address)?;
    }
    // Cookies, and the response to a challenge, are added when it is sent.
    let added = |name: &str| match name {
        "cookie" => now.is_none_or(|now| now.header(name).is_none()),
        "authorization" => now.is_some_and(|now| now.digest.is_some()),
        _ => false,
    };
    filled.headers.retain(|(name, _)| !added(name));
    let mut secret = false;
    for (name, value) in &mut filled.headers {
        let own = now.and_then(|now| now.header(name));
        match fill(value, own, masker) {
            None => return Err(RestoreError::Missing(format!("`{name}`"))),
            Some(Some(value_now)) => {
                *value = value_now.into();
                secret = true;
            }
            Some(None) => {}
        }
    }
    if let Some(body) = &filled.body {
        let own = now.and_then(|now| now.body.as_ref());
        let text = body.text();
        let same = own.filter(|own| *masker.mask(&own.text()) == *text && own.size() > 0);
        let changed = match (same, fill(&text, own.map(Body::text).as_deref(), masker)) {
            // The files in it are read again.
            (Some(own), _) => Some(own.clone()),
            (None, None) => return Err(RestoreError::Missing("the body".to_owned())),
            (None, Some(None)) if matches!(body, Body::Pieces(_)) => {
                return Err(RestoreError::LargeBody);
            }
            (None, Some(filled)) => filled.map(Body::from),
        };
        secret |= changed.is_some() && text.contains(MASK);
        filled.body = changed.or(filled.body);
    }
    match now {
        Some(now) if secret && origin(now) != origin(&filled) => {
            Err(RestoreError::OtherOrigin { logged: host(&filled), current: host(now) })
        }
        Some(now) => {
            let secret_body = now.secret_body || secret;
            Ok(PreparedRequest { sending: now.sending, digest: now.digest.clone(), secret_body, ..filled })
        }
        None => Ok(filled),
    }
}

fn host(prepared: &PreparedRequest) -> String {
    prepared.url.origin().ascii_serialization()
}

/// `then` with its masked parts taken from `now`; unchanged without masks, `None` if `now` has no secret there. A
/// secret is used only after the same text, back to the last parameter or member.
fn fill(then: &str, now: Option<&str>, masker: &Masker) -> Option<Option<String>> {
    let mask = if then.contains(MASK) { MASK } else { PERCENT_MASK };
    if !then.contains(mask) {
        return Some(None);
    }
    let now = now?;
    let mut secrets = masker.secrets_in(now);
    let (mut filled, mut rest) = (String::with_capacity(now.len()), then);
    while let Some((before, after)) = rest.split_once(mask) {
        let name = before.rfind(['?', '&', ';', ',', '{', '\n']).map_or(before, |at| &before[at + 1..]);
        let found = secrets.iter().position(|range| now.get(..range.start).is_some_and(|now| now.ends_with(name)))?;
        filled.push_str(before);
        filled.push_str(&now[secrets[found].clone()]);
        secrets.drain(..=found);
        rest = after;
    }
    filled.push_str(rest);
    Some(Some(filled))
}

/// The mask in a URL that was parsed.
const PERCENT_MASK: &str = "%5Bsecret%5D";
