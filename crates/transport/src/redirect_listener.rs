//! Receives the browser that comes back from a sign-in (RFC 8252 7.3): a web server on this machine for one request.

use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use hyper::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, HeaderValue, REFERRER_POLICY};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use std::convert::Infallible;
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};

/// How long a connection may take to send its request.
const HEADER_TIMEOUT: Duration = Duration::from_secs(10);

/// How long to wait after a connection that could not be accepted.
const PAUSE_AFTER_ERROR: Duration = Duration::from_millis(100);

/// How many connections are served at a time: a browser opens some in advance.
const MAX_CONNECTIONS: usize = 16;

/// The longest request, in bytes.
const MAX_REQUEST_BYTES: usize = 32 << 10;

/// What is answered to the browser.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RedirectPage {
    /// Whether the sign-in goes on.
    pub accepted: bool,
    /// A page in HTML.
    pub html: &'static str,
}

/// A port of this machine at which a browser is waited for.
#[derive(Debug)]
pub struct RedirectListener {
    listeners: Vec<TcpListener>,
    port: u16,
}

impl RedirectListener {
    /// Listens at the first of these addresses, and at the others with the same port as far as that can be had.
    ///
    /// # Errors
    /// If the first address is in use.
    pub async fn bind(addresses: &[String]) -> io::Result<Self> {
        let (first, others) = addresses.split_first().ok_or(io::ErrorKind::InvalidInput)?;
        let listener = TcpListener::bind(first).await?;
        let port = listener.local_addr()?.port();
        let mut listeners = vec![listener];
        for other in others {
            let host = other.rsplit_once(':').map_or(other.as_str(), |(host, _)| host);
            // A machine without IPv6 has only the first.
            listeners.extend(TcpListener::bind(format!("{host}:{port}")).await.ok());
        }
        Ok(Self { listeners, port })
    }

    /// The port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Waits until the browser asks for `path` with a query, which `decide` answers. Everything else gets 404.
    pub async fn wait(&self, path: &str, decide: impl FnMut(&str) -> RedirectPage + Send) {
        let (decide, decided) = (Mutex::new(decide), AtomicBool::new(false));
        let serve = |stream: TcpStream| {
            let (decide, decided) = (&decide, &decided);
            let service = service_fn(move |request: Request<hyper::body::Incoming>| {
                let asked =
                    request.method() == Method::GET && request.uri().path() == path && !decided.load(Ordering::Relaxed);
                let page = request.uri().query().filter(|_| asked).map(|query| {
                    decided.store(true, Ordering::Relaxed);
                    (decide.lock().unwrap_or_else(PoisonError::into_inner))(query)
                });
                std::future::ready(Ok::<_, Infallible>(response(page)))
            });
            let mut builder = http1::Builder::new();
            builder.timer(TokioTimer::new()).header_read_timeout(HEADER_TIMEOUT).max_buf_size(MAX_REQUEST_BYTES);
            // One request a connection, so that its end is the end of the response.
            builder.keep_alive(false);
            builder.serve_connection(TokioIo::new(stream), service)
        };
        let mut connections = FuturesUnordered::new();
        while !decided.load(Ordering::Relaxed) {
            let ready = self.listeners.iter().filter(|_| connections.len() < MAX_CONNECTIONS);
            let mut accepting: FuturesUnordered<_> = ready.map(TcpListener::accept).collect();
            tokio::select! {
                Some(accepted) = accepting.next() => match accepted {
                    Ok((stream, _)) => connections.push(serve(stream)),
                    // No file descriptor is free, or the connection was gone: later it may work.
                    Err(_) => tokio::time::sleep(PAUSE_AFTER_ERROR).await,
                },
                Some(_) = connections.next() => {}
            }
        }
    }
}

fn response(page: Option<RedirectPage>) -> Response<String> {
    let (status, html) = match page {
        None => (StatusCode::NOT_FOUND, ""),
        Some(RedirectPage { accepted: true, html }) => (StatusCode::OK, html),
        Some(RedirectPage { html, .. }) => (StatusCode::BAD_REQUEST, html),
    };
    let mut response = Response::new(html.to_owned());
    *response.status_mut() = status;
    let headers = response.headers_mut();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8"));
    headers.insert(CONTENT_SECURITY_POLICY, HeaderValue::from_static("default-src 'none'; style-src 'unsafe-inline'"));
    // The address has the code: it is neither kept nor told to others.
    headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    headers.insert(REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    response
}
