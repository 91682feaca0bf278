//! The straight way for what needs no TLS, no proxy and no HTTP/2: the layer below the client that knows all
//! these. That one takes each address apart twice, and copies the header fields, for redirects that it is told not
//! to follow: more than a small request costs otherwise.

use crate::clock::{TimedConnections, TimedConnector, TimedResolver};
use crate::incoming::{Incoming, Trouble};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioTimer};
use std::fmt;
use std::time::Duration;
use tower::Layer;
use yieldtray_core::request::Prepared;
use yieldtray_core::syntax::Version;

/// How long a connection is kept that nobody uses.
const IDLE: Duration = Duration::from_secs(90);

/// After so long without a word, the system asks whether the other end is still there.
const KEEP_ALIVE: Duration = Duration::from_secs(15);

/// A client for plain http/1.1.
pub(crate) struct Straight(Client<TimedConnector<HttpConnector<TimedResolver>>, reqwest::Body>);

impl fmt::Debug for Straight {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Straight")
    }
}

impl Straight {
    /// A client. Nothing is opened yet.
    pub(crate) fn new() -> Self {
        let mut connector = HttpConnector::new_with_resolver(TimedResolver);
        connector.set_nodelay(true);
        connector.set_keepalive(Some(KEEP_ALIVE));
        connector.set_keepalive_interval(Some(KEEP_ALIVE));
        let mut builder = Client::builder(TokioExecutor::new());
        builder.timer(TokioTimer::new()).pool_timer(TokioTimer::new()).pool_idle_timeout(IDLE);
        Self(builder.build(TimedConnections.layer(connector)))
    }

    /// Whether a request may go this way, as far as it says itself.
    pub(crate) fn takes(prepared: &Prepared) -> bool {
        prepared.url.scheme() == "http" && prepared.version != Some(Version::Http2)
    }

    /// Sends a request and gives the head of its answer.
    pub(crate) async fn send(&self, request: hyper::Request<reqwest::Body>) -> Result<Incoming, Trouble> {
        Ok(Incoming::Straight(self.0.request(request).await?))
    }
}
