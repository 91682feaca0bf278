//! Checks that are evaluated while the next response is awaited. What a response yields is captured at once, since the
//! next request may use it; whether a check fails matters to readers of the events only, if no cell needs this one.

use crate::check_evaluator::CheckResults;
use crate::conversation::ConversationWork;
use crate::event::CellReport;
use crate::response_exprs::{Purpose, ResponseExpr};
use std::sync::Arc;
use std::time::Duration;
use yieldtray_credentials::oauth::Token;
use yieldtray_http::{Exchange, PreparedRequest};
use yieldtray_workspace::scope::{CachedNames, EvalCache};

/// A response with all that is needed to evaluate its checks.
pub(crate) struct PendingResponse<'w> {
    pub(crate) report: CellReport,
    /// How many forms of secrets were known when it arrived.
    pub(crate) known_secrets: usize,
    pub(crate) prepared: Arc<PreparedRequest>,
    /// When the request was sent, after the run began.
    pub(crate) sent_at: Duration,
    pub(crate) step: usize,
    pub(crate) cache: EvalCache,
    /// The expressions that are still to be evaluated on it.
    pub(crate) exprs: Vec<ResponseExpr<'w>>,
    /// The check of `% wait`, which passed and counts.
    pub(crate) passed_wait: Option<ResponseExpr<'w>>,
    pub(crate) token: Option<Token>,
    pub(crate) exchange: Exchange,
    pub(crate) conversation: ConversationWork<'w>,
}

/// The values captured from a response before its checks are evaluated.
#[derive(Default)]
pub(crate) struct EarlyCaptures {
    pub(crate) results: CheckResults,
    /// The names of the response that were evaluated: its body is parsed once.
    pub(crate) names: Option<CachedNames>,
}

/// A response whose checks are evaluated later.
pub(crate) struct DeferredChecks<'w> {
    pub(crate) pending: PendingResponse<'w>,
    pub(crate) captures: EarlyCaptures,
}

/// Work that is put off until a response is awaited.
#[derive(Default)]
pub(crate) struct Deferred<'w> {
    checks: Option<Box<DeferredChecks<'w>>>,
    /// The last response, if no report has it: freeing a large one takes time.
    response_to_drop: Option<Exchange>,
}

impl<'w> Deferred<'w> {
    /// Puts the checks of a response off.
    pub(crate) fn put_off(&mut self, checks: DeferredChecks<'w>) {
        self.checks = Some(Box::new(checks));
    }

    /// Takes what was put off, to be evaluated now.
    pub(crate) fn take(&mut self) -> Option<DeferredChecks<'w>> {
        self.checks.take().map(|checks| *checks)
    }

    /// Whether checks are put off.
    pub(crate) fn is_pending(&self) -> bool {
        self.checks.is_some()
    }

    /// The step whose checks are put off.
    pub(crate) fn step(&self) -> Option<usize> {
        self.checks.as_ref().map(|checks| checks.pending.step)
    }

    /// Keeps a response that nobody needs any more until there is time to free it.
    pub(crate) fn drop_later(&mut self, exchange: Option<Exchange>) {
        self.response_to_drop = exchange;
    }

    /// Frees the response that nobody needs any more.
    pub(crate) fn drop_response(&mut self) {
        self.response_to_drop = None;
    }
}

/// Whether no check reads what the same cell yields: it must see the value that is there where it is written.
pub(crate) fn are_checks_independent(exprs: &[ResponseExpr<'_>]) -> bool {
    let is_yielded =
        |name: &str| exprs.iter().any(|expr| matches!(expr.purpose, Purpose::Yield { name: own, .. } if own == name));
    let mut checks = exprs.iter().filter(|expr| expr.is_check()).peekable();
    // Without checks there is nothing to put off.
    checks.peek().is_some() && !checks.any(|check| check.expression.names().any(is_yielded))
}
