use super::checks;
use super::event::{Event, Summary};
use super::lane::{Doing, Lane, Lanes, Timetable};
use super::question::Question;
use super::ready::Ready;
use super::tokens::learn_token;
use crate::deferred::PutOff;
use crate::event_buffer::Order;
use rustc_hash::{FxHashMap, FxHashSet};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::time::Duration;
use yieldtray_expression::{Engine, Reads, Value};
use yieldtray_http::{Exchange, Failure};
use yieldtray_http::{credential, is_secret_header};
use yieldtray_source::{Problem, SourceId};
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::plan::examine;
use yieldtray_workspace::request::{TokenRequest, Tokens};
use yieldtray_workspace::scope::ResponseNames;
use yieldtray_workspace::scope::{Answers, Lookup, Memo, Reach, Settings, Tray};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace};

/// A run of a [`Plan`], without input or output: it hands out prepared requests and takes the answers. The
/// caller sends; a test answers from a table. A caller that takes one at a time gets them in the order of the
/// plan; one that takes more gets those of several files, side by side. The events come in the order of the
/// plan either way.
///
/// ```text
/// while let Some(next) = run.next() {
///     match next {
///         Next::Ask(question) => run.answer(&question, ask(&question)),
///         Next::Send(ready) => {
///             let answer = send(&ready.prepared);
///             run.complete(ready, answer);
///         }
///         Next::Pause(pause) => { sleep(pause.time); run.resume(&pause); }
///         …
///     }
///     for event in run.events() { show(event); }
/// }
/// ```
pub struct Run<'w> {
    pub(super) workspace: &'w Workspace,
    pub(super) engine: &'w Engine,
    pub(super) settings: Settings,
    pub(crate) plan: Plan,
    pub(super) fail_fast: bool,
    /// The lane that is worked on; nothing where none is.
    pub(super) lane: Box<Lane<'w>>,
    /// Its number.
    pub(super) entered: Option<usize>,
    /// All lanes but that.
    pub(super) lanes: Lanes<'w>,
    pub(super) timetable: Timetable,
    /// The lane that got a request last.
    last: Option<usize>,
    /// Cells that are done, and how they came out.
    done: FxHashMap<CellId, Fate>,
    /// The same of steps that cells of other files rely on.
    done_steps: FxHashMap<usize, Fate>,
    /// Whether a cell with rows is sent for the first alone.
    pub(super) one_row: bool,
    /// The row that a cell is sent for instead of the first, from 1.
    pub(super) row_of: Option<(CellId, usize)>,
    /// Files of which a cell was sent.
    pub(super) begun: FxHashSet<SourceId>,
    /// Sequences of which a cell did not pass.
    pub(super) broken: FxHashSet<CellId>,
    /// What lay on the tray at the beginning.
    at_first: Tray,
    /// Which time the plan is gone through.
    pub(super) round: usize,
    pub(super) tray: Tray,
    pub(super) answers: Answers,
    pub(super) tokens: Tokens,
    /// Profiles that no token could be got for.
    pub(super) refused: FxHashMap<String, Failure>,
    /// Profiles whose kept token was dropped.
    pub(super) dropped: Vec<String>,
    /// More header fields, for one cell.
    pub(super) headers: Option<(CellId, Vec<(String, String)>)>,
    /// Whether nothing is sent at all.
    pub(super) dry: bool,
    /// The seed of the answer that is judged again, by cell and row; then nothing is sent, and nothing waited for.
    pub(super) recalled: Option<Box<Seeds<'w>>>,
    /// Whether the reports keep what was sent and came back, and the largest body they do.
    pub keeps: Option<u64>,
    /// Whether altered answers are judged too.
    pub(crate) proves: bool,
    /// Cells that others need.
    pub(super) needed: FxHashSet<CellId>,
    /// An answer whose checks are still to be judged.
    pub(super) put_off: Option<Box<PutOff<'w>>>,
    /// The last answer, if nobody keeps it.
    pub(super) spent: Option<Exchange>,
    /// Whether there is something to judge of an answer that is awaited.
    pub(super) will_judge: bool,
    pub(super) masker: Masker,
    pub(super) order: Order,
    pub(super) summary: Summary,
    ended: bool,
}

/// The seed of an answer from before.
pub(super) type Seeds<'w> = dyn Fn(CellId, Option<usize>) -> Option<u64> + 'w;

/// How a cell came out, for those that need it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Fate {
    Passed,
    Skipped,
    Failed,
}

impl Fate {
    /// Whether those that need the cell may go.
    pub(super) fn passed(self) -> bool {
        self == Fate::Passed
    }
}

/// What a run wants from its caller.
#[derive(Debug)]
pub enum Next<'w> {
    /// This request is to be sent and its answer handed to [`Run::complete`].
    Send(Box<Ready<'w>>),
    /// This is to be asked and its answer handed to [`Run::answer`].
    Ask(Question),
    /// This is to be waited for, and [`Run::resume`] told.
    Pause(Pause),
    /// This request for a token is to be sent and its answer handed to [`Run::authorize`].
    Authorize(Box<TokenRequest>),
    /// Nothing can go before something that is under way has ended.
    Wait,
}

/// How far a run is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Progress {
    /// Steps of the plan that are behind it.
    pub done: usize,
    /// Steps there are.
    pub all: usize,
    /// Of the cells that are under way, the one that is told of next.
    pub waits_for: Option<CellId>,
}

/// A pause before a request is sent again.
#[derive(Debug)]
pub struct Pause {
    /// How long it is.
    pub time: Duration,
    pub(super) lane: usize,
}

impl<'w> Run<'w> {
    /// A run of `plan` with an empty tray. With `fail_fast` nothing more is sent after a failure.
    pub fn new(workspace: &'w Workspace, engine: &'w Engine, settings: Settings, plan: Plan, fail_fast: bool) -> Self {
        // A sequence's own cell sends nothing.
        let cells = plan.steps.iter().filter(|step| !workspace.cell(step.cell).plays()).count();
        let summary = Summary { cells, ..Summary::default() };
        let began = Event::Began { environment: settings.environment.clone(), cells };
        let (timetable, lanes, lane_of) = Timetable::new(&plan);
        let needed = plan.steps.iter().flat_map(|step| step.needs.iter().copied()).collect();
        let mut order = Order::new(lane_of, lanes.len());
        order.ready.push_back(began);
        let mut masker = Masker::default();
        let outside = workspace.outside(&settings.variables);
        masker.learn(workspace.config.secrets(settings.environment.as_deref(), &outside));
        let set = settings.set.iter().filter(|(name, _)| workspace.config.is_secret(name));
        masker.learn(set.map(|(_, value)| value.clone()));
        Self {
            workspace,
            engine,
            settings,
            plan,
            fail_fast,
            lane: Box::default(),
            entered: None,
            lanes,
            last: None,
            done: FxHashMap::default(),
            done_steps: FxHashMap::default(),
            one_row: false,
            row_of: None,
            begun: FxHashSet::default(),
            broken: FxHashSet::default(),
            at_first: Tray::default(),
            round: 0,
            tray: Tray::default(),
            answers: Answers::default(),
            tokens: Tokens::default(),
            refused: FxHashMap::default(),
            dropped: Vec::new(),
            headers: None,
            dry: false,
            recalled: None,
            keeps: None,
            proves: false,
            needed,
            put_off: None,
            spent: None,
            will_judge: false,
            masker,
            order,
            summary,
            timetable,
            ended: false,
        }
    }

    /// The run with values that were yielded before.
    #[must_use]
    pub fn with_tray(mut self, tray: Tray) -> Self {
        let secrets = tray.iter().filter(|(_, kept)| kept.secret);
        self.masker.learn(secrets.map(|(_, kept)| kept.value.clone()));
        self.at_first = tray;
        self
    }

    /// The run with tokens that were got before.
    #[must_use]
    pub fn with_tokens(mut self, tokens: Tokens) -> Self {
        tokens.iter().for_each(|token| learn_token(&mut self.masker, token));
        self.tokens = tokens;
        self
    }

    /// The run with more header fields for one cell; an empty value drops the fields of its name.
    #[must_use]
    pub fn with_headers(mut self, cell: CellId, headers: Vec<(String, String)>) -> Self {
        let secret = headers.iter().filter(|(name, _)| is_secret_header(name));
        secret.for_each(|(_, value)| self.masker.add(credential(value)));
        self.headers = Some((cell, headers));
        self
    }

    /// The run as one that sends a cell with rows for the first row alone.
    #[must_use]
    pub fn one_row(mut self) -> Self {
        self.one_row = true;
        self
    }

    /// The run as one that sends this cell for that row of its rows alone, from 1.
    #[must_use]
    pub fn for_row(mut self, cell: CellId, row: usize) -> Self {
        self.row_of = Some((cell, row));
        self
    }

    /// The run as one whose requests are only looked at: no token is got for them.
    #[must_use]
    pub fn dry(mut self) -> Self {
        self.dry = true;
        self
    }

    /// The run as one that judges answers from before: nothing is sent, and no token is got. What was made up
    /// then is made up again from the seed that `seeds` gives for a cell and its row.
    #[must_use]
    pub fn recalling(mut self, seeds: impl Fn(CellId, Option<usize>) -> Option<u64> + 'w) -> Self {
        self.recalled = Some(Box::new(seeds));
        self.dry()
    }

    /// The run as one whose reports keep what was sent and came back; a larger body than this, in bytes, is
    /// left out.
    #[must_use]
    pub fn keeping(mut self, largest_body: u64) -> Self {
        self.keeps = Some(largest_body);
        self
    }

    /// The run as one that also judges altered copies of each answer that passes.
    #[must_use]
    pub fn proving(mut self) -> Self {
        self.proves = true;
        self
    }

    /// The run as one that hides no secrets: somebody asked to see them.
    #[must_use]
    pub fn revealing(mut self) -> Self {
        self.masker = self.masker.reveal();
        self
    }

    /// The next request or question, or `None` when the run is over. Cells that cannot be sent are
    /// reported on the way. If the program itself fails at a cell, that file's run ends and the others go on.
    #[allow(clippy::should_implement_trait)] // the answers have to come back in between
    pub fn next(&mut self) -> Option<Next<'w>> {
        loop {
            match catch_unwind(AssertUnwindSafe(|| self.hand_out())) {
                Ok(next) => return next,
                Err(why) => self.crashed(why),
            }
        }
    }

    fn hand_out(&mut self) -> Option<Next<'w>> {
        let next = self.timetable.free.first().map(|(step, _)| self.plan.steps[*step].round);
        if next != Some(self.round) {
            self.settle();
        }
        loop {
            let Some(lane) = self.whose_turn() else {
                if !self.timetable.is_idle() {
                    return Some(Next::Wait);
                }
                if !self.ended {
                    self.ended = true;
                    self.order.ready.push_back(Event::Ended(self.summary));
                }
                return None;
            };
            self.enter(lane);
            let next = self.advance();
            self.exit();
            if next.is_some() {
                return next;
            }
        }
    }

    /// The lane whose turn it is: of those that may go, the one that stands first in the plan.
    fn whose_turn(&mut self) -> Option<usize> {
        let idle = self.timetable.is_idle();
        let first = *self.timetable.free.first()?;
        let round = self.plan.steps[first.0].round;
        if idle && round != self.round {
            self.begin_round(round);
        }
        let may_go = self.timetable.free.iter().find(|(step, lane)| self.may_go(*step, *lane)).copied();
        // Where all wait for each other, which a mistake in `% needs` can come to, the first one goes.
        let found = may_go.or(idle.then_some(first))?;
        self.timetable.free.remove(&found);
        Some(found.1)
    }

    /// Whether what a step waits for in other lanes is done.
    fn may_go(&self, step: usize, lane: usize) -> bool {
        let own = &self.plan.steps[step];
        own.round == self.round
            && self.timetable.relied_on(step).iter().all(|step| self.done_steps.contains_key(step))
            // In the plan it stands behind all who may use what it takes away.
            && (!own.afterwards || self.order.has_come_to(step))
            && !self.order.is_far_ahead(lane)
    }

    /// Each time the plan is gone through begins with nothing done and nothing yielded.
    fn begin_round(&mut self, round: usize) {
        self.round = round;
        self.done.clear();
        self.done_steps.clear();
        self.broken.clear();
        self.begun.clear();
        self.tray = self.at_first.clone().shared(self.timetable.awaited.clone());
    }

    /// Notes how the cell of a step came out.
    pub(super) fn note_fate(&mut self, step: usize, fate: Fate) {
        self.done.insert(self.plan.steps[step].cell, fate);
        if self.timetable.awaited.contains(&step) {
            self.done_steps.insert(step, fate);
        }
    }

    /// The first cell that a step needs and that did not pass.
    pub(super) fn unmet_need(&self, step: usize) -> Option<(CellId, Fate)> {
        let relied_on = self.timetable.relied_on(step);
        self.plan.steps[step].needs.iter().find_map(|need| {
            let place = relied_on.iter().find(|place| self.plan.steps[**place].cell == *need);
            let fate = match place {
                Some(place) => self.done_steps.get(place),
                None => self.done.get(need),
            };
            fate.filter(|fate| !fate.passed()).map(|fate| (*need, *fate))
        })
    }

    /// Takes up the work on a lane.
    pub(super) fn enter(&mut self, lane: usize) {
        std::mem::swap(&mut self.lane, &mut self.lanes[lane]);
        self.engine.made_up().swap(&mut self.lane.draws);
        self.entered = Some(lane);
    }

    /// Puts it aside; what it waits for decides when it goes on.
    pub(super) fn exit(&mut self) {
        let Some(lane) = self.entered.take() else { return };
        if let Some(step) = self.lane.position().filter(|_| self.lane.doing == Doing::Nothing) {
            self.timetable.free.insert((step, lane));
        }
        let put_off = self.put_off.as_ref().map_or(usize::MAX, |put_off| put_off.answered.step);
        self.order.reach(lane, self.lane.reached().min(put_off), &self.masker);
        self.engine.made_up().swap(&mut self.lane.draws);
        std::mem::swap(&mut self.lane, &mut self.lanes[lane]);
    }

    /// Engages the entered lane in a request.
    pub(super) fn set_out(&mut self, step: usize) {
        self.engage(Doing::Request(step));
        self.last = self.entered;
    }

    /// Engages it in something: it does not go on before that is over.
    pub(super) fn engage(&mut self, doing: Doing) {
        self.lane.doing = doing;
        self.timetable.engaged += 1;
    }

    /// The opposite.
    pub(super) fn come_back(&mut self) {
        if std::mem::take(&mut self.lane.doing) != Doing::Nothing {
            self.timetable.engaged -= 1;
        }
    }

    /// Takes note that a pause is over.
    pub fn resume(&mut self, pause: &Pause) {
        self.enter(pause.lane);
        self.come_back();
        self.exit();
    }

    /// Makes ready for the answers that are awaited, and examines, as it is written, the cell that follows the one
    /// whose request was handed out last. A caller that waits for an answer has the time.
    pub fn look_ahead(&mut self) {
        self.spent = None;
        if self.will_judge {
            self.engine.warm_up();
        }
        let Some(lane) = self.last.take() else { return };
        self.enter(lane);
        // A cell that makes the program fail does so when its turn comes, too, and is reported then.
        let looked = catch_unwind(AssertUnwindSafe(|| self.examine_next()));
        drop(looked);
        self.exit();
    }

    /// Examines the next cell of the entered lane.
    pub(super) fn examine_next(&mut self) {
        let lane = &self.lane;
        let Some(step) = lane.steps.get(lane.at).copied().filter(|_| lane.examined <= lane.at) else { return };
        let own = &mut self.plan.steps[step];
        own.problems.extend(examine(self.workspace, self.engine, own.cell));
        self.lane.ahead = checks::uses(self.workspace, self.engine, own.cell);
        self.lane.examined = self.lane.at + 1;
    }

    /// Ends the run before its end: nothing more is sent but what must be done afterwards. What is under way
    /// comes back through [`Run::complete`] and the others, as a failure if it is not waited for.
    pub fn interrupt(&mut self) {
        self.summary.interrupted = true;
    }

    /// Takes what somebody answered to a question; it is not asked again in this run.
    pub fn answer(&mut self, question: &Question, value: Value) {
        if question.secret {
            self.masker.learn([value.clone()]);
        }
        self.answers.give(&question.name, &question.text, value, question.secret);
    }

    /// What happened since this was last asked.
    pub fn events(&mut self) -> impl Iterator<Item = Event> + '_ {
        self.settle();
        self.order.ready.drain(..)
    }

    /// What must be hidden wherever something of this run is shown.
    pub fn masker(&self) -> &Masker {
        &self.masker
    }

    /// Profiles whose kept token was not taken any more, and got no other.
    pub fn dropped_tokens(&self) -> impl Iterator<Item = &str> {
        let got = |profile: &&str| self.tokens.iter().any(|token| token.profile == *profile);
        self.dropped.iter().map(String::as_str).filter(move |profile| !got(profile))
    }

    /// The tokens there are now.
    pub fn tokens(&self) -> &Tokens {
        &self.tokens
    }

    /// What was yielded so far.
    pub fn tray(&self) -> &Tray {
        &self.tray
    }

    /// The plan of the run.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// The files the run is of.
    pub fn workspace(&self) -> &'w Workspace {
        self.workspace
    }

    /// How far it is.
    pub fn progress(&self) -> Progress {
        let done = |lane: &Lane<'_>| lane.at - usize::from(lane.under_way().is_some() && lane.at > 0);
        let done = self.lanes.iter().map(|lane| done(lane)).sum();
        let first = self.lanes.iter().filter_map(|lane| lane.under_way()).min();
        Progress { done, all: self.plan.steps.len(), waits_for: first.map(|step| self.plan.steps[step].cell) }
    }

    /// The figures so far.
    pub fn summary(&self) -> &Summary {
        &self.summary
    }

    /// Evaluates an expression on a response, as the cell's last check would, and gives the value with the secrets
    /// of this run and of the expression masked in it.
    ///
    /// # Errors
    /// Says why there is no value, secrets masked.
    pub fn pick(&self, cell: CellId, expression: &str, exchange: &Exchange) -> Result<String, String> {
        let mut memo = Memo::default();
        let picked = self.evaluate_on(cell, expression, exchange, &mut memo);
        let mut masker = self.masker.clone();
        masker.learn(memo.new_secrets());
        match picked {
            Ok(value) => {
                let text = value.as_text().map_or_else(|| value.show(), str::to_owned);
                Ok(masker.mask(&text).into_owned())
            }
            Err(message) => Err(masker.mask(&message).into_owned()),
        }
    }

    fn evaluate_on(
        &self,
        cell: CellId,
        expression: &str,
        exchange: &Exchange,
        memo: &mut Memo,
    ) -> Result<Value, String> {
        let compiled = self.engine.compile(expression).map_err(|faults| {
            let words = |fault: &yieldtray_expression::Fault| match &fault.hint {
                Some(hint) => format!("{} ({hint})", fault.message),
                None => fault.message.clone(),
            };
            faults.iter().map(words).collect::<Vec<_>>().join("; ")
        })?;
        if !exchange.holds_body() && checks::reads_body(&compiled) {
            return Err(checks::not_held(exchange));
        }
        let title = self.workspace.cell(cell).title;
        let words = |problems: Vec<Problem>| problems.into_iter().map(|p| p.message).collect::<Vec<_>>().join("; ");
        let mut evaluated = |reads: Reads| {
            let mut names = ResponseNames::reading(exchange, reads);
            let mut lookup = Lookup::new(self.reach(), cell, &[], memo);
            let stage = yieldtray_workspace::scope::Stage::After(&mut names);
            let bindings = lookup.bind(&compiled, cell.source, title, stage).map_err(words)?;
            self.engine.evaluate(&compiled, &bindings)
        };
        match compiled.reads_of_body() {
            // Where it goes wrong, the words are about the whole body.
            part @ (Reads::Members(_) | Reads::Document) => {
                evaluated(part.clone()).or_else(|_| evaluated(Reads::Whole))
            }
            Reads::Nothing | Reads::Whole => evaluated(Reads::Whole),
        }
    }

    pub(super) fn reach(&self) -> Reach<'_> {
        let Self { workspace, engine, settings, tray, answers, .. } = self;
        Reach { workspace, engine, settings, tray, answers }
    }
}
