//! The actions that a run asks its caller for.

use crate::question::Question;
use crate::ready::ReadyRequest;
use std::time::Duration;
use yieldtray_workspace::CellId;
use yieldtray_workspace::request::TokenRequest;

/// An action that a run asks its caller for.
#[derive(Debug)]
pub enum Next<'w> {
    /// Send this request, and hand the response to [`Run::complete`](crate::Run::complete).
    Send(Box<ReadyRequest<'w>>),
    /// Ask this, and pass the answer to [`Run::answer`](crate::Run::answer).
    Ask(Question),
    /// Wait this long, and call [`Run::resume`](crate::Run::resume).
    Pause(Pause),
    /// Send this request for a token, and hand the response to [`Run::authorize`](crate::Run::authorize).
    Authorize(Box<TokenRequest>),
    /// Nothing can go before something that is in flight has ended.
    Wait,
}

/// A pause before a request is sent again.
#[derive(Debug)]
pub struct Pause {
    /// How long it is.
    pub time: Duration,
    lane: usize,
}

impl Pause {
    pub(crate) fn new(time: Duration, lane: usize) -> Self {
        Self { time, lane }
    }

    pub(crate) fn lane(&self) -> usize {
        self.lane
    }
}

/// How far a run is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Progress {
    /// Steps of the plan that have ended.
    pub done: usize,
    /// Steps in the plan.
    pub all: usize,
    /// Of the cells that are in flight, the one whose report comes next.
    pub waits_for: Option<CellId>,
}
