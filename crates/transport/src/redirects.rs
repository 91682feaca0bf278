//! The way of a request over redirects and challenges.

use crate::failure::failure;
use std::sync::Arc;
use std::time::Instant;
use yieldtray_http::{CookieNote, Exchange, Failure, FailureKind, Hop, HopKind, PreparedRequest};

/// A request that goes out, and what the way to it was.
pub(crate) struct Redirects {
    /// The requests that were sent, to detect a redirect loop.
    seen: Vec<Arc<PreparedRequest>>,
    pub(crate) hops: Vec<Hop>,
    pub(crate) cookies: Vec<CookieNote>,
    pub(crate) start: Instant,
}

impl Redirects {
    /// A way that begins at `start`.
    pub(crate) fn new(start: Instant) -> Self {
        Self { seen: Vec::new(), hops: Vec::new(), cookies: Vec::new(), start }
    }

    /// Records a hop that was not the last, and refuses a loop.
    pub(crate) fn passed(
        &mut self,
        kind: HopKind,
        exchange: Exchange,
        target: &Arc<PreparedRequest>,
    ) -> Result<(), Failure> {
        let sent = Arc::clone(&exchange.sent);
        self.hops.push(Hop {
            kind,
            timings: exchange.timings,
            status: exchange.status,
            method: sent.method.clone(),
            url: sent.address().into_owned(),
            location: target.url.to_string(),
        });
        if kind == HopKind::Challenge {
            return Ok(());
        }
        let redirects = self.hops.iter().filter(|hop| hop.kind == HopKind::Redirect).count();
        let limit = sent.sending.redirects;
        let refuse = |message, hint| Err(failure(FailureKind::Redirect, message, Some(hint), self.start.elapsed()));
        // A request that was sent before, with the same cookies, gets the same response.
        let same = |known: &&Arc<PreparedRequest>| {
            (&known.method, &known.url, known.header("cookie")) == (&sent.method, &sent.url, sent.header("cookie"))
        };
        if self.seen.iter().any(|known| same(&known)) {
            return refuse(
                format!("redirect loop: {} redirects to itself", sent.url),
                "use `% redirects 0` to see the first response",
            );
        }
        if redirects > usize::from(limit) {
            let from = &self.seen.first().unwrap_or(&sent).url;
            return refuse(
                format!("too many redirects from {from} (limit {limit})"),
                "set the limit with `% redirects N`",
            );
        }
        self.seen.push(sent);
        Ok(())
    }
}
