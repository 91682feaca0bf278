//! Checks that are judged while the next answer is awaited. What an answer yields is taken at once, since the next
//! request may use it; that a check fails concerns nobody but those who listen, if no cell needs this one.

use super::Run;
use super::checks::{Purpose, Use};
use super::event::CellReport;
use crate::check_evaluator::Judgement;
use crate::checks;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::time::Duration;
use yieldtray_http::Exchange;
use yieldtray_http::Prepared;
use yieldtray_workspace::request::Token;
use yieldtray_workspace::scope::Memo;
use yieldtray_workspace::scope::{Made, ResponseNames};

/// An answer with all that is needed to judge it.
pub(super) struct Answered<'w> {
    pub(super) report: CellReport,
    /// How many forms of secrets were known when it came.
    pub(super) known: usize,
    pub(super) prepared: Arc<Prepared>,
    pub(super) began: Duration,
    pub(super) step: usize,
    pub(super) memo: Memo,
    /// What is still to be done with it.
    pub(super) uses: Vec<Use<'w>>,
    /// How many checks were judged on the way to it.
    pub(super) came: usize,
    /// What was waited for, and came.
    pub(super) awaited: Option<Use<'w>>,
    pub(super) token: Option<Token>,
    pub(super) exchange: Exchange,
}

/// An answer whose checks are judged later.
pub(super) struct PutOff<'w> {
    pub(super) answered: Answered<'w>,
    pub(super) taken: Taken,
}

/// What was taken out of an answer before its checks are judged.
#[derive(Default)]
pub(super) struct Taken {
    pub(super) judgement: Judgement,
    /// What its names are, as far as they were made: its body is parsed once.
    pub(super) made: Option<Made>,
}

impl<'w> Run<'w> {
    /// Whether the checks of an answer may be judged after the next request went out.
    pub(super) fn may_put_off(&self, answered: &Answered<'w>) -> bool {
        let step = &self.plan.steps[answered.step];
        // Whatever decides by how this cell comes out must know it: other cells, rows, sequences, other lanes, and
        // a run that ends with the first failure. Tokens are told of before the cells that carry them.
        let alone = self.lanes.len() == 1 && !self.fail_fast && !self.proves && self.recalled.is_none();
        let plain = step.played.is_none() && self.lane.turn.is_none() && self.workspace.config.profiles.is_empty();
        alone && plain && !self.needed.contains(&step.cell) && yields_change_nothing(&answered.uses)
    }

    /// Takes out what an answer yields, and leaves the checks.
    pub(super) fn take_yields(&mut self, answered: &mut Answered<'w>) -> Taken {
        let reads = checks::reads_of_body(&answered.uses);
        let (checks, yields): (Vec<_>, Vec<_>) =
            std::mem::take(&mut answered.uses).into_iter().partition(Use::is_check);
        answered.uses = checks;
        if yields.is_empty() {
            return Taken::default();
        }
        let Answered { report, step, memo, exchange, .. } = answered;
        let mut names = ResponseNames::reading(exchange, reads);
        let judgement = self.judge(report.cell, *step, memo, &yields, &mut names);
        Taken { judgement, made: Some(names.into_made()) }
    }

    /// Judges what was put off.
    pub(super) fn settle(&mut self) {
        let Some(put_off) = self.put_off.take() else { return };
        let PutOff { answered, taken } = *put_off;
        let (step, entered) = (answered.step, self.entered);
        if entered.is_none() {
            self.enter(0);
        }
        let current = std::mem::replace(&mut self.lane.current, step);
        if let Err(why) = catch_unwind(AssertUnwindSafe(|| self.conclude(answered, taken))) {
            // The request behind it is under way: the lane goes on.
            let report = self.failed_itself(step, why);
            self.finish(report);
        }
        self.lane.current = current;
        if entered.is_none() {
            self.exit();
        }
    }
}

/// Whether no check reads what the same cell yields: it must not see another value than where it stands.
fn yields_change_nothing(uses: &[Use<'_>]) -> bool {
    let yielded =
        |name: &str| uses.iter().any(|step| matches!(step.purpose, Purpose::Yield { name: own, .. } if own == name));
    let mut checks = uses.iter().filter(|step| step.is_check()).peekable();
    // Without checks there is nothing to put off.
    checks.peek().is_some() && !checks.any(|check| check.expression.names().iter().any(|name| yielded(name)))
}
