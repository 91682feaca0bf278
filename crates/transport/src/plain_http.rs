//! Plain HTTP without proxy and Unix socket, through the connection pool below the HTTP client. The client parses each
//! URL twice and copies the header fields for redirects that it does not follow, which costs more than the rest of a
//! small request. It also normalizes paths, and shows nothing of a response that it cannot parse.

use crate::incoming::{IncomingResponse, SendError};
use crate::options::Options;
use crate::timing::{TimedConnections, TimedConnector, TimedResolver};
use crate::tls::{self, TlsError, Trust};
use crate::upload::Gate;
use crate::watched::{WatchConnections, WatchingConnector};
use hyper_rustls::HttpsConnector;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::{TokioExecutor, TokioTimer};
use std::fmt;
use std::sync::OnceLock;
use std::time::Duration;
use tower::Layer;
use yieldtray_http::{HttpVersion, PreparedRequest};

/// How long a connection is kept that nobody uses.
const POOL_IDLE_TIMEOUT: Duration = Duration::from_secs(90);

/// After so long without a word, the system asks whether the other end is still there.
const TCP_KEEP_ALIVE: Duration = Duration::from_secs(15);

type Request = hyper::Request<reqwest::Body>;
type Connecting<C> = TimedConnector<WatchingConnector<C>>;
type Plain = Client<Connecting<HttpConnector<TimedResolver>>, reqwest::Body>;
type Tls = Client<Connecting<HttpsConnector<HttpConnector<TimedResolver>>>, reqwest::Body>;

/// Clients without a proxy: for plain http/1.1; and for TLS, by whether HTTP/2 may be spoken, whether certificates are
/// verified, and whether the client's certificate may be shown. Each is made when it is first needed.
#[derive(Default)]
pub(crate) struct PlainClient {
    plain: OnceLock<Plain>,
    tls: [[[OnceLock<Tls>; 2]; 2]; 2],
}

impl fmt::Debug for PlainClient {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Straight")
    }
}

/// The client that sends one request.
#[derive(Clone, Copy)]
pub(crate) enum PooledClient<'c> {
    Plain(&'c Plain),
    Tls(&'c Tls),
}

impl PlainClient {
    /// Whether a request may go this way, as far as it says itself.
    pub(crate) fn takes(prepared: &PreparedRequest) -> bool {
        prepared.version != Some(HttpVersion::Http2)
    }

    /// The client for a request.
    pub(crate) fn of(&self, prepared: &PreparedRequest, options: &Options) -> Result<PooledClient<'_>, TlsError> {
        if prepared.url.scheme() == "http" {
            let make = || builder(options).build(layered(connector(options)));
            return Ok(PooledClient::Plain(self.plain.get_or_init(make)));
        }
        let insecure = prepared.sending.insecure;
        let certificate = options.certificate.as_ref().filter(|_| prepared.sending.certificate);
        let old = prepared.version == Some(HttpVersion::Http11);
        let slot = &self.tls[usize::from(old)][usize::from(insecure)][usize::from(certificate.is_some())];
        if let Some(client) = slot.get() {
            return Ok(PooledClient::Tls(client));
        }
        let old = old || options.keep_header_case;
        let protocols: &[&[u8]] = if old { &[b"http/1.1"] } else { &[b"h2", b"http/1.1"] };
        let config = tls::config(protocols, &Trust { ca: options.ca.as_deref(), certificate, insecure })?;
        let mut connector = connector(options);
        connector.enforce_http(false);
        let client = builder(options).build(layered(HttpsConnector::from((connector, config))));
        Ok(PooledClient::Tls(slot.get_or_init(|| client)))
    }
}

fn connector(options: &Options) -> HttpConnector<TimedResolver> {
    let mut connector = HttpConnector::new_with_resolver(TimedResolver);
    connector.set_connect_timeout(options.connect_timeout);
    connector.set_nodelay(true);
    connector.set_keepalive(Some(TCP_KEEP_ALIVE));
    connector.set_keepalive_interval(Some(TCP_KEEP_ALIVE));
    connector
}

fn layered<C>(connector: C) -> Connecting<C> {
    TimedConnections.layer(WatchConnections.layer(connector))
}

fn builder(options: &Options) -> hyper_util::client::legacy::Builder {
    let mut builder = Client::builder(TokioExecutor::new());
    builder
        .http1_preserve_header_case(options.keep_header_case)
        .timer(TokioTimer::new())
        .pool_timer(TokioTimer::new())
        .pool_idle_timeout(POOL_IDLE_TIMEOUT)
        // A user agent replaces the line ends of a folded line by spaces (RFC 9112 5.2).
        .http1_allow_obsolete_multiline_headers_in_responses(true)
        // An invalid field does not cost the others; it is reported.
        .http1_ignore_invalid_headers_in_responses(true);
    builder
}

impl PooledClient<'_> {
    /// Sends a request and returns the head of its response. With a gate, the body waits until the server wants it.
    pub(crate) async fn send(self, mut request: Request, gate: Option<Gate>) -> Result<IncomingResponse, SendError> {
        if let Some(gate) = gate.clone() {
            hyper::ext::on_informational(&mut request, move |answer| {
                if answer.status() == hyper::StatusCode::CONTINUE {
                    gate.open();
                }
            });
        }
        let response = match self {
            PooledClient::Plain(client) => client.request(request).await?,
            PooledClient::Tls(client) => client.request(request).await?,
        };
        // A server that responds before the body was sent does not want it.
        if let Some(gate) = gate {
            gate.close();
        }
        Ok(IncomingResponse::Straight(response, hyper::HeaderMap::new()))
    }
}
