//! Following pages.

use super::LaneCx;
use super::retry::Retry;
use crate::pages::{MAX_PAGES_BYTES, PageWork};
use crate::ready::ReadyRequest;
use std::sync::Arc;
use yieldtray_http::{Exchange, Failure, FailureKind, PreparedRequest, Redirect, links, next_page};
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
        let followed = response.and_then(|exchange| {
            let next = self.request_of_next(&mut ready, &pages, &exchange).map_err(|why| {
                let hint = Some("`% follow next for 1 page` follows none".to_owned());
                Failure { kind: FailureKind::Redirect, message: why, hint, elapsed: exchange.timings.total }
            });
            next.map(|next| (exchange, next))
        });
        match followed {
            Ok((exchange, Some(request))) => {
                pages.push(exchange, &request);
                let first = std::mem::replace(&mut ready.prepared, request);
                pages.first.get_or_insert(first);
                ready.work.pages = Some(pages);
                self.lane.set_retry(Retry::at_once(ready));
                None
            }
            Ok((exchange, None)) => {
                ready.prepared = pages.first.take().unwrap_or(ready.prepared);
                Some((ready, Ok(pages.joined(exchange))))
            }
            Err(failure) => {
                let is_of_first = number == 1 && failure.kind != FailureKind::Redirect;
                let message = if is_of_first { failure.message } else { format!("page {number}: {}", failure.message) };
                ready.prepared = pages.first.unwrap_or(ready.prepared);
                Some((ready, Err(Failure { message, ..failure })))
            }
        }
    }

    /// The request for the page that a page leads to; `None` if it is the last one.
    fn request_of_next(
        &mut self,
        ready: &mut ReadyRequest<'w>,
        pages: &PageWork<'w>,
        exchange: &Exchange,
    ) -> Result<Option<Arc<PreparedRequest>>, String> {
        let may_go_on = !self.run.events.is_interrupted() && !self.inputs.is_from_log();
        if !may_go_on || !(200..300).contains(&exchange.status) || pages.hops.len() + 1 >= pages.most as usize {
            return Ok(None);
        }
        let Some(next) = self.next_of(ready, pages, exchange)? else { return Ok(None) };
        let request = match next_page(&exchange.sent, &next) {
            Redirect::To(request) => request,
            Redirect::Broken(why) => return Err(format!("the link to the next page cannot be followed: {why}")),
        };
        if exchange.sent.url == request.url || pages.has_seen(&request.url) {
            return Err(format!("it leads back to {}", request.url));
        }
        if pages.size() + exchange.body.len() > MAX_PAGES_BYTES {
            return Err(format!("all pages together are larger than {} MiB", MAX_PAGES_BYTES >> 20));
        }
        Ok(Some(request))
    }

    /// The URL of the next page, if there is one.
    fn next_of(
        &mut self,
        ready: &mut ReadyRequest<'w>,
        pages: &PageWork<'w>,
        exchange: &Exchange,
    ) -> Result<Option<String>, String> {
        let Some(next) = &pages.next else { return Ok(links(exchange, "next").into_iter().next()) };
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
}
