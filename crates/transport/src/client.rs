use crate::clock::{Connected, TimedConnections, TimedResolver, timed};
use crate::failure::{authority, describe, failure};
use crate::{body, tls};
use reqwest::header::{HeaderName, HeaderValue};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};
use url::Url;
use yieldtray_core::request::{MAX_HOPS, Prepared, Redirect, next_hop};
use yieldtray_core::response::{Exchange, Failure, FailureKind, Hop, Timings};
use yieldtray_core::syntax::Version;

/// Limits of a [`Client`].
#[derive(Clone, Copy, Debug)]
pub struct Options {
    /// How long an exchange may take, redirects included.
    pub timeout: Duration,
    /// How many bytes of a body are taken, after content codings are taken off.
    pub body_limit: usize,
    /// Whether connecting is timed. The library then copies its connector for every request, connected
    /// or not, which a long run need not pay for.
    pub time_connecting: bool,
}

impl Default for Options {
    fn default() -> Self {
        Self { timeout: Duration::from_secs(30), body_limit: 64 << 20, time_connecting: true }
    }
}

/// Sends requests and keeps connections for the next ones.
#[derive(Debug, Default)]
pub struct Client {
    options: Options,
    /// One client a way of speaking, made when first needed.
    any: OnceLock<reqwest::Client>,
    http1: OnceLock<reqwest::Client>,
    http2: OnceLock<reqwest::Client>,
}

impl Client {
    /// A client with these limits. Nothing is opened yet.
    pub fn new(options: Options) -> Self {
        Self { options, ..Self::default() }
    }

    /// Sends `prepared`, follows redirects, and reads the whole answer.
    pub async fn send(&self, prepared: &Arc<Prepared>) -> Result<Exchange, Failure> {
        let start = Instant::now();
        let limit = self.options.timeout;
        // Pinned where it stands: what it holds while it waits is kilobytes, and would be moved twice.
        let following = std::pin::pin!(self.follow(prepared, start));
        match tokio::time::timeout(limit, following).await {
            Ok(outcome) => outcome,
            Err(_) => {
                let message =
                    format!("no whole answer from {} within {} s", authority(&prepared.url), limit.as_secs_f64());
                Err(failure(FailureKind::TimedOut, message, None, start.elapsed()))
            }
        }
    }

    async fn follow(&self, prepared: &Arc<Prepared>, start: Instant) -> Result<Exchange, Failure> {
        let mut hops: Vec<Hop> = Vec::new();
        let mut request = Arc::clone(prepared);
        loop {
            let mut exchange = self.one_hop(&request, start).await?;
            let location = exchange.header("location").map(std::borrow::Cow::into_owned);
            match next_hop(&request, exchange.status, location.as_deref()) {
                None => {
                    exchange.hops = hops;
                    exchange.timings.total = start.elapsed();
                    return Ok(exchange);
                }
                Some(Redirect::Broken(why)) => {
                    let message = format!("the redirect of {} leads nowhere: {why}", request.url);
                    return Err(failure(FailureKind::Redirect, message, None, start.elapsed()));
                }
                Some(Redirect::To(target)) => {
                    hops.push(Hop {
                        status: exchange.status,
                        method: request.method.clone(),
                        url: request.url.to_string(),
                        location: target.url.to_string(),
                    });
                    if hops.len() > MAX_HOPS {
                        let message = format!("{} leads on and on: more than {MAX_HOPS} redirects", prepared.url);
                        let hint = Some("two addresses may lead to each other");
                        return Err(failure(FailureKind::Redirect, message, hint, start.elapsed()));
                    }
                    request = target;
                }
            }
        }
    }

    async fn one_hop(&self, prepared: &Arc<Prepared>, start: Instant) -> Result<Exchange, Failure> {
        let url = &prepared.url;
        let client = self.client(prepared.version, url, start)?;
        let request = build(prepared, start)?;
        let hop_start = Instant::now();
        let sending = std::pin::pin!(client.execute(request));
        let (answer, connected) = match self.options.time_connecting {
            true => timed(sending).await,
            false => (sending.await, Connected::default()),
        };
        let response = answer.map_err(|error| describe(&error, url, start.elapsed()))?;
        let answered = hop_start.elapsed();
        let status = response.status();
        let reason = response
            .extensions()
            .get::<hyper::ext::ReasonPhrase>()
            .map(|phrase| String::from_utf8_lossy(phrase.as_bytes()).into_owned())
            .or_else(|| status.canonical_reason().map(str::to_owned))
            .unwrap_or_default();
        let version = if response.version() == reqwest::Version::HTTP_2 { "HTTP/2" } else { "HTTP/1.1" };
        let headers =
            response.headers().iter().map(|(name, value)| (name.to_string(), value.as_bytes().to_vec())).collect();
        let body = body::read(response, url, self.options.body_limit, start).await?;
        let before = connected.lookup.unwrap_or_default() + connected.connect.unwrap_or_default();
        let timings = Timings {
            lookup: connected.lookup,
            connect: connected.connect,
            wait: answered.saturating_sub(before),
            receive: hop_start.elapsed().saturating_sub(answered),
            total: start.elapsed(),
        };
        tracing::debug!(method = prepared.method, status = status.as_u16(), bytes = body.len(), ?timings, "answered");
        Ok(Exchange {
            sent: Arc::clone(prepared),
            hops: Vec::new(),
            status: status.as_u16(),
            reason,
            version,
            headers,
            body,
            timings,
        })
    }

    fn client(&self, version: Option<Version>, url: &Url, start: Instant) -> Result<&reqwest::Client, Failure> {
        let (slot, protocols): (_, &[&[u8]]) = match version {
            None => (&self.any, &[b"h2", b"http/1.1"]),
            Some(Version::Http11) => (&self.http1, &[b"http/1.1"]),
            Some(Version::Http2) => (&self.http2, &[b"h2"]),
        };
        if let Some(client) = slot.get() {
            return Ok(client);
        }
        let other = |error: String| failure(FailureKind::Other, error, None, start.elapsed());
        let tls = tls::config(protocols).map_err(|error| other(format!("TLS cannot be set up: {error}")))?;
        let builder = reqwest::Client::builder()
            .tls_backend_preconfigured(tls)
            .redirect(reqwest::redirect::Policy::none())
            .referer(false)
            .no_proxy()
            .dns_resolver(TimedResolver);
        let builder = if self.options.time_connecting { builder.connector_layer(TimedConnections) } else { builder };
        let builder = match version {
            None => builder,
            Some(Version::Http11) => builder.http1_only(),
            Some(Version::Http2) => builder.http2_prior_knowledge(),
        };
        let client = builder.build().map_err(|error| other(format!("no client for {url}: {error}")))?;
        Ok(slot.get_or_init(|| client))
    }
}

fn build(prepared: &Prepared, start: Instant) -> Result<reqwest::Request, Failure> {
    let other = |message: String| failure(FailureKind::Other, message, None, start.elapsed());
    let method = reqwest::Method::from_bytes(prepared.method.as_bytes())
        .map_err(|_| other(format!("`{}` cannot be a method", prepared.method)))?;
    let mut request = reqwest::Request::new(method, prepared.url.clone());
    for (name, value) in &prepared.headers {
        let header =
            HeaderName::from_bytes(name.as_bytes()).map_err(|_| other(format!("`{name}` cannot name a header")))?;
        let value = HeaderValue::from_bytes(value.as_bytes())
            .map_err(|_| other(format!("the value of `{name}` has a character no header can hold")))?;
        request.headers_mut().append(header, value);
    }
    if let Some(body) = &prepared.body {
        *request.body_mut() = Some(body.clone().into());
    }
    Ok(request)
}
