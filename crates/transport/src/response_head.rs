//! The head of a response.

use crate::incoming::{IncomingResponse, fields};
use crate::timing::Connected;
use std::sync::Arc;
use std::time::{Duration, Instant};
use yieldtray_http::{Exchange, PreparedRequest, Timings};

/// The head of a response, whose body is still to come.
pub(crate) struct Head {
    pub(crate) response: IncomingResponse,
    pub(crate) connected: Connected,
    pub(crate) began: Instant,
    pub(crate) answered: Duration,
    pub(crate) proxy: Option<String>,
}

impl Head {
    /// The exchange so far, and the response with its body.
    pub(crate) fn parts(self, sent: Arc<PreparedRequest>, start: Instant) -> (Exchange, IncomingResponse) {
        let Head { response, connected, began, answered, proxy } = self;
        let status = response.status();
        let reason = response
            .extensions()
            .get::<hyper::ext::ReasonPhrase>()
            .map(|phrase| String::from_utf8_lossy(phrase.as_bytes()).into_owned())
            .or_else(|| status.canonical_reason().map(str::to_owned))
            .unwrap_or_default();
        let version = if response.version() == hyper::Version::HTTP_2 { "HTTP/2" } else { "HTTP/1.1" };
        let headers = fields(response.headers());
        let Connected { lookup, connect, tls } = connected;
        let before = [lookup, connect, tls].into_iter().flatten().sum();
        let timings = Timings {
            began: began.duration_since(start),
            lookup,
            connect,
            tls,
            wait: answered.saturating_sub(before),
            ..Timings::default()
        };
        let exchange = Exchange {
            notes: response.passed_over(),
            reason,
            version,
            timings,
            proxy,
            ..Exchange::new(sent, status.as_u16(), headers, bytes::Bytes::new())
        };
        (exchange, response)
    }
}
