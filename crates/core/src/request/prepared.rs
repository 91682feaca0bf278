use crate::syntax::Version;
use bytes::Bytes;
use url::Url;

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
    pub headers: Vec<(String, String)>,
    /// The body; `None` sends none at all.
    pub body: Option<Bytes>,
}

impl Prepared {
    /// The first value of a header field.
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(own, _)| own.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }
}
