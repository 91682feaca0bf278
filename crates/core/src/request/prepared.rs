use crate::syntax::Version;
use bytes::Bytes;
use std::borrow::Cow;
use url::Url;

/// Header fields, name and value, in order.
pub type Fields = Vec<(Cow<'static, str>, Cow<'static, str>)>;

/// A request ready to go: every mark is resolved, every header decided.
#[derive(Clone, Debug)]
pub struct Prepared {
    /// The method, as written.
    pub method: String,
    /// The address, without credentials and fragment.
    pub url: Url,
    /// The version asked for, if any.
    pub version: Option<Version>,
    /// The header fields in the order they go out, but for those the connection writes.
    pub headers: Fields,
    /// The body; `None` sends none at all.
    pub body: Option<Bytes>,
}

impl Prepared {
    /// The header fields as they go out: those of [`Self::headers`], then those the connection adds.
    pub fn wire_headers(&self) -> Vec<(Cow<'_, str>, Cow<'_, str>)> {
        let own = self.headers.iter().map(|(name, value)| (Cow::Borrowed(&**name), Cow::Borrowed(&**value)));
        let mut headers: Vec<(Cow<'_, str>, Cow<'_, str>)> = own.collect();
        if self.header("host").is_none() {
            let host = self.url.host_str().unwrap_or_default();
            let host = self.url.port().map_or(Cow::Borrowed(host), |port| Cow::Owned(format!("{host}:{port}")));
            headers.push(("Host".into(), host));
        }
        if let Some(body) = &self.body {
            headers.push(("Content-Length".into(), body.len().to_string().into()));
        }
        headers
    }

    /// The first value of a header field.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(own, _)| own.eq_ignore_ascii_case(name)).map(|(_, value)| &**value)
    }
}
