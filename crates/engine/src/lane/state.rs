//! Where one lane is.

use super::retry::Retry;
use super::rows::RowIteration;
use crate::response_exprs::ResponseExpr;
use yieldtray_expression::{RandomSource, Value};
use yieldtray_source::Problem;
use yieldtray_workspace::secret::UsedSecret;

/// Where one lane is.
pub(crate) struct LaneState<'w> {
    position: Position,
    prefetched: Prefetched<'w>,
    rows: Option<RowIteration>,
    /// The request that is sent again.
    retry: Option<Retry<'w>>,
    play_args: PlayArgs,
    /// Problems of the request that is being prepared, beside those of its step.
    problems: Vec<Problem>,
    /// The profile for which a token was obtained just now.
    fresh_token: Option<String>,
    random: LaneRandom,
    activity: Activity,
}

/// The steps of a lane.
struct Position {
    /// Places in the plan.
    steps: Vec<usize>,
    /// The next one, as an index of `steps`.
    next: usize,
    /// The step that was begun last.
    current: usize,
}

/// Checks compiled ahead of their request.
struct Prefetched<'w> {
    /// How many steps of the lane are validated.
    validated: usize,
    /// The checks and yields of the step that was validated last.
    exprs: Vec<ResponseExpr<'w>>,
}

/// The values that the sequence which plays the cell passes to it.
#[derive(Default)]
struct PlayArgs {
    values: Vec<(String, Value)>,
    /// The secrets that they were made of.
    secrets: Vec<UsedSecret>,
}

/// Where the random values of the lane's cells come from.
struct LaneRandom {
    source: RandomSource,
    /// The step and row that it is seeded for.
    scope: Option<(usize, usize)>,
}

/// The reason why a lane waits.
#[derive(Default, PartialEq)]
pub(crate) enum Activity {
    /// Nothing: it waits for its turn.
    #[default]
    None,
    /// The request of this step is in flight, or the pause before it.
    Request(usize),
    /// A token of this profile is requested.
    Token(String),
}

impl<'w> LaneState<'w> {
    /// A lane of these steps of the plan, at its beginning.
    pub(crate) fn new(steps: Vec<usize>, random: RandomSource) -> Self {
        Self {
            position: Position { steps, next: 0, current: 0 },
            prefetched: Prefetched { validated: 0, exprs: Vec::new() },
            rows: None,
            retry: None,
            play_args: PlayArgs::default(),
            problems: Vec::new(),
            fresh_token: None,
            random: LaneRandom { source: random, scope: None },
            activity: Activity::None,
        }
    }

    // Position.

    /// The step that was begun last.
    pub(crate) fn current(&self) -> usize {
        self.position.current
    }

    /// Works on another step. Returns the one before.
    pub(crate) fn replace_current(&mut self, step: usize) -> usize {
        std::mem::replace(&mut self.position.current, step)
    }

    /// The next step, if there is one.
    pub(crate) fn next_step(&self) -> Option<usize> {
        self.position.steps.get(self.position.next).copied()
    }

    /// Goes past the next step.
    pub(crate) fn pass_step(&mut self) {
        self.position.next += 1;
    }

    /// Goes past the next step, unless it has more rows.
    pub(crate) fn pass_step_without_rows(&mut self) {
        self.position.next += usize::from(self.rows.is_none());
    }

    /// Ends the lane. Returns the steps that are left.
    pub(crate) fn end(&mut self) -> Vec<usize> {
        (self.rows, self.retry) = (None, None);
        let Position { steps, next, .. } = &mut self.position;
        let rest = steps.split_off((*next).min(steps.len()));
        *next = steps.len();
        rest
    }

    /// The step it is at; `None` at the end.
    pub(crate) fn position(&self) -> Option<usize> {
        self.retry.as_ref().map(Retry::step).or_else(|| self.next_step())
    }

    /// The step whose request is in flight.
    pub(crate) fn in_flight(&self) -> Option<usize> {
        match self.activity {
            Activity::Request(step) => Some(step),
            Activity::None | Activity::Token(_) => None,
        }
    }

    /// The step before which everything is reported.
    pub(crate) fn reported_up_to(&self) -> usize {
        self.in_flight().or_else(|| self.position()).unwrap_or(usize::MAX)
    }

    /// How many of its steps have ended.
    pub(crate) fn ended_steps(&self) -> usize {
        let next = self.position.next;
        next - usize::from(self.in_flight().is_some() && next > 0)
    }

    // Prefetching.

    /// The next step, if it is not validated yet.
    pub(crate) fn unvalidated_step(&self) -> Option<usize> {
        self.next_step().filter(|_| self.prefetched.validated <= self.position.next)
    }

    /// Notes that the next step is validated, and has these checks and yields.
    pub(crate) fn set_prefetched(&mut self, exprs: Vec<ResponseExpr<'w>>) {
        self.prefetched = Prefetched { validated: self.position.next + 1, exprs };
    }

    /// The checks and yields of the step that was validated last.
    pub(crate) fn prefetched_exprs(&self) -> &[ResponseExpr<'w>] {
        &self.prefetched.exprs
    }

    /// The same, for its request; a cell with rows needs them again.
    pub(crate) fn take_exprs(&mut self) -> Vec<ResponseExpr<'w>> {
        match self.rows {
            Some(_) => self.prefetched.exprs.clone(),
            None => std::mem::take(&mut self.prefetched.exprs),
        }
    }

    // Rows, retries and what a sequence passes.

    pub(crate) fn rows(&self) -> Option<&RowIteration> {
        self.rows.as_ref()
    }

    pub(crate) fn rows_mut(&mut self) -> Option<&mut RowIteration> {
        self.rows.as_mut()
    }

    pub(crate) fn set_rows(&mut self, rows: RowIteration) {
        self.rows = Some(rows);
    }

    pub(crate) fn take_rows(&mut self) -> Option<RowIteration> {
        self.rows.take()
    }

    /// The number of the row that the cell is sent for, from 1.
    pub(crate) fn row_number(&self) -> Option<usize> {
        self.rows.as_ref().and_then(RowIteration::number)
    }

    pub(crate) fn set_retry(&mut self, retry: Retry<'w>) {
        self.retry = Some(retry);
    }

    pub(crate) fn take_retry(&mut self) -> Option<Retry<'w>> {
        self.retry.take()
    }

    pub(crate) fn set_play_args(&mut self, values: Vec<(String, Value)>, secrets: Vec<UsedSecret>) {
        self.play_args = PlayArgs { values, secrets };
    }

    pub(crate) fn play_args(&self) -> &[(String, Value)] {
        &self.play_args.values
    }

    pub(crate) fn take_play_args(&mut self) -> (Vec<(String, Value)>, Vec<UsedSecret>) {
        let PlayArgs { values, secrets } = std::mem::take(&mut self.play_args);
        (values, secrets)
    }

    // Problems of the request that is being prepared.

    pub(crate) fn problems(&self) -> &[Problem] {
        &self.problems
    }

    pub(crate) fn add_problems(&mut self, problems: impl IntoIterator<Item = Problem>) {
        self.problems.extend(problems);
    }

    pub(crate) fn take_problems(&mut self) -> Vec<Problem> {
        std::mem::take(&mut self.problems)
    }

    // Tokens and random values.

    pub(crate) fn set_fresh_token(&mut self, profile: Option<String>) {
        self.fresh_token = profile;
    }

    pub(crate) fn take_fresh_token(&mut self) -> Option<String> {
        self.fresh_token.take()
    }

    pub(crate) fn random(&self) -> &RandomSource {
        &self.random.source
    }

    /// Whether random values must be seeded for this step and row, which is noted.
    pub(crate) fn enter_random_scope(&mut self, step: usize, row: usize) -> bool {
        self.random.scope.replace((step, row)) != Some((step, row))
    }

    // The state it waits in.

    /// Begins to wait.
    pub(super) fn set_activity(&mut self, activity: Activity) {
        self.activity = activity;
    }

    /// Ends the wait. Returns whether there was one.
    pub(super) fn end_activity(&mut self) -> bool {
        std::mem::take(&mut self.activity) != Activity::None
    }

    /// True if it waits only for its turn.
    pub(super) fn is_waiting_for_turn(&self) -> bool {
        self.activity == Activity::None
    }

    /// True if it waits for a token of this profile.
    pub(crate) fn waits_for_token(&self, profile: &str) -> bool {
        matches!(&self.activity, Activity::Token(waiting) if waiting == profile)
    }
}
