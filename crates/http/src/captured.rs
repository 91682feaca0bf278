//! An exchange that a report or the log keeps.

use super::Exchange;
use crate::PreparedRequest;
use std::sync::Arc;
use std::time::Duration;

/// A request with its response, secrets included: whoever shows it masks it.
#[derive(Clone, Debug)]
pub struct CapturedExchange {
    /// When it was sent, after the run began, by who sent it.
    pub began: Duration,
    /// The request of the last hop; without a response, of the first.
    pub sent: Arc<PreparedRequest>,
    /// The response.
    pub answer: Option<Exchange>,
}

impl CapturedExchange {
    /// How many bytes it holds, about.
    pub fn size(&self) -> usize {
        self.answer.as_ref().map_or(0, |exchange| exchange.body.len())
    }
}
