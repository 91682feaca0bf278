//! The parts of an archive that matter here. What a tool leaves out is taken for empty.

use crate::draft::{Body, ImportedRequest, Part, RequestError};
use base64::Engine as _;
use serde::Deserialize;
use std::path::Path;
use thiserror::Error;
use yieldtray_http::body_shape::BodyShape;
use yieldtray_source::access::check_readable;
use yieldtray_syntax::ValueText;
use yieldtray_workspace::suggest::checks_for;

/// One request and its response. `T` is the text of a body: a `String`, or `()` if it is skipped.
#[derive(Deserialize)]
#[serde(expecting = "an entry")]
pub(super) struct Entry<T> {
    #[serde(default)]
    pub(super) pageref: Option<String>,
    pub(super) request: Request,
    #[serde(default = "absent")]
    pub(super) response: Option<Response<T>>,
}

#[derive(Deserialize)]
#[serde(expecting = "a request")]
pub(super) struct Request {
    #[serde(default = "get")]
    pub(super) method: String,
    pub(super) url: String,
    #[serde(default)]
    headers: Vec<Named>,
    #[serde(default, rename = "postData")]
    body: Option<PostData>,
}

/// A derived default would want one of `T`.
fn absent<T>() -> Option<T> {
    None
}

fn get() -> String {
    "GET".to_owned()
}

#[derive(Deserialize)]
#[serde(expecting = "a name with a value")]
struct Named {
    name: String,
    #[serde(default)]
    value: Option<String>,
}

#[derive(Deserialize)]
#[serde(expecting = "a body")]
struct PostData {
    #[serde(default, rename = "mimeType")]
    media: Option<String>,
    #[serde(default)]
    text: Option<String>,
    #[serde(default)]
    encoding: Option<String>,
    #[serde(default)]
    params: Vec<Param>,
}

#[derive(Deserialize)]
#[serde(expecting = "a parameter")]
struct Param {
    name: String,
    #[serde(default)]
    value: Option<String>,
    #[serde(default, rename = "fileName")]
    file: Option<String>,
    #[serde(default, rename = "contentType")]
    media: Option<String>,
}

#[derive(Deserialize)]
#[serde(expecting = "a response")]
pub(super) struct Response<T> {
    #[serde(default)]
    pub(super) status: i64,
    #[serde(default = "nothing")]
    pub(super) content: Content<T>,
}

#[derive(Deserialize)]
#[serde(expecting = "content")]
pub(super) struct Content<T> {
    #[serde(default, rename = "mimeType")]
    pub(super) media: Option<String>,
    #[serde(default = "absent")]
    text: Option<T>,
    #[serde(default)]
    encoding: Option<String>,
}

fn nothing<T>() -> Content<T> {
    Content { media: None, text: None, encoding: None }
}

impl<T> Entry<T> {
    /// The media type of the response, without parameters.
    pub(super) fn media(&self) -> &str {
        let media = self.response.as_ref().and_then(|response| response.content.media.as_deref());
        media.map_or("", |media| media.split(';').next().unwrap_or_default().trim())
    }
}

/// Why an entry cannot become a request.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum EntryError {
    /// It cannot be written as a cell.
    #[error(transparent)]
    Request(#[from] RequestError),
    /// Its body is marked as base64 (RFC 4648) and is not.
    #[error("its body is labeled base64 but is not valid")]
    Base64,
    /// It sends a file that no request may send.
    #[error("it sends the file `{name}`: {error}")]
    File {
        /// The name of the file.
        name: String,
        /// Why it may not be sent.
        error: String,
    },
}

impl Request {
    /// The request as it was recorded.
    pub(super) fn draft(self) -> Result<ImportedRequest, EntryError> {
        let mut draft = ImportedRequest { method: Some(self.method.clone().into()), ..ImportedRequest::default() };
        draft.send_to(self.url.clone().into())?;
        let host = host(&self.url);
        for Named { name, value } in self.headers {
            let value = value.unwrap_or_default();
            // Pseudo-header fields of HTTP/2 are the request line; a host that the URL has is redundant.
            let is_redundant =
                name.starts_with(':') || name.eq_ignore_ascii_case("host") && value.eq_ignore_ascii_case(host);
            if !is_redundant {
                draft.headers.push((name.into(), value.into()));
            }
        }
        if let Some(body) = self.body {
            body.add_to(&mut draft)?;
        }
        Ok(draft)
    }
}

impl PostData {
    fn add_to(self, draft: &mut ImportedRequest) -> Result<(), EntryError> {
        let media = self.media.unwrap_or_default();
        let essence = media.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let mut has_media = draft.has_header("content-type") || media.is_empty();
        draft.body = match self.text.filter(|text| !text.is_empty()) {
            Some(text) if self.encoding.as_deref() == Some("base64") => {
                let bytes = base64::engine::general_purpose::STANDARD.decode(text.trim());
                bytes_or_text(bytes.map_err(|_| EntryError::Base64)?)
            }
            Some(text) => Body::Text(text.into()),
            None if self.params.is_empty() => {
                let length =
                    draft.header("content-length").and_then(ValueText::plain).and_then(|it| it.trim().parse().ok());
                if let Some(length) = length.filter(|length: &u64| *length > 0) {
                    draft.note(format!("Its body of {length} bytes was not recorded: write it below the headers."));
                }
                return Ok(());
            }
            None if essence == "multipart/form-data" => {
                // Another boundary keeps the parts apart, which the field would not know.
                draft.headers.retain(|(name, _)| !is(name, "content-type"));
                has_media = true;
                Body::Parts(self.params.into_iter().map(Param::part).collect::<Result<_, _>>()?)
            }
            None => {
                let pairs = self.params.iter().map(|param| (&param.name, param.value.as_deref().unwrap_or_default()));
                Body::Text(url::form_urlencoded::Serializer::new(String::new()).extend_pairs(pairs).finish().into())
            }
        };
        if !has_media {
            draft.headers.push(("Content-Type".into(), media.into()));
        }
        Ok(())
    }
}

impl Param {
    fn part(self) -> Result<(ValueText, Part), EntryError> {
        let part = match self.file {
            Some(file) => {
                // A recording names a file and never a place: what it says may not choose what is sent.
                let name = file.rsplit(['/', '\\']).next().unwrap_or_default();
                check_readable(Path::new(name))
                    .map_err(|error| EntryError::File { name: name.to_owned(), error: error.to_string() })?;
                Part::File { path: name.into(), media: self.media, name: None }
            }
            None => Part::Text(self.value.unwrap_or_default().into(), None),
        };
        Ok((self.name.into(), part))
    }
}

fn is(name: &ValueText, other: &str) -> bool {
    name.plain().is_some_and(|name| name.eq_ignore_ascii_case(other))
}

fn bytes_or_text(bytes: Vec<u8>) -> Body {
    match String::from_utf8(bytes) {
        Ok(text) if !text.contains('\0') => Body::Text(text.into()),
        Ok(text) => Body::Bytes(text.into_bytes()),
        Err(error) => Body::Bytes(error.into_bytes()),
    }
}

/// The host of a URL, with its port.
fn host(url: &str) -> &str {
    let rest = url.split_once("://").map_or(url, |(_, rest)| rest);
    let authority = rest.split(['/', '?', '#']).next().unwrap_or(rest);
    authority.rsplit_once('@').map_or(authority, |(_, host)| host)
}

impl Response<String> {
    /// Checks that hold for what was recorded.
    pub(super) fn checks(&self) -> Vec<String> {
        let Ok(status @ 100..=599) = u16::try_from(self.status) else { return Vec::new() };
        let media = self.content.media.as_deref().unwrap_or_default();
        let media = media.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
        let text = self.content.text.as_deref().unwrap_or_default();
        let decoded = match self.content.encoding.as_deref() {
            Some("base64") => base64::engine::general_purpose::STANDARD.decode(text.trim()).unwrap_or_default(),
            _ => text.as_bytes().to_vec(),
        };
        // Without a response body the type is a guess of the tool.
        let media = if decoded.is_empty() { "" } else { media.as_str() };
        checks_for(status, media, &BodyShape::of_body(media, &decoded))
    }
}
