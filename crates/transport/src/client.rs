//! The client: sends a prepared request, follows redirects, and receives the response.

use crate::body::{self, ReadLimits, Sink, Target};
use crate::connect::Clients;
use crate::conversation::{self, Conversation};
use crate::digest::Challenges;
use crate::event_stream::EventStream;
use crate::failure::{Via, authority, describe_via, failure, is_lost_connection};
use crate::incoming::IncomingResponse;
use crate::jar::Jar;
use crate::options::Options;
use crate::plain_http::PlainClient;
use crate::proxy::Proxies;
use crate::receiver::{Received, Receiver, Streaming};
use crate::redirects::Redirects;
use crate::response_head::Head;
use crate::sender::Sender;
use crate::signing::Nonces;
use crate::timing::{Connected, timed};
use std::fmt::Display;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Instant;
use yieldtray_http::{
    CookieNote, Exchange, Failure, FailureKind, HopKind, PreparedRequest, Redirect, SignError, next_hop,
};

/// The most of a redirect's own body that is read, so that its connection can be used again.
const MAX_REDIRECT_BODY_BYTES: u64 = 64 << 10;

/// Sends requests and keeps connections, cookies and challenges for the next ones.
#[derive(Debug, Default)]
pub struct Client {
    shared: Arc<Shared>,
    jar: Mutex<Jar>,
    challenges: Challenges,
    nonces: Nonces,
}

/// The parts that related clients share.
#[derive(Debug, Default)]
struct Shared {
    options: Options,
    clients: Clients,
    plain_client: PlainClient,
    proxies: OnceLock<Proxies>,
    /// How many bytes of bodies arrived so far.
    received: AtomicU64,
    /// Whether there may be a connection from before, which its server may have closed meanwhile.
    used: AtomicBool,
}

impl Client {
    /// A client with these options. Nothing is opened yet.
    pub fn new(options: Options) -> Self {
        Self { shared: Arc::new(Shared { options, ..Shared::default() }), ..Self::default() }
    }

    /// A client with the same options and connections, and with cookies of its own.
    #[must_use]
    pub fn with_own_cookies(&self) -> Self {
        Self { shared: Arc::clone(&self.shared), ..Self::default() }
    }

    /// The client with cookies from before.
    #[must_use]
    pub fn with_jar(mut self, jar: Jar) -> Self {
        self.jar = Mutex::new(jar);
        self
    }

    /// How many bytes of response bodies arrived so far.
    pub fn received_bytes(&self) -> u64 {
        self.shared.received.load(Ordering::Relaxed)
    }

    /// The cookies there are now.
    pub fn jar(&self) -> MutexGuard<'_, Jar> {
        self.jar.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The request as it would go out, with its cookies and its signature.
    ///
    /// # Errors
    /// If it cannot be signed.
    pub fn completed(&self, prepared: &Arc<PreparedRequest>) -> Result<Arc<PreparedRequest>, SignError> {
        let mut outgoing = self.add_cookies(prepared, Arc::clone(prepared), &mut Vec::new());
        if prepared.conversation {
            outgoing = conversation::handshake(&outgoing);
        }
        self.nonces.signed_now(outgoing)
    }

    /// Sends `prepared`, follows redirects, and holds the whole response.
    pub async fn send(&self, prepared: &Arc<PreparedRequest>) -> Result<Exchange, Failure> {
        self.send_timed(prepared, Receiver::Memory(None)).await
    }

    /// The same, but a body of more than `most` bytes is not held, only its digest.
    pub async fn send_holding(&self, prepared: &Arc<PreparedRequest>, most: u64) -> Result<Exchange, Failure> {
        self.send_timed(prepared, Receiver::Memory(Some(most))).await
    }

    async fn send_timed(&self, prepared: &Arc<PreparedRequest>, receiver: Receiver<'_>) -> Result<Exchange, Failure> {
        self.receive_timed(prepared, receiver).await.map(Received::into_exchange)
    }

    /// Sends `prepared`, follows redirects, and holds the whole response if it has at most `most` bytes; or returns as soon as it is
    /// a stream of events, of which at most `most_streamed` bytes will be held.
    pub async fn receive_or_stream(
        &self,
        prepared: &Arc<PreparedRequest>,
        most: u64,
        most_streamed: u64,
    ) -> Result<Received, Failure> {
        let most = if most == u64::MAX { None } else { Some(most) };
        self.receive_timed(prepared, Receiver::Streaming { most, streamed: most_streamed }).await
    }

    async fn receive_timed(
        &self,
        prepared: &Arc<PreparedRequest>,
        receiver: Receiver<'_>,
    ) -> Result<Received, Failure> {
        let start = Instant::now();
        let limit = prepared.sending.timeout;
        // Pinned on the stack: its state is kilobytes, and would be moved twice.
        let following = std::pin::pin!(self.follow(prepared, start, receiver));
        match tokio::time::timeout(limit, following).await {
            Ok(outcome) => outcome,
            Err(_) => {
                let message =
                    format!("timed out after {1} s waiting for {0}", authority(&prepared.url), limit.as_secs_f64());
                let hint = "raise the limit with `% timeout 2m`";
                Err(failure(FailureKind::TimedOut, message, Some(hint), start.elapsed()))
            }
        }
    }

    /// The same, but the body goes on to `sink` as it comes and may be of any size; with `hold` it is
    /// held too, as far as the limit allows. The time limit holds for each wait, not for all of it. Of a stream of events only
    /// the head is received, and nothing is written yet.
    pub async fn send_to(
        &self,
        prepared: &Arc<PreparedRequest>,
        sink: &mut dyn Sink,
        hold: bool,
        streaming: Streaming,
    ) -> Result<Received, Failure> {
        self.follow(prepared, Instant::now(), Receiver::Sink(sink, hold, streaming)).await
    }

    async fn follow(
        &self,
        prepared: &Arc<PreparedRequest>,
        start: Instant,
        receiver: Receiver<'_>,
    ) -> Result<Received, Failure> {
        let mut way = Redirects::new(start);
        let mut request = Arc::clone(prepared);
        let mut answered = false;
        loop {
            let outgoing = self.outgoing(&request, &mut way).await?;
            let head = self.head(&outgoing, start, matches!(receiver, Receiver::Sink(..))).await?;
            let carried = outgoing.header("authorization").is_some();
            let (mut exchange, response) = head.parts(outgoing, start);
            self.take_cookies(&exchange, &mut way);
            let again = self.challenges.take(&request, &exchange, answered && carried)
                || (self.nonces.take(&request, &exchange) && !answered);
            let next = match again {
                true => None,
                false => next_hop(&request, exchange.status, exchange.header("location").as_deref()),
            };
            let (kind, target) = match next {
                _ if again => (HopKind::Challenge, Arc::clone(&request)),
                Some(Redirect::To(target)) => (HopKind::Redirect, target),
                Some(Redirect::Broken(why)) => {
                    let message = format!("invalid redirect from {}: {why}", request.url);
                    return Err(failure(FailureKind::Redirect, message, None, start.elapsed()));
                }
                None => {
                    (exchange.hops, exchange.cookies) = (way.hops, way.cookies);
                    return self.received(response, exchange, receiver, start).await;
                }
            };
            // The body of a redirect is not needed, but reading it keeps the connection.
            let pace = ReadLimits { each: exchange.sent.sending.timeout, limit: MAX_REDIRECT_BODY_BYTES };
            let limit = pace.each;
            let reading = self.receive(response, &mut exchange, Target::Memory, pace, start);
            if tokio::time::timeout(limit, reading).await.is_err() {
                tracing::debug!("the body of a redirect timed out");
            }
            answered |= again;
            way.passed(kind, exchange, &target)?;
            request = target;
        }
    }

    /// What came back: the whole response, or the beginning of what is received piece by piece.
    async fn received(
        &self,
        response: IncomingResponse,
        mut exchange: Exchange,
        mut receiver: Receiver<'_>,
        start: Instant,
    ) -> Result<Received, Failure> {
        let limit = self.shared.options.body_limit;
        if let Receiver::Streaming { streamed, .. } = receiver
            && exchange.status == 101
            && exchange.sent.conversation
        {
            let begun = Conversation::begin(exchange, response, streamed.min(limit), start).await?;
            return Ok(Received::Conversation(Box::new(begun)));
        }
        if let Some((format, most)) = receiver.stream_of(&exchange) {
            let stream = EventStream::new(exchange, format, response, most.min(limit), start);
            return Ok(Received::Events(Box::new(stream)));
        }
        let pace = ReadLimits { each: exchange.sent.sending.timeout, limit };
        self.receive(response, &mut exchange, receiver.target(), pace, start).await?;
        Ok(Received::Whole(exchange))
    }

    /// The request as it is sent: with cookies, the response to a challenge, and its signature.
    async fn outgoing(
        &self,
        request: &Arc<PreparedRequest>,
        way: &mut Redirects,
    ) -> Result<Arc<PreparedRequest>, Failure> {
        let answered = self.challenges.answer(Arc::clone(request));
        let outgoing =
            answered.map_err(|why| failure(FailureKind::Other, why.to_string(), None, way.start.elapsed()))?;
        let mut outgoing = self.add_cookies(request, outgoing, &mut way.cookies);
        if request.conversation {
            outgoing = conversation::handshake(&outgoing);
        }
        if outgoing.signers.is_empty() {
            return Ok(outgoing);
        }
        let signed = self.nonces.signed(outgoing).await;
        signed.map_err(|why| failure(FailureKind::Other, why.to_string(), None, way.start.elapsed()))
    }

    fn add_cookies(
        &self,
        request: &PreparedRequest,
        outgoing: Arc<PreparedRequest>,
        notes: &mut Vec<CookieNote>,
    ) -> Arc<PreparedRequest> {
        if !request.sending.cookies || request.header("cookie").is_some() {
            return outgoing;
        }
        let Some(cookies) = self.jar().header_for(&request.url, notes) else { return outgoing };
        let mut with_cookies = PreparedRequest::clone(&outgoing);
        with_cookies.headers.push(("Cookie".into(), cookies.into()));
        Arc::new(with_cookies)
    }

    fn take_cookies(&self, exchange: &Exchange, way: &mut Redirects) {
        if !exchange.sent.sending.cookies {
            return;
        }
        for (_, line) in exchange.headers.iter().filter(|(name, _)| name.eq_ignore_ascii_case("set-cookie")) {
            way.cookies.push(self.jar().take(&String::from_utf8_lossy(line), &exchange.sent.url));
        }
    }

    /// Sends a request and receives the head of its response. With `paced`, the time limit applies to this.
    async fn head(&self, prepared: &Arc<PreparedRequest>, start: Instant, paced: bool) -> Result<Head, Failure> {
        let url = &prepared.url;
        let other = |error: &dyn Display| failure(FailureKind::Other, error.to_string(), None, start.elapsed());
        let shared = &*self.shared;
        let proxy = shared.proxies.get_or_init(|| Proxies::new(&shared.options)).of(url);
        let plain_client = PlainClient::takes(prepared) && proxy.is_none() && shared.options.socket.is_none();
        let way = match plain_client {
            true => Sender::Straight(shared.plain_client.of(prepared, &shared.options).map_err(|error| other(&error))?),
            false => Sender::Library(shared.clients.of(prepared, &shared.options).map_err(|error| other(&error))?),
        };
        let mut tries = 0;
        loop {
            tries += 1;
            let began = Instant::now();
            let sending = std::pin::pin!(way.send(prepared, shared.options.keep_header_case, start)?);
            let limit = prepared.sending.timeout;
            let (answer, connected) = match (self.shared.options.time_connecting, paced) {
                (true, false) => timed(sending).await,
                (false, false) => (sending.await, Connected::default()),
                (_, true) => {
                    let Ok(outcome) = tokio::time::timeout(limit, timed(sending)).await else {
                        let message =
                            format!("timed out after {1} s waiting for {0}", authority(url), limit.as_secs_f64());
                        return Err(failure(FailureKind::TimedOut, message, None, start.elapsed()));
                    };
                    outcome
                }
            };
            let error = match answer {
                Ok(response) => {
                    self.shared.used.store(true, Ordering::Relaxed);
                    return Ok(Head { response, connected, began, answered: began.elapsed(), proxy });
                }
                Err(error) => error,
            };
            // A kept connection that its server closed just now. What is idempotent may be sent again
            // (RFC 9110 9.2.2); anything else never is.
            let stale = is_lost_connection(&error) && self.shared.used.load(Ordering::Relaxed) && tries == 1;
            let idempotent = ["GET", "HEAD", "OPTIONS", "TRACE", "PUT", "DELETE"].contains(&prepared.method.as_str());
            if !(stale && idempotent) {
                let via = match (&proxy, &self.shared.options.socket) {
                    (_, Some(socket)) => Via::Socket(socket),
                    (Some(proxy), None) => Via::Proxy(proxy),
                    (None, None) => Via::Nothing,
                };
                let mut failure = describe_via(&error, url, via, start.elapsed());
                if is_lost_connection(&error) && !idempotent {
                    let text = format!(
                        "the server may have processed the {}: it is not retried automatically",
                        prepared.method
                    );
                    failure.hint = Some(text);
                }
                return Err(failure);
            }
            tracing::debug!(method = prepared.method, "retried: a reused connection was closed");
        }
    }

    async fn receive(
        &self,
        response: IncomingResponse,
        exchange: &mut Exchange,
        target: Target<'_>,
        pace: ReadLimits,
        start: Instant,
    ) -> Result<(), Failure> {
        let from = Instant::now();
        let sent = Arc::clone(&exchange.sent);
        let received = body::read(response, &sent, target, pace, (start, &self.shared.received)).await?;
        exchange.notes.extend(received.note);
        exchange.digest = received.digest.or(exchange.digest.take());
        exchange.size = received.size;
        exchange.body = received.held;
        exchange.trailers = received.trailers;
        exchange.timings.receive = from.elapsed();
        exchange.timings.total = start.elapsed();
        let timings = &exchange.timings;
        tracing::debug!(
            method = exchange.sent.method,
            status = exchange.status,
            bytes = exchange.size,
            ?timings,
            "answered"
        );
        Ok(())
    }
}
