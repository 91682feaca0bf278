//! A request as it goes out, byte for byte.

use super::PreparedRequest;
use std::borrow::Cow;

impl PreparedRequest {
    /// The header fields as they are sent: names in lower case, the values of a repeated one together at its first
    /// place, and at the end those that the connection adds.
    pub fn wire_headers(&self) -> Vec<(Cow<'_, str>, Cow<'_, str>)> {
        let mut headers: Vec<(Cow<'_, str>, Cow<'_, str>)> = Vec::with_capacity(self.headers.len() + 2);
        for (name, value) in &self.headers {
            let field = (lower(name), Cow::Borrowed(&**value));
            match headers.iter().rposition(|(known, _)| *known == field.0) {
                Some(last) => headers.insert(last + 1, field),
                None => headers.push(field),
            }
        }
        if self.body.is_none() && self.content_length().is_some() {
            headers.push(("content-length".into(), "0".into()));
        }
        if self.header("host").is_none() {
            let host = self.url.host_str().unwrap_or_default();
            let host = self.url.port().map_or(Cow::Borrowed(host), |port| Cow::Owned(format!("{host}:{port}")));
            headers.push(("host".into(), host));
        }
        if let (Some(_), Some(length)) = (&self.body, self.content_length()) {
            headers.push(("content-length".into(), length.to_string().into()));
        }
        headers
    }

    /// The URL as it is sent.
    pub fn address(&self) -> Cow<'_, str> {
        if self.conversation {
            return Cow::Owned(self.url.as_str().replacen("http", "ws", 1));
        }
        match &self.verbatim_target {
            Some(target) => Cow::Owned(format!("{}{target}", &self.url[..url::Position::BeforePath])),
            None => Cow::Borrowed(self.url.as_str()),
        }
    }

    /// The Content-Length that goes out: of a method that means something by a body also where there is
    /// none (RFC 9110 8.6).
    pub fn content_length(&self) -> Option<u64> {
        match &self.body {
            Some(body) => Some(body.size()),
            None => matches!(self.method.as_str(), "POST" | "PUT" | "PATCH").then_some(0),
        }
    }

    /// The request target (RFC 9112 3.2.1).
    pub fn wire_target(&self) -> Cow<'_, str> {
        match (&self.verbatim_target, self.url.query()) {
            (Some(target), _) => Cow::Borrowed(target),
            (None, Some(query)) => Cow::Owned(format!("{}?{query}", self.url.path())),
            (None, None) => Cow::Borrowed(self.url.path()),
        }
    }
}

fn lower(name: &str) -> Cow<'_, str> {
    match name.bytes().any(|b| b.is_ascii_uppercase()) {
        true => Cow::Owned(name.to_ascii_lowercase()),
        false => Cow::Borrowed(name),
    }
}
