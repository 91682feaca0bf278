//! The actions that a run asks its caller for.

use crate::question::Question;
use crate::ready::ReadyRequest;
use std::time::Duration;
use yieldtray_credentials::oauth::{Token, TokenFlow};
use yieldtray_workspace::CellId;

/// An action that a run asks its caller for.
#[derive(Debug)]
pub enum Next<'w> {
    /// Send this request, and hand the response to [`Run::complete`](crate::Run::complete).
    Send(Box<ReadyRequest<'w>>),
    /// Ask this, and pass the answer to [`Run::answer`](crate::Run::answer).
    Ask(Question),
    /// Wait this long, and call [`Run::resume`](crate::Run::resume).
    Pause(Pause),
    /// Obtain a token by these steps, and hand it to [`Run::authorize`](crate::Run::authorize).
    Authorize(Box<TokenFlow>),
    /// Nothing can go before something that is in flight has ended.
    Wait,
}

/// A token that was obtained.
#[derive(Debug)]
pub struct ObtainedToken {
    /// The token.
    pub token: Token,
    /// Where it came from.
    pub url: String,
    /// How long that took, without the time that a person needed.
    pub elapsed: Duration,
    /// Whether it replaces an expired one.
    pub renewed: bool,
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
