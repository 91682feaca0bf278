//! Following pages.

use super::LaneCx;
use super::retry::Retry;
use crate::pages::{MAX_PAGES_BYTES, PageWork};
use crate::ready::ReadyRequest;
use std::time::Duration;
use yieldtray_http::{Exchange, Failure, FailureKind, Hop, HopKind, Redirect, next_link, next_page};
use yieldtray_workspace::scope::{Phase, ResponseScope};

/// The request with the last of its pages, or why there is none.
pub(super) type LastPage<'w> = (Box<ReadyRequest<'w>>, Result<Exchange, Failure>);

impl<'w> LaneCx<'_, 'w> {
    /// Takes a page, and requests the one it leads to.
    pub(super) fn on_page(
        &mut self,
        mut ready: Box<ReadyRequest<'w>>,
        response: Result<Exchange, Failure>,
    ) -> Option<LastPage<'w>> {
        let Some(mut pages) = ready.work.pages.take() else { return Some((ready, response)) };
        let number = pages.hops.len() + 1;
        let exchange = match response {
            Ok(exchange) => exchange,
            Err(failure) => {
                ready.prepared = pages.first.unwrap_or(ready.prepared);
                let message =
                    if number > 1 { format!("page {number}: {}", failure.message) } else { failure.message.clone() };
                return Some((ready, Err(Failure { message, ..failure })));
            }
        };
        let may_go_on = !self.run.events.is_interrupted() && !self.inputs.is_from_log();
        let next = match (200..300).contains(&exchange.status) && may_go_on && number < pages.most as usize {
            true => self.next_of(&mut ready, &mut pages, &exchange),
            false => Ok(None),
        };
        let failed = |message: String| {
            let elapsed = exchange.timings.total;
            let hint = Some("`% follow next for 1 page` follows none".to_owned());
            Failure { kind: FailureKind::Redirect, message: format!("page {number}: {message}"), hint, elapsed }
        };
        let next = match next {
            Ok(Some(next)) => next,
            Ok(None) => return self.last_page(ready, pages, exchange),
            Err(why) => return Some((ready, Err(failed(why)))),
        };
        let request = match next_page(&exchange.sent, &next) {
            Redirect::To(request) => request,
            Redirect::Broken(why) => {
                return Some((ready, Err(failed(format!("the link to the next page cannot be followed: {why}")))));
            }
        };
        let seen = pages.hops.iter().any(|hop| hop.url == request.url.as_str()) || exchange.sent.url == request.url;
        if seen {
            return Some((ready, Err(failed(format!("it leads back to {}", request.url)))));
        }
        let held: usize = pages.bodies.iter().map(bytes::Bytes::len).sum();
        if held + exchange.body.len() > MAX_PAGES_BYTES {
            return Some((
                ready,
                Err(failed(format!("all pages together are larger than {} MiB", MAX_PAGES_BYTES >> 20))),
            ));
        }
        pages.hops.push(Hop {
            kind: HopKind::Page,
            timings: exchange.timings,
            status: exchange.status,
            method: exchange.sent.method.clone(),
            url: exchange.sent.address().into_owned(),
            location: request.url.to_string(),
        });
        pages.bodies.push(exchange.body);
        let first = std::mem::replace(&mut ready.prepared, request);
        pages.first.get_or_insert(first);
        ready.work.pages = Some(pages);
        self.lane.set_retry(Retry::at_once(ready));
        None
    }

    /// The URL of the next page, if there is one.
    fn next_of(
        &mut self,
        ready: &mut ReadyRequest<'w>,
        pages: &mut PageWork<'w>,
        exchange: &Exchange,
    ) -> Result<Option<String>, String> {
        let Some(next) = &pages.next else { return Ok(next_link(exchange)) };
        let mut names = ResponseScope::new(exchange);
        let (cell, step) = (ready.cell, ready.step);
        let mut resolver = self.resolver(cell, &self.step(step).needs, &mut ready.work.cache);
        let value = resolver
            .evaluate(next.source, next.span, Phase::Response(&mut names))
            .map_err(|problems| problems.into_iter().next().map(|problem| problem.message).unwrap_or_default())?;
        match value.as_text() {
            Some(text) => Ok(Some(text.to_owned()).filter(|text| !text.is_empty())),
            None if value.kind() == yieldtray_expression::ValueKind::Null => Ok(None),
            None => Err(format!("the next page must be a URL or null, but is {}", value.kind().describe())),
        }
    }

    /// The last page, with those before it.
    fn last_page(
        &mut self,
        mut ready: Box<ReadyRequest<'w>>,
        pages: PageWork<'w>,
        mut exchange: Exchange,
    ) -> Option<LastPage<'w>> {
        ready.prepared = pages.first.unwrap_or(ready.prepared);
        // A logged response has its pages already.
        if !pages.hops.is_empty() {
            exchange.timings.total += pages.hops.iter().map(|hop| hop.timings.total).sum::<Duration>();
            exchange.hops.splice(..0, pages.hops);
            exchange.pages = pages.bodies;
        }
        Some((ready, Ok(exchange)))
    }
}
