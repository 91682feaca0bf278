//! Putting the checks of a response off until the next one is awaited.

use super::LaneCx;
use crate::deferred::{DeferredChecks, EarlyCaptures, PendingResponse, are_checks_independent};
use crate::response_exprs::ResponseExpr;
use std::panic::{AssertUnwindSafe, catch_unwind};
use yieldtray_workspace::scope::ResponseScope;

impl<'w> LaneCx<'_, 'w> {
    /// Whether the checks of a response may be evaluated after the next request was sent.
    pub(super) fn can_defer(&self, pending: &PendingResponse<'w>) -> bool {
        let step = self.step(pending.step);
        let options = self.inputs.options();
        // Whatever depends on the outcome must know it: other cells, rows, sequences, other lanes, and a run that ends
        // with the first failure. Tokens are reported before the cells that use them.
        let is_alone = self.run.scheduler.is_single_lane()
            && !options.fail_fast
            && !options.mutate_responses
            && !self.inputs.is_from_log();
        let has_profiles = !self.inputs.workspace().config.profiles.is_empty();
        let is_plain = step.played.is_none() && self.lane.rows().is_none() && !has_profiles;
        is_alone && is_plain && !self.run.outcomes.is_needed(step.cell) && are_checks_independent(&pending.exprs)
    }

    /// Captures what a response yields, and leaves its checks.
    pub(super) fn capture_early(&mut self, pending: &mut PendingResponse<'w>) -> EarlyCaptures {
        let (checks, yields): (Vec<_>, Vec<_>) =
            std::mem::take(&mut pending.exprs).into_iter().partition(ResponseExpr::is_check);
        pending.exprs = checks;
        if yields.is_empty() {
            return EarlyCaptures::default();
        }
        let PendingResponse { report, step, cache, exchange, .. } = pending;
        let mut names = ResponseScope::new(exchange);
        let results = self.checks(report.cell, *step, cache).evaluate(&yields, &mut names);
        EarlyCaptures { results, names: Some(names.into_cached()) }
    }

    /// Evaluates the checks that were put off.
    pub(crate) fn flush_deferred(&mut self) {
        let Some(DeferredChecks { pending, captures }) = self.run.deferred.take() else { return };
        let step = pending.step;
        let current = self.lane.replace_current(step);
        if let Err(panic) = catch_unwind(AssertUnwindSafe(|| self.finish_response(pending, captures))) {
            // The next request is in flight: the lane goes on.
            let report = self.panic_report(step, panic);
            self.finish(report);
        }
        self.lane.replace_current(current);
    }
}
