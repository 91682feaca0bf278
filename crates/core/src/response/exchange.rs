use crate::request::Prepared;
use bytes::Bytes;
use std::sync::Arc;
use std::time::Duration;

/// A request as it went out and the answer as it came back.
#[derive(Clone, Debug)]
pub struct Exchange {
    /// The request of the last hop.
    pub sent: Arc<Prepared>,
    /// The redirects that were followed, in order.
    pub hops: Vec<Hop>,
    /// The status code (RFC 9110 15).
    pub status: u16,
    /// The reason phrase, as it came or by the code.
    pub reason: String,
    /// `HTTP/1.1` or `HTTP/2`.
    pub version: &'static str,
    /// The header fields in order, as bytes.
    pub headers: Vec<(String, Vec<u8>)>,
    /// The body with any content coding taken off.
    pub body: Bytes,
    /// How long what took.
    pub timings: Timings,
}

/// A redirect that was followed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hop {
    /// The status of the redirect.
    pub status: u16,
    /// The method that was answered so.
    pub method: String,
    /// The address that was answered so.
    pub url: String,
    /// Where it led.
    pub location: String,
}

/// How long what took. A phase that did not happen (a connection was there already) is `None`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Timings {
    /// Looking the name up.
    pub lookup: Option<Duration>,
    /// Connecting, TLS included.
    pub connect: Option<Duration>,
    /// From sending to the first byte of the answer.
    pub wait: Duration,
    /// From the first byte to the last.
    pub receive: Duration,
    /// All of it, redirects included.
    pub total: Duration,
}

impl Exchange {
    /// The first header field of that name as text, bytes that are no UTF-8 replaced.
    pub fn header(&self, name: &str) -> Option<std::borrow::Cow<'_, str>> {
        self.headers
            .iter()
            .find(|(own, _)| own.eq_ignore_ascii_case(name))
            .map(|(_, value)| String::from_utf8_lossy(value))
    }

    /// The media type without parameters, in lower case; empty where none is given.
    pub fn media_type(&self) -> String {
        let full = self.header("content-type").unwrap_or_default();
        full.split(';').next().unwrap_or_default().trim().to_ascii_lowercase()
    }
}

/// Why there is no usable answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// What sort of failure.
    pub kind: FailureKind,
    /// What happened, in plain words.
    pub message: String,
    /// What to look at.
    pub hint: Option<String>,
    /// How long it took to fail.
    pub elapsed: Duration,
}

/// The sorts of failure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FailureKind {
    /// The name is not known.
    NoSuchHost,
    /// Nothing listens there, or it turned us away.
    Refused,
    /// No answer in time.
    TimedOut,
    /// The connection broke off before the answer was whole.
    BrokenOff,
    /// TLS could not be agreed on, or the certificate is not valid.
    Tls,
    /// What came back is not HTTP, or its coding is broken.
    NotHttp,
    /// The answer is larger than is taken.
    TooLarge,
    /// A redirect that leads nowhere, or too many.
    Redirect,
    /// Anything else.
    Other,
}

impl FailureKind {
    /// A stable word for data output.
    pub fn as_str(self) -> &'static str {
        match self {
            FailureKind::NoSuchHost => "no-such-host",
            FailureKind::Refused => "refused",
            FailureKind::TimedOut => "timed-out",
            FailureKind::BrokenOff => "broken-off",
            FailureKind::Tls => "tls",
            FailureKind::NotHttp => "not-http",
            FailureKind::TooLarge => "too-large",
            FailureKind::Redirect => "redirect",
            FailureKind::Other => "other",
        }
    }
}
