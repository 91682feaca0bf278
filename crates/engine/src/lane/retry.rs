//! Requests that are sent again until a condition holds (`% wait`).

use super::LaneCx;
use crate::event::Outcome;
use crate::next::{Next, Pause};
use crate::ready::ReadyRequest;
use crate::response_exprs::Poll;
use std::sync::Arc;
use std::time::Duration;
use yieldtray_http::Failure;

/// A request that is sent again.
pub(crate) struct Retry<'w> {
    ready: Box<ReadyRequest<'w>>,
    /// The pause before it, until that is over.
    pause: Option<Duration>,
}

impl<'w> Retry<'w> {
    /// One after a pause.
    pub(super) fn after(ready: Box<ReadyRequest<'w>>, pause: Duration) -> Self {
        Self { ready, pause: Some(pause) }
    }

    /// One without a pause.
    pub(super) fn at_once(ready: Box<ReadyRequest<'w>>) -> Self {
        Self { ready, pause: None }
    }
}

impl Retry<'_> {
    /// The place of its step in the plan.
    pub(super) fn step(&self) -> usize {
        self.ready.step
    }
}

impl<'w> LaneCx<'_, 'w> {
    /// Goes on with a request that is sent again: with the pause before it, or the request.
    pub(super) fn resume_retry(&mut self, retry: Retry<'w>) -> Option<Next<'w>> {
        let Retry { ready, pause } = retry;
        if self.run.events.is_interrupted() {
            self.give_up(ready);
            return None;
        }
        self.mark_sent(ready.step);
        let Some(time) = pause else { return Some(Next::Send(ready)) };
        self.lane.set_retry(Retry { ready, pause: None });
        Some(Next::Pause(Pause::new(time, self.index)))
    }

    /// Reports a request that would be sent again, had the user not ended the run.
    fn give_up(&mut self, ready: Box<ReadyRequest<'w>>) {
        let mut report = self.report(ready.cell, Outcome::NoResponse, ready.work.problems);
        report.method.clone_from(&ready.prepared.method);
        report.url = self.run.masker.mask(&ready.prepared.address()).into_owned();
        let poll = ready.work.poll.as_ref();
        report.attempts = poll.map_or(1, |poll| poll.attempts);
        report.elapsed = poll.map_or(Duration::ZERO, |poll| poll.elapsed);
        let message = "interrupted while waiting".to_owned();
        report.failure = Some(Failure { message, hint: None, ..Failure::interrupted(report.elapsed) });
        self.finish(report);
    }

    /// Sends a request again after a pause.
    pub(super) fn send_again(&mut self, mut ready: Box<ReadyRequest<'w>>, poll: Poll<'w>) {
        let pause = Some(poll.interval);
        Arc::make_mut(&mut ready.prepared).sending.timeout = poll.time_left();
        ready.work.poll = Some(poll);
        self.lane.set_retry(Retry { ready, pause });
    }
}
