//! Work on one lane. [`LaneCx`] borrows what a run reads, the lane, and what all lanes share; the files beside this one
//! are its methods, one subject each.

mod advance;
mod conversation;
mod defer;
mod finish_response;
mod mutate;
mod pages;
mod panic;
mod prepare;
mod receive;
mod report;
mod retry;
mod rows;
mod sequence;
mod state;
mod stream;
mod tokens;

use crate::check_evaluator::CheckEvaluator;
use crate::event::Outcome;
use crate::inputs::RunInputs;
use crate::run_state::RunState;
pub(crate) use state::{Activity, LaneState};
use yieldtray_source::Problem;
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::Step;
use yieldtray_workspace::scope::{EvalCache, EvalContext, Resolver};

/// One lane with all that is needed to work on it.
pub(crate) struct LaneCx<'r, 'w> {
    inputs: &'r RunInputs<'w>,
    lane: &'r mut LaneState<'w>,
    /// The number of the lane.
    index: usize,
    run: &'r mut RunState<'w>,
}

impl<'r, 'w> LaneCx<'r, 'w> {
    pub(crate) fn new(
        inputs: &'r RunInputs<'w>,
        lane: &'r mut LaneState<'w>,
        index: usize,
        run: &'r mut RunState<'w>,
    ) -> Self {
        Self { inputs, lane, index, run }
    }

    /// Ends the work on the lane for now: what it waits for decides when it goes on.
    pub(crate) fn release(self) {
        let Self { lane, index, run, .. } = self;
        if let Some(step) = lane.position().filter(|_| lane.is_waiting_for_turn()) {
            run.scheduler.make_runnable(step, index);
        }
        let deferred = run.deferred.step().unwrap_or(usize::MAX);
        run.events.advance(index, lane.reported_up_to().min(deferred), &run.masker);
    }

    /// Waits for something: the lane does not go on before that is over.
    fn begin_wait(&mut self, activity: Activity) {
        self.lane.set_activity(activity);
        self.run.scheduler.begin_wait();
    }

    /// Waits for the response to the request of a step.
    fn mark_sent(&mut self, step: usize) {
        self.begin_wait(Activity::Request(step));
        self.run.scheduler.mark_sent(self.index);
    }

    /// Ends the wait, if the lane waits for something.
    pub(crate) fn end_wait(&mut self) {
        if self.lane.end_activity() {
            self.run.scheduler.end_wait();
        }
    }

    fn step(&self, step: usize) -> &'r Step {
        self.inputs.step(step)
    }

    /// The context in which the lane's expressions are evaluated.
    fn context(&self) -> EvalContext<'_> {
        self.inputs.context(&self.run.values, self.lane.random())
    }

    /// The cache for a cell's expressions: its row, and the arguments that its sequence passes.
    fn cache(&self) -> EvalCache {
        let row = self.lane.rows().and_then(|rows| rows.row().cloned());
        EvalCache::given(row, self.lane.play_args().to_vec()).at(self.lane.current())
    }

    /// The same for the request itself: the row is used up.
    fn take_cache(&mut self) -> EvalCache {
        let row = self.lane.rows_mut().and_then(|rows| rows.take_row());
        let (values, secrets) = self.lane.take_play_args();
        let mut cache = EvalCache::given(row, values).at(self.lane.current());
        cache.secrets = secrets;
        cache
    }

    /// A resolver of the names that `cell` sees, which directly needs `needs`.
    fn resolver<'a>(&'a self, cell: CellId, needs: &'a [CellId], cache: &'a mut EvalCache) -> Resolver<'a> {
        Resolver::new(self.context(), cell, needs, cache)
    }

    /// Evaluates checks of a step and captures what it yields.
    fn checks<'a>(&'a mut self, cell: CellId, step: usize, cache: &'a mut EvalCache) -> CheckEvaluator<'a> {
        let (tray, answers) = self.run.values.tray_and_answers();
        CheckEvaluator {
            workspace: self.inputs.workspace(),
            engine: self.inputs.engine(),
            random: self.lane.random(),
            settings: self.inputs.settings(),
            tray,
            answers,
            masker: &mut self.run.masker,
            cell,
            step,
            needs: &self.inputs.step(step).needs,
            cache,
        }
    }

    /// Masks the secrets that were looked up since this was last called.
    fn mask_new_secrets(&mut self, cache: &mut EvalCache) {
        self.run.masker.learn(cache.new_secrets());
    }

    /// Records the outcome of a step's cell.
    fn record_outcome(&mut self, step: usize, outcome: Outcome) {
        let needed_step = self.run.scheduler.is_needed_elsewhere(step).then_some(step);
        self.run.outcomes.record(self.step(step).cell, needed_step, outcome);
    }

    /// The first cell that a step needs and that did not pass.
    fn unmet_need(&self, step: usize) -> Option<(CellId, Outcome)> {
        let cross_lane = self.run.scheduler.cross_lane_needs(step);
        self.run.outcomes.unmet_need(self.inputs.plan(), step, cross_lane)
    }

    /// Whether a step, or the request for it, has errors, or needs a cell that did not pass.
    fn cannot_be_sent(&self, step: usize) -> bool {
        let problems = self.run.step_problems.of(step).iter().chain(self.lane.problems());
        problems.into_iter().any(Problem::is_error) || self.unmet_need(step).is_some()
    }
}
