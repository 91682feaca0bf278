//! Times what happens inside the HTTP library: looking a name up and connecting. Both happen in the
//! task that sends, so they report to a slot of that task.

use hyper_util::client::legacy::connect::dns as legacy;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use std::cell::Cell;
use std::fmt;
use std::future::Future;
use std::net::SocketAddr;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};
use tower::{Layer, Service};

tokio::task_local! {
    static PHASES: Phases;
}

/// The phases of one hop.
#[derive(Default)]
struct Phases {
    lookup: Cell<Option<Duration>>,
    connect: Cell<Option<Duration>>,
    tls_from: Cell<Option<Instant>>,
    tls: Cell<Option<Duration>>,
}

/// The durations of DNS lookup, connecting and TLS, if they happened.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Connected {
    pub(crate) lookup: Option<Duration>,
    pub(crate) connect: Option<Duration>,
    pub(crate) tls: Option<Duration>,
}

/// A handshake begins now.
pub(crate) fn tls_begins() {
    let _ = PHASES.try_with(|phases| {
        if phases.tls_from.get().is_none() {
            phases.tls_from.set(Some(Instant::now()));
        }
    });
}

/// Runs `work` and returns the time it spent on connecting.
pub(crate) async fn timed<T>(work: impl Future<Output = T>) -> (T, Connected) {
    PHASES
        .scope(Phases::default(), async {
            let result = work.await;
            let connected = PHASES.with(|phases| {
                let lookup = phases.lookup.get();
                let tls = phases.tls.get();
                let before = lookup.unwrap_or_default() + tls.unwrap_or_default();
                let connect = phases.connect.get().map(|all| all.saturating_sub(before));
                Connected { lookup, connect, tls }
            });
            (result, connected)
        })
        .await
}

/// Looks names up with the system's resolver and times it. Addresses in digits never come here.
#[derive(Clone, Copy, Debug)]
pub(crate) struct TimedResolver;

/// A name nobody knows.
#[derive(Debug)]
pub(crate) struct NoSuchHost {
    pub(crate) name: String,
    pub(crate) reason: String,
}

impl fmt::Display for NoSuchHost {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "cannot resolve host `{}`: {}", self.name, self.reason)
    }
}

impl std::error::Error for NoSuchHost {}

impl Resolve for TimedResolver {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move { Ok(Box::new(look_up(name.as_str()).await?.into_iter()) as Addrs) })
    }
}

impl Service<legacy::Name> for TimedResolver {
    type Response = std::vec::IntoIter<SocketAddr>;
    type Error = Box<dyn std::error::Error + Send + Sync>;
    type Future = Pin<Box<dyn Future<Output = Result<Self::Response, Self::Error>> + Send>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, name: legacy::Name) -> Self::Future {
        Box::pin(async move { Ok(look_up(name.as_str()).await?.into_iter()) })
    }
}

async fn look_up(name: &str) -> Result<Vec<SocketAddr>, NoSuchHost> {
    let start = Instant::now();
    let found = tokio::net::lookup_host((name, 0)).await;
    let _ = PHASES.try_with(|phases| phases.lookup.set(Some(start.elapsed())));
    match found {
        Ok(addresses) => Ok(addresses.collect()),
        Err(error) => Err(NoSuchHost { name: name.to_owned(), reason: error.to_string() }),
    }
}

/// Times every connection that is made.
#[derive(Clone, Copy, Debug)]
pub(crate) struct TimedConnections;

impl<S> Layer<S> for TimedConnections {
    type Service = TimedConnector<S>;

    fn layer(&self, inner: S) -> Self::Service {
        TimedConnector { inner }
    }
}

#[derive(Clone, Debug)]
pub(crate) struct TimedConnector<S> {
    inner: S,
}

impl<S, R> Service<R> for TimedConnector<S>
where
    S: Service<R>,
    S::Future: Send + 'static,
{
    type Response = S::Response;
    type Error = S::Error;
    type Future = Pin<Box<dyn Future<Output = Result<S::Response, S::Error>> + Send>>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        self.inner.poll_ready(context)
    }

    fn call(&mut self, request: R) -> Self::Future {
        let start = Instant::now();
        let connecting = self.inner.call(request);
        Box::pin(async move {
            let outcome = connecting.await;
            // A connection made for a request that meanwhile got another has nobody to report to.
            let _ = PHASES.try_with(|phases| {
                phases.connect.set(Some(start.elapsed()));
                phases.tls.set(phases.tls_from.get().map(|from| from.elapsed()));
            });
            outcome
        })
    }
}
