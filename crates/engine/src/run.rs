//! A run of a plan.

use crate::conversation::{ConversationEvent, ConversationStep};
use crate::event::{Event, Summary, TokenReport};
use crate::event_buffer::EventBuffer;
use crate::inputs::{RunInputs, RunOptions};
use crate::lane::{LaneCx, LaneState};
use crate::next::{Next, ObtainedToken, Pause, Progress};
use crate::oauth_state::OAuthState;
use crate::outcomes::Outcomes;
use crate::question::Question;
use crate::ready::ReadyRequest;
use crate::run_state::{RunState, StepProblems};
use crate::run_values::RunValues;
use crate::scheduler::{LaneSteps, Scheduler};
use crate::stream::StreamVerdict;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::time::Duration;
use yieldtray_credentials::oauth::Token;
use yieldtray_expression::{Engine, EvalError, RandomSource, Value};
use yieldtray_http::{Exchange, Failure, FailureKind, StreamEvent, credential, is_secret_header};
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::request::Tokens;
use yieldtray_workspace::scope::{EvalSettings, Tray};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace};

/// A run of a [`Plan`], without input or output: it hands out prepared requests and takes the responses. The caller sends
/// them; a test answers from a table. A caller that takes one request at a time gets them in the order of the plan; one
/// that takes more gets those of several lanes at the same time. The events come in the order of the plan either way.
///
/// ```text
/// while let Some(next) = run.next() {
///     match next {
///         Next::Ask(question) => run.answer(&question, ask(&question)),
///         Next::Send(ready) => {
///             let response = send(&ready.prepared);
///             run.complete(ready, response);
///         }
///         Next::Pause(pause) => { sleep(pause.time); run.resume(&pause); }
///         …
///     }
///     for event in run.events() { show(event); }
/// }
/// ```
pub struct Run<'w> {
    inputs: RunInputs<'w>,
    lanes: Vec<LaneState<'w>>,
    state: RunState<'w>,
}

impl<'w> Run<'w> {
    /// A run of `plan`. Random values are drawn from `random`, for each lane by itself.
    pub fn new(
        workspace: &'w Workspace,
        engine: &'w Engine,
        random: &'w RandomSource,
        settings: EvalSettings,
        mut plan: Plan,
        mut options: RunOptions<'w>,
    ) -> Self {
        let masker = initial_masker(workspace, &settings, &options);
        let (tray, tokens) = (std::mem::take(&mut options.tray), std::mem::take(&mut options.tokens));
        let (scheduler, LaneSteps { steps, lane_of_step }) = Scheduler::new(&plan);
        // A sequence's own cell sends nothing.
        let cells = plan.steps.iter().filter(|step| !workspace.cell(step.cell).plays()).count();
        let environment = settings.environment.clone();
        let state = RunState {
            scheduler,
            outcomes: Outcomes::new(&plan),
            values: RunValues::new(tray),
            oauth: OAuthState::new(tokens),
            events: EventBuffer::new(lane_of_step, steps.len(), environment, cells),
            deferred: Default::default(),
            masker,
            step_problems: StepProblems::new(
                plan.steps.iter_mut().map(|step| std::mem::take(&mut step.problems)).collect(),
            ),
        };
        let lanes = steps.into_iter().map(|steps| LaneState::new(steps, random.fork())).collect();
        let inputs = RunInputs::new(workspace, engine, random, settings, plan, options);
        Self { inputs, lanes, state }
    }

    /// The next request or question, or `None` when the run is over. Cells that cannot be sent are reported on the way.
    /// If the program itself panics at a cell, that cell's lane ends and the others go on.
    #[allow(clippy::should_implement_trait)] // the responses have to come back in between
    pub fn next(&mut self) -> Option<Next<'w>> {
        let next_step = self.state.scheduler.first_runnable();
        if next_step.map(|step| self.inputs.step(step).round) != Some(self.state.scheduler.round()) {
            self.flush_deferred();
        }
        loop {
            let Some(lane) = self.take_next_lane() else {
                if !self.state.scheduler.is_idle() {
                    return Some(Next::Wait);
                }
                if self.state.scheduler.end() {
                    self.state.events.end();
                }
                return None;
            };
            if let Some(next) = self.in_lane(lane, |cx| cx.advance()).flatten() {
                return Some(next);
            }
        }
    }

    /// The lane that goes next, which begins a new round if all lanes have ended the one before.
    fn take_next_lane(&mut self) -> Option<usize> {
        let plan = self.inputs.plan();
        let round = plan.steps[self.state.scheduler.first_runnable()?].round;
        if self.state.scheduler.is_idle() && round != self.state.scheduler.round() {
            self.state.begin_round(round);
        }
        let RunState { scheduler, outcomes, events, .. } = &mut self.state;
        scheduler.take_next(plan, outcomes, events)
    }

    /// Works on a lane. A panic ends the lane; then there is no result.
    fn in_lane<T>(&mut self, lane: usize, work: impl FnOnce(&mut LaneCx<'_, 'w>) -> T) -> Option<T> {
        let mut cx = LaneCx::new(&self.inputs, &mut self.lanes[lane], lane, &mut self.state);
        let result = match catch_unwind(AssertUnwindSafe(|| work(&mut cx))) {
            Ok(result) => Some(result),
            Err(panic) => {
                cx.abort(panic);
                None
            }
        };
        cx.release();
        result
    }

    /// Evaluates the checks that were put off. Only a run with a single lane puts any off.
    fn flush_deferred(&mut self) {
        if self.state.deferred.is_pending() {
            self.in_lane(0, |cx| cx.flush_deferred());
        }
    }

    /// Takes the response to a request, or why there is none.
    pub fn complete(&mut self, ready: Box<ReadyRequest<'w>>, response: Result<Exchange, Failure>) {
        self.flush_deferred();
        self.lanes[ready.lane].replace_current(ready.step);
        if !self.inputs.is_from_log() {
            self.state.events.count_request();
        }
        self.in_lane(ready.lane, |cx| {
            cx.end_wait();
            cx.on_response(ready, response);
        });
    }

    /// Takes events of a response that is a stream, whose head is `head`, as they arrive. When the stream has ended, the exchange goes to
    /// [`complete`](Self::complete).
    pub fn stream_events(
        &mut self,
        ready: &mut ReadyRequest<'w>,
        head: &Exchange,
        events: &[StreamEvent],
    ) -> StreamVerdict {
        let all = StreamVerdict { used: events.len(), end: None };
        self.in_lane(ready.lane, |cx| cx.on_events(ready, head, events)).unwrap_or(all)
    }

    /// Takes what happened in a conversation that `head` began, at `now` after the exchange did, and says what is next. When it has ended, the
    /// exchange goes to [`complete`](Self::complete).
    pub fn converse(
        &mut self,
        ready: &mut ReadyRequest<'w>,
        head: &Exchange,
        event: ConversationEvent,
        now: Duration,
    ) -> ConversationStep {
        self.in_lane(ready.lane, |cx| cx.on_conversation(ready, head, event, now)).unwrap_or(ConversationStep::End)
    }

    /// Reports that a request is not sent after all, and why.
    pub fn skip(&mut self, ready: Box<ReadyRequest<'w>>, reason: &str) {
        self.flush_deferred();
        self.lanes[ready.lane].replace_current(ready.step);
        self.in_lane(ready.lane, |cx| {
            cx.end_wait();
            cx.on_skipped(ready, reason);
        });
    }

    /// Goes on after a pause.
    pub fn resume(&mut self, pause: &Pause) {
        self.in_lane(pause.lane(), |cx| cx.end_wait());
    }

    /// Takes the token of a profile. Where there is none, the cells that need it are reported as not answered.
    pub fn authorize(&mut self, profile: &str, outcome: Result<ObtainedToken, Failure>) {
        let now = self.inputs.random().now().timestamp();
        self.state.oauth.end_request(profile);
        match outcome {
            Ok(ObtainedToken { token, url, elapsed, renewed }) => {
                mask_token(&mut self.state.masker, &token);
                let url = self.state.masker.mask(&url).into_owned();
                let seconds = token.expires_at.map(|expires_at| expires_at - now);
                let profile_name = profile.to_owned();
                self.state.events.add_token(TokenReport { profile: profile_name, url, elapsed, seconds, renewed });
                self.state.oauth.store(token);
                self.wake_lanes(profile, true);
            }
            Err(failure) => {
                // A server that refuses does not accept what is kept of it either.
                if failure.kind == FailureKind::NotAuthorized {
                    self.state.oauth.revoke(profile);
                }
                let message = format!("no token for `{profile}`: {}", failure.message);
                self.state.oauth.fail(profile, Failure { message, ..failure });
                self.wake_lanes(profile, false);
            }
        }
    }

    /// Lets the lanes go on that wait for a profile's token.
    fn wake_lanes(&mut self, profile: &str, obtained: bool) {
        for lane in 0..self.lanes.len() {
            if self.lanes[lane].waits_for_token(profile) {
                self.in_lane(lane, |cx| cx.resume_with_token(obtained.then_some(profile)));
            }
        }
    }

    /// Validates the cell that follows the one whose request was handed out last. A caller that waits for a response has
    /// the time.
    pub fn prefetch(&mut self) {
        self.state.deferred.drop_response();
        let Some(lane) = self.state.scheduler.take_last_sent() else { return };
        self.in_lane(lane, |cx| {
            // A cell that makes the program panic does so again when its turn comes, and is reported then.
            drop(catch_unwind(AssertUnwindSafe(|| cx.prefetch())));
        });
    }

    /// Ends the run early: nothing more is sent but cleanup. Responses of requests in flight are handed to
    /// [`Run::complete`] and the others, as failures if nobody waits for them.
    pub fn interrupt(&mut self) {
        self.state.events.interrupt();
    }

    /// Takes the answer to a question, which is not asked again in this run.
    pub fn answer(&mut self, question: &Question, value: Value) {
        if question.secret {
            self.state.masker.learn([value.clone()]);
        }
        self.state.values.answer(&question.name, &question.text, value, question.secret);
    }

    /// The events since the last call.
    pub fn events(&mut self) -> impl Iterator<Item = Event> + '_ {
        self.flush_deferred();
        self.state.events.drain()
    }

    /// Masks every secret of the run in what is shown of it.
    pub fn masker(&self) -> &Masker {
        &self.state.masker
    }

    /// Profiles whose stored token was rejected, and that have no other now.
    pub fn revoked_tokens(&self) -> impl Iterator<Item = &str> {
        self.state.oauth.revoked()
    }

    /// The tokens of the run.
    pub fn tokens(&self) -> &Tokens {
        self.state.oauth.tokens()
    }

    /// The values that were captured so far.
    pub fn tray(&self) -> &Tray {
        self.state.values.tray()
    }

    /// The plan.
    pub fn plan(&self) -> &Plan {
        self.inputs.plan()
    }

    /// The workspace.
    pub fn workspace(&self) -> &'w Workspace {
        self.inputs.workspace()
    }

    /// How far the run is.
    pub fn progress(&self) -> Progress {
        let done = self.lanes.iter().map(LaneState::ended_steps).sum();
        let first = self.lanes.iter().filter_map(LaneState::in_flight).min();
        let waits_for = first.map(|step| self.inputs.step(step).cell);
        Progress { done, all: self.inputs.plan().steps.len(), waits_for }
    }

    /// The counts so far.
    pub fn summary(&self) -> &Summary {
        self.state.events.summary()
    }

    /// Evaluates an expression on a response, as the cell's last check would. The result is a text in which the secrets
    /// of this run and of the expression are masked.
    ///
    /// # Errors
    /// Why there is no value, with secrets masked.
    pub fn evaluate_on(&self, cell: CellId, expression: &str, exchange: &Exchange) -> Result<String, EvalError> {
        let context = self.inputs.context(&self.state.values, self.inputs.random());
        let mut secrets = Vec::new();
        let result = context.evaluate_on(cell, expression, exchange, &mut secrets);
        let mut masker = self.state.masker.clone();
        masker.learn(secrets);
        let mask = |text: &str| masker.mask(text).into_owned();
        match result {
            Ok(value) => Ok(mask(value.as_text().unwrap_or(&value.show()))),
            Err(error) => Err(EvalError::new(mask(error.as_str()))),
        }
    }
}

/// Masks the secrets that are known before anything is sent.
fn initial_masker(workspace: &Workspace, settings: &EvalSettings, options: &RunOptions<'_>) -> Masker {
    let mut masker = if options.reveal_secrets { Masker::revealing() } else { Masker::default() };
    let outside = workspace.outside(&settings.variables);
    masker.learn(workspace.config.secrets(settings.environment.as_deref(), &outside));
    let set = settings.set.iter().filter(|(name, _)| workspace.config.is_secret(name) || settings.is_set_secret(name));
    masker.learn(set.map(|(_, value)| value.clone()));
    let captured = options.tray.iter().filter(|(_, captured)| captured.secret);
    masker.learn(captured.map(|(_, captured)| captured.value.clone()));
    options.tokens.iter().for_each(|token| mask_token(&mut masker, token));
    let headers = options.headers.iter().flat_map(|(_, headers)| headers);
    let secret_headers = headers.filter(|(name, _)| is_secret_header(name));
    secret_headers.for_each(|(_, value)| masker.add(credential(value)));
    masker
}

fn mask_token(masker: &mut Masker, token: &Token) {
    masker.add(&token.access);
    token.refresh.iter().for_each(|refresh| masker.add(refresh));
}
