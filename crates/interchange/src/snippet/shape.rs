//! A request taken apart: its texts in a row, and how they are put together.

use base64::Engine as _;
use std::time::Duration;
use yieldtray_http::{Body, BodyPart, HttpVersion, PreparedRequest};

/// How the texts of a request are put together. Each number is the place of a text in the row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Shape {
    pub(super) method: String,
    pub(super) url: usize,
    pub(super) headers: Vec<(String, usize)>,
    /// User and password of `Authorization: Basic` (RFC 7617).
    pub(super) basic: Option<(usize, usize)>,
    /// The same of whom a digest challenge is answered for (RFC 7616).
    pub(super) digest: Option<(usize, usize)>,
    pub(super) body: Vec<Chunk>,
    pub(super) has_body: bool,
    pub(super) version: Option<HttpVersion>,
    pub(super) timeout: Duration,
    pub(super) redirects: u8,
    pub(super) insecure: bool,
}

/// A piece of a body.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Chunk {
    Text(usize),
    Bytes(Vec<u8>),
    File(String),
}

/// Header fields that go out with every request, which nobody set.
const USUAL: &[(&str, &str)] = &[("accept", "*/*"), ("accept-encoding", "gzip, br, zstd")];

impl Shape {
    /// A request taken apart, and its texts.
    pub(super) fn of(prepared: &PreparedRequest) -> (Self, Vec<String>) {
        let mut texts = Vec::new();
        let mut text = |own: &str| {
            texts.push(own.to_owned());
            texts.len() - 1
        };
        let url = text(&prepared.address());
        let (mut headers, mut basic) = (Vec::new(), None);
        for (name, value) in &prepared.headers {
            let usual = USUAL.iter().any(|(own, usual)| name.eq_ignore_ascii_case(own) && value == usual)
                || name.eq_ignore_ascii_case("user-agent") && value.starts_with("yieldtray/");
            if usual {
                continue;
            }
            let login = name.eq_ignore_ascii_case("authorization").then(|| login(value)).flatten();
            match login.filter(|_| basic.is_none()) {
                Some((user, password)) => basic = Some((text(&user), text(&password))),
                None => headers.push((name.to_string(), text(value))),
            }
        }
        let digest = prepared.digest.as_ref().map(|login| (text(&login.user), text(&login.password)));
        let mut body = Vec::new();
        for piece in prepared.body.iter().flat_map(Body::pieces) {
            match &*piece {
                BodyPart::File(file) => body.push(Chunk::File(file.shown.clone())),
                BodyPart::Bytes(bytes) if bytes.is_empty() => {}
                BodyPart::Bytes(bytes) => body.push(match std::str::from_utf8(bytes) {
                    Ok(own) if !own.contains('\0') => Chunk::Text(text(own)),
                    _ => Chunk::Bytes(bytes.to_vec()),
                }),
            }
        }
        let shape = Self {
            method: prepared.method.clone(),
            url,
            headers,
            basic,
            digest,
            has_body: prepared.body.is_some(),
            body,
            version: prepared.version,
            timeout: prepared.sending.timeout,
            redirects: prepared.sending.redirects,
            insecure: prepared.sending.insecure,
        };
        (shape, texts)
    }

    /// The position of a text that must be a variable as a whole.
    pub(super) fn called(&self, text: usize) -> String {
        let header = self.headers.iter().find(|(_, own)| *own == text).map(|(name, _)| name.clone());
        match header {
            Some(name) => name,
            None if text == self.url => "address".to_owned(),
            None if self.body.contains(&Chunk::Text(text)) => "body".to_owned(),
            None => "login".to_owned(),
        }
    }
}

/// User and password of basic credentials, where they come out the same when they are written again.
fn login(value: &str) -> Option<(String, String)> {
    let encoded = value.strip_prefix("Basic ")?;
    let engine = base64::engine::general_purpose::STANDARD;
    let decoded = String::from_utf8(engine.decode(encoded).ok()?).ok()?;
    let (user, password) = decoded.split_once(':')?;
    (engine.encode(&decoded) == encoded).then(|| (user.to_owned(), password.to_owned()))
}
