//! The parts of a run that change, each with an owner that keeps its fields to itself.

use crate::deferred::Deferred;
use crate::event_buffer::EventBuffer;
use crate::oauth_state::OAuthState;
use crate::outcomes::Outcomes;
use crate::run_values::RunValues;
use crate::scheduler::Scheduler;
use yieldtray_source::Problem;
use yieldtray_workspace::secret::Masker;

/// The parts of a run that change, bundled so that they can be borrowed one by one.
pub(crate) struct RunState<'w> {
    pub(crate) scheduler: Scheduler,
    pub(crate) outcomes: Outcomes,
    pub(crate) values: RunValues,
    pub(crate) oauth: OAuthState,
    pub(crate) events: EventBuffer,
    pub(crate) deferred: Deferred<'w>,
    /// Masks every secret that is known so far.
    pub(crate) masker: Masker,
    pub(crate) step_problems: StepProblems,
}

impl RunState<'_> {
    /// Begins another round: each one starts with no outcomes and with the values that the run started with.
    pub(crate) fn begin_round(&mut self, round: usize) {
        self.scheduler.begin_round(round);
        self.outcomes.reset();
        self.values.reset(self.scheduler.steps_needed_elsewhere().clone());
    }
}

/// The problems of each step that were found before it is sent.
pub(crate) struct StepProblems(Vec<Vec<Problem>>);

impl StepProblems {
    /// The problems that planning found, one list a step.
    pub(crate) fn new(problems: Vec<Vec<Problem>>) -> Self {
        Self(problems)
    }

    /// The problems of a step.
    pub(crate) fn of(&self, step: usize) -> &[Problem] {
        &self.0[step]
    }

    /// Adds problems of a step.
    pub(crate) fn add(&mut self, step: usize, problems: impl IntoIterator<Item = Problem>) {
        self.0[step].extend(problems);
    }

    /// Takes the problems of a step, which is reported now.
    pub(crate) fn take(&mut self, step: usize) -> Vec<Problem> {
        std::mem::take(&mut self.0[step])
    }
}
