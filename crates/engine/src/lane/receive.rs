//! The response to a request, or why there is none, and whether it is sent again.

use super::LaneCx;
use super::retry::Retry;
use crate::deferred::{DeferredChecks, EarlyCaptures, PendingResponse};
use crate::event::Outcome;
use crate::ready::{ReadyRequest, ResponseWork};
use crate::response_exprs::ResponseExpr;
use crate::retry_after::{MAX_RETRIES, wait_of};
use yieldtray_http::{Exchange, Failure, FailureKind, StreamEnd};
use yieldtray_workspace::scope::ResponseScope;

impl<'w> LaneCx<'_, 'w> {
    /// Takes the response to a request, or why there is none.
    pub(crate) fn on_response(&mut self, mut ready: Box<ReadyRequest<'w>>, mut response: Result<Exchange, Failure>) {
        if let (Ok(exchange), Some(most)) = (&response, ready.prepared.sending.retry_after)
            && let Some(wait) = wait_of(exchange, self.inputs.random().now().timestamp()).filter(|wait| *wait <= most)
            && ready.work.retries < MAX_RETRIES
            && !self.run.events.is_interrupted()
            && !self.inputs.is_from_log()
        {
            ready.work.retries += 1;
            return self.lane.set_retry(Retry::after(ready, wait));
        }
        let (mut attempts, mut passed_wait) = (1 + ready.work.retries, None);
        // A polling condition that became true counts as a check; one that never did is evaluated and reported as one.
        if let Some(mut poll) = ready.work.poll.take() {
            let (holds, took) = match &response {
                Ok(exchange) => (self.poll_holds(&mut ready, &poll.until, exchange), exchange.timings.total),
                Err(failure) => (false, failure.elapsed),
            };
            poll.attempts += 1;
            poll.elapsed += took + poll.interval;
            let may_go_on = !self.run.events.is_interrupted() && !self.inputs.is_from_log();
            if !holds && poll.elapsed < poll.timeout && may_go_on {
                return self.send_again(ready, poll);
            }
            attempts = poll.attempts + ready.work.retries;
            if let Err(failure) = &mut response
                && failure.kind == FailureKind::TimedOut
                && ready.prepared.sending.timeout < poll.request_timeout
            {
                failure.hint = Some("an attempt may take the rest of `for …` in `% wait`: increase it".to_owned());
            }
            match holds {
                true => passed_wait = Some(poll.until),
                false => ready.work.exprs.insert(0, poll.until),
            }
        }
        // Most requests follow no pages, and are not moved for it.
        if ready.work.pages.is_some() {
            match self.on_page(ready, response) {
                None => return,
                Some(last) => (ready, response) = last,
            }
        }
        if let (Some(until), Ok(exchange)) = (ready.work.stream.until.take(), &response) {
            // Like that of `% wait`: one that never became true is evaluated and reported as a check.
            match exchange.stream.as_ref().map(|stream| stream.end) {
                Some(StreamEnd::Condition) => passed_wait = Some(until),
                _ => ready.work.exprs.insert(0, until),
            }
        }
        let conversation = std::mem::take(&mut ready.work.conversation);
        let ReadyRequest { prepared, cell, step, sent_at, work, .. } = *ready;
        let ResponseWork { token, cache, exprs, problems, .. } = work;
        let mut report = self.report(cell, Outcome::Passed, problems);
        report.attempts = attempts;
        report.method.clone_from(&prepared.method);
        let exchange = match response {
            Ok(exchange) => exchange,
            Err(failure) => {
                report.outcome = Outcome::NoResponse;
                report.elapsed = failure.elapsed;
                report.failure = Some(self.mask_failure(&failure));
                report.advice = self.explain_unreachable(cell, step, &failure);
                return self.report_exchange(report, prepared, sent_at, None);
            }
        };
        report.status = Some(exchange.status);
        report.elapsed = exchange.timings.total;
        report.size = exchange.size;
        let known_secrets = self.run.masker.forms();
        let mut pending = PendingResponse {
            report,
            known_secrets,
            prepared,
            sent_at,
            step,
            cache,
            exprs,
            passed_wait,
            token,
            exchange,
            conversation,
        };
        match self.can_defer(&pending) {
            true => {
                let captures = self.capture_early(&mut pending);
                self.run.deferred.put_off(DeferredChecks { pending, captures });
            }
            false => self.finish_response(pending, EarlyCaptures::default()),
        }
    }

    /// Reports a request that is not sent after all.
    pub(crate) fn on_skipped(&mut self, ready: Box<ReadyRequest<'w>>, reason: &str) {
        let ReadyRequest { cell, work, .. } = *ready;
        let report = self.report(cell, Outcome::Skipped, work.problems).because(reason.to_owned());
        self.finish(report);
    }

    /// Whether the condition of `% wait` holds for a response.
    fn poll_holds(&mut self, ready: &mut ReadyRequest<'w>, until: &ResponseExpr<'w>, exchange: &Exchange) -> bool {
        let until = std::slice::from_ref(until);
        let mut names = ResponseScope::new(exchange);
        let mut checks = self.checks(ready.cell, ready.step, &mut ready.work.cache);
        checks.evaluate(until, &mut names).failures.is_empty()
    }
}
