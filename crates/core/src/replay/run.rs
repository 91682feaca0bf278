use super::checks::{self, Use};
use super::event::{CellReport, Event, Outcome, Summary};
use super::examine::examine;
use super::judge::{Judge, Judgement};
use super::plan::{Plan, Step};
use super::question::{Question, questions};
use super::ready::Ready;
use super::tokens::learn_token;
use super::turn::{Again, Rowed, Turn};
use crate::expression::{Engine, Value};
use crate::problem::{Problem, SourceId};
use crate::request::{Granted, TokenRequest, Tokens};
use crate::response::{Exchange, Failure, ResponseNames, advice};
use crate::secret::{Masker, credential, is_secret_header};
use crate::workspace::{Answers, CellId, Lookup, Memo, Reach, Settings, Tray, Workspace};
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::VecDeque;
use std::time::Duration;

/// A run of a [`Plan`], without input or output: it hands out one prepared request after another and
/// takes the answers. The caller sends; a test answers from a table.
///
/// ```text
/// while let Some(next) = run.next() {
///     match next {
///         Next::Ask(question) => run.answer(&question, ask(&question)),
///         Next::Send(ready) => {
///             let answer = send(&ready.prepared);
///             run.complete(ready, answer.as_ref());
///         }
///     }
///     for event in run.events() { show(event); }
/// }
/// ```
pub struct Run<'w> {
    pub(super) workspace: &'w Workspace,
    pub(super) engine: &'w Engine,
    pub(super) settings: Settings,
    pub(super) plan: Plan,
    fail_fast: bool,
    /// The step that comes next.
    at: usize,
    /// How many steps were examined.
    examined: usize,
    /// What is done with the answer of the step that was examined last.
    pub(super) ahead: Vec<Use<'w>>,
    /// Cells that are done, and how they came out.
    pub(super) done: FxHashMap<CellId, Fate>,
    /// The rows of the cell whose turn it is.
    pub(super) turn: Option<Turn>,
    /// The request that is sent again.
    pub(super) again: Option<Again<'w>>,
    /// What the sequence that plays the cell gives it.
    pub(super) given: Vec<(String, Value)>,
    /// What is wrong with the request that is being made, beside what is wrong with its step.
    pub(super) found: Vec<Problem>,
    /// Whether a cell with rows is sent for the first alone.
    pub(super) one_row: bool,
    /// Files of which a cell was sent.
    begun: FxHashSet<SourceId>,
    /// Sequences of which a cell did not pass.
    broken: FxHashSet<CellId>,
    /// What lay on the tray at the beginning.
    at_first: Tray,
    /// Which time the plan is gone through.
    round: usize,
    /// The step that was taken last.
    pub(super) current: usize,
    tray: Tray,
    answers: Answers,
    pub(super) tokens: Tokens,
    /// Profiles that no token could be got for.
    pub(super) refused: FxHashMap<String, Failure>,
    /// The profile a token was got for just now.
    pub(super) just_got: Option<String>,
    /// Profiles whose kept token was dropped.
    pub(super) dropped: Vec<String>,
    /// More header fields, for one cell.
    pub(super) headers: Option<(CellId, Vec<(String, String)>)>,
    /// Whether nothing is sent at all.
    pub(super) dry: bool,
    pub(super) masker: Masker,
    pub(super) events: VecDeque<Event>,
    summary: Summary,
    ended: bool,
}

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
    /// This long nothing is to be done.
    Pause(Duration),
    /// This request for a token is to be sent and its answer handed to [`Run::authorize`].
    Authorize(Box<TokenRequest>),
}

impl<'w> Run<'w> {
    /// A run of `plan` with an empty tray. With `fail_fast` nothing more is sent after a failure.
    pub fn new(workspace: &'w Workspace, engine: &'w Engine, settings: Settings, plan: Plan, fail_fast: bool) -> Self {
        // A sequence's own cell sends nothing.
        let cells = plan.steps.iter().filter(|step| !workspace.cell(step.cell).plays()).count();
        let summary = Summary { cells, ..Summary::default() };
        let began = Event::Began { environment: settings.environment.clone(), cells };
        let mut masker = Masker::default();
        let outside = workspace.outside(&settings.process);
        masker.learn(workspace.config.secrets(settings.environment.as_deref(), &outside));
        let set = settings.set.iter().filter(|(name, _)| workspace.config.is_secret(name));
        masker.learn(set.map(|(_, value)| value.clone()));
        Self {
            workspace,
            engine,
            settings,
            plan,
            fail_fast,
            at: 0,
            examined: 0,
            ahead: Vec::new(),
            done: FxHashMap::default(),
            turn: None,
            again: None,
            given: Vec::new(),
            found: Vec::new(),
            one_row: false,
            begun: FxHashSet::default(),
            broken: FxHashSet::default(),
            at_first: Tray::default(),
            round: 1,
            current: 0,
            tray: Tray::default(),
            answers: Answers::default(),
            tokens: Tokens::default(),
            refused: FxHashMap::default(),
            just_got: None,
            dropped: Vec::new(),
            headers: None,
            dry: false,
            masker,
            events: VecDeque::from([began]),
            summary,
            ended: false,
        }
    }

    /// The run with values that were yielded before.
    #[must_use]
    pub fn with_tray(mut self, tray: Tray) -> Self {
        let secrets = tray.iter().filter(|(_, kept)| kept.secret);
        self.masker.learn(secrets.map(|(_, kept)| kept.value.clone()));
        self.tray = tray.clone();
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

    /// The run as one whose requests are only looked at: no token is got for them.
    #[must_use]
    pub fn dry(mut self) -> Self {
        self.dry = true;
        self
    }

    /// The run as one that hides no secrets: somebody asked to see them.
    #[must_use]
    pub fn revealing(mut self) -> Self {
        self.masker = self.masker.reveal();
        self
    }

    /// The next request or question, or `None` when the run is over. Cells that cannot be sent are
    /// reported on the way.
    #[allow(clippy::should_implement_trait)] // the answers have to come back in between
    pub fn next(&mut self) -> Option<Next<'w>> {
        match self.again() {
            Some(Err(pause)) => return Some(Next::Pause(pause)),
            Some(Ok(ready)) => return Some(Next::Send(ready)),
            None => {}
        }
        while let Some(step) = self.due() {
            self.begin(step);
            self.look_ahead();
            if self.ends_sequence(step) {
                continue;
            }
            if let Rowed::Over = self.take_row(step) {
                self.at += 1;
                continue;
            }
            // What a sequence gives is known when it was asked for what it asks for.
            if let Some(by) = self.giver(step)
                && let Some(question) = self.question(step, by)
            {
                return Some(Next::Ask(question));
            }
            self.give(step);
            // Whoever can tell without asking is told without being asked.
            let undecided = match self.skips(step) {
                Ok(None) => Vec::new(),
                Ok(Some(reason)) => {
                    self.leave(step, Outcome::Skipped(reason));
                    continue;
                }
                Err(found) => found,
            };
            if let Some(question) = self.question(step, self.plan.steps[step].cell) {
                return Some(Next::Ask(question));
            }
            self.found.extend(undecided);
            let token = match self.granted(step) {
                Ok(Granted::NotNeeded) => None,
                Ok(Granted::Token(token)) => Some(token),
                Ok(Granted::Request(request)) => return Some(Next::Authorize(request)),
                Err(failure) => {
                    self.leave_without_token(step, failure);
                    continue;
                }
            };
            match self.make_ready(step, token) {
                Ok(ready) => {
                    self.begun.insert(ready.cell.source);
                    self.at += usize::from(self.turn.is_none());
                    return Some(Next::Send(ready));
                }
                Err(report) => self.pass_on(*report),
            }
        }
        if !self.ended {
            self.ended = true;
            self.events.push_back(Event::Ended(self.summary));
        }
        None
    }

    /// Goes on from a step without sending it.
    fn leave(&mut self, step: usize, outcome: Outcome) {
        let remarks = std::mem::take(&mut self.found);
        let report = self.report(self.plan.steps[step].cell, outcome, remarks);
        drop(self.memo_for_request());
        self.pass_on(report);
    }

    /// The same, since no token could be got for it.
    fn leave_without_token(&mut self, step: usize, failure: Failure) {
        let remarks = std::mem::take(&mut self.found);
        let mut report = self.report(self.plan.steps[step].cell, Outcome::NoAnswer, remarks);
        report.elapsed = failure.elapsed;
        report.failure = Some(failure);
        drop(self.memo_for_request());
        self.pass_on(report);
    }

    /// Reports a cell that is not sent, and goes on to the next; of one with rows, to the next row.
    fn pass_on(&mut self, report: CellReport) {
        self.at += usize::from(self.turn.is_none());
        self.finish(report);
    }

    /// Each time the plan is gone through begins with nothing done and nothing yielded.
    fn begin(&mut self, step: usize) {
        self.current = step;
        let round = self.plan.steps[step].round;
        if std::mem::replace(&mut self.round, round) != round {
            self.done.clear();
            self.broken.clear();
            self.begun.clear();
            self.tray = self.at_first.clone();
        }
    }

    /// The end of a sequence, where its cells were played: it has nothing to send itself.
    fn ends_sequence(&mut self, step: usize) -> bool {
        let Step { cell, problems, .. } = &self.plan.steps[step];
        let cell = *cell;
        if problems.iter().any(Problem::is_mistake) || self.workspace.cell(cell).request.is_some() {
            return false;
        }
        let fate = if self.broken.remove(&cell) { Fate::Failed } else { Fate::Passed };
        self.done.insert(cell, fate);
        if let (Some(played), Fate::Failed) = (self.plan.steps[step].played, fate) {
            self.broken.insert(played.by);
        }
        self.at += 1;
        true
    }

    /// The step that comes next. After a failure that ends the run, only what must be done afterwards is.
    fn due(&mut self) -> Option<usize> {
        while self.at < self.plan.steps.len() {
            let step = &self.plan.steps[self.at];
            if !self.stopped() || (step.afterwards && self.begun.contains(&step.cell.source)) {
                return Some(self.at);
            }
            // A cell in the middle of its rows was come to.
            self.summary.left_out += usize::from(self.turn.take().is_none());
            self.at += 1;
        }
        None
    }

    /// Examines the next cell as it is written. A caller that waits for an answer has the time.
    pub fn look_ahead(&mut self) {
        if let Some(step) = self.plan.steps.get_mut(self.at).filter(|_| self.examined <= self.at) {
            step.problems.extend(examine(self.workspace, self.engine, step.cell));
            self.ahead = checks::uses(self.workspace, self.engine, step.cell);
            self.examined = self.at + 1;
        }
    }

    /// Takes what somebody answered to a question; it is not asked again in this run.
    pub fn answer(&mut self, question: &Question, value: Value) {
        if question.secret {
            self.masker.learn([value.clone()]);
        }
        self.answers.give(&question.name, &question.text, value);
    }

    /// Takes the answer to a request, or why there is none.
    pub fn complete(&mut self, mut ready: Box<Ready<'w>>, answer: Result<&Exchange, &Failure>) {
        self.summary.requests += 1;
        // What was waited for counts as a check; what never came is judged, and told, as one.
        let (mut tries, mut came) = (1, 0);
        if let Some(mut wait) = ready.wait.take() {
            let (holds, took) = match answer {
                Ok(exchange) => (self.holds(&mut ready, &wait.until, exchange), exchange.timings.total),
                Err(failure) => (false, failure.elapsed),
            };
            wait.tries += 1;
            wait.waited += took + wait.every;
            if !holds && wait.waited <= wait.within {
                return self.send_again(ready, wait);
            }
            tries = wait.tries;
            match holds {
                true => came = 1,
                false => ready.uses.insert(0, wait.until),
            }
        }
        let Ready { prepared, cell, step, mut memo, uses, remarks, token, .. } = *ready;
        let mut report = self.report(cell, Outcome::Passed, remarks);
        report.tries = tries;
        report.method.clone_from(&prepared.method);
        match answer {
            Err(failure) => {
                report.outcome = Outcome::NoAnswer;
                report.elapsed = failure.elapsed;
                report.failure = Some(self.masked(failure));
                report.advice = self.unreachable(cell, step, failure);
            }
            Ok(exchange) => {
                report.status = Some(exchange.status);
                report.elapsed = exchange.timings.total;
                report.size = exchange.size;
                self.learn_cookies(exchange);
                let judgement = self.judge(cell, step, &mut memo, &uses, exchange);
                report.checks = came + judgement.checks;
                let failed_yields = judgement.yields.iter().filter(|taken| taken.value.is_err()).count();
                self.summary.failed_yields += failed_yields;
                if failed_yields + judgement.failures.len() > 0 {
                    report.outcome = Outcome::Failed;
                }
                report.failures = judgement.failures;
                report.yields = judgement.yields;
                report.problems.extend(judgement.remarks);
                report.advice = advice(exchange, report.checks > 0 && report.outcome == Outcome::Passed);
                // A kept token that is not taken any more is not tried again.
                if let Some(token) = token.filter(|token| exchange.status == 401 && !token.fresh) {
                    self.tokens.drop_profile(&token.profile);
                    self.dropped.push(token.profile.clone());
                    let profile = &token.profile;
                    let words = format!(
                        "the kept token of `{profile}` was not taken and is dropped: send again to get another"
                    );
                    report.advice = Some(words);
                }
            }
        }
        report.url = self.masker.mask(prepared.url.as_str()).into_owned();
        report.advice = report.advice.map(|advice| self.masker.mask(&advice).into_owned());
        self.finish(report);
    }

    /// What happened since this was last asked.
    pub fn events(&mut self) -> impl Iterator<Item = Event> + '_ {
        self.events.drain(..)
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

    /// The files the run is of.
    pub fn workspace(&self) -> &'w Workspace {
        self.workspace
    }

    /// The figures so far.
    pub fn summary(&self) -> &Summary {
        &self.summary
    }

    /// Works out an expression against an answer, as the cell's last check would see it.
    pub fn pick(
        &self,
        cell: CellId,
        expression: &str,
        exchange: &Exchange,
    ) -> Result<crate::expression::Value, String> {
        let compiled = self.engine.compile(expression).map_err(|faults| {
            let words = |fault: &crate::expression::Fault| match &fault.hint {
                Some(hint) => format!("{} ({hint})", fault.message),
                None => fault.message.clone(),
            };
            faults.iter().map(words).collect::<Vec<_>>().join("; ")
        })?;
        if !exchange.holds_body() && checks::reads_body(&compiled) {
            return Err(checks::not_held(exchange));
        }
        let mut names = ResponseNames::new(exchange);
        let mut memo = Memo::default();
        let mut lookup = Lookup::new(self.reach(), cell, &[], &mut memo);
        let mut bindings = crate::expression::Bindings::default();
        bindings.files = compiled.reads_files().then(|| self.workspace.reader(cell.source));
        for name in compiled.names() {
            let value = match names.get(name) {
                Some(value) => value,
                None => lookup
                    .named(name, cell.source, self.workspace.cell(cell).title, crate::workspace::Stage::Before)
                    .map_err(|problems| problems.iter().map(|p| p.message.clone()).collect::<Vec<_>>().join("; "))?,
            };
            bindings.insert(name, value);
        }
        self.engine.evaluate(&compiled, &bindings)
    }

    fn stopped(&self) -> bool {
        self.fail_fast && self.summary.exit_code() != 0
    }

    pub(super) fn reach(&self) -> Reach<'_> {
        let Self { workspace, engine, settings, tray, answers, .. } = self;
        Reach { workspace, engine, settings, tray, answers }
    }

    /// Whether a step, or the request for it, has mistakes, or needs a cell that did not pass.
    pub(super) fn cannot_be_sent(&self, step: usize) -> bool {
        let Step { needs, problems, .. } = &self.plan.steps[step];
        problems.iter().chain(&self.found).any(Problem::is_mistake)
            || needs.iter().any(|need| self.done.get(need).is_some_and(|fate| !fate.passed()))
    }

    /// What `cell`, that of a step or of the sequence that plays it, still asks before the step can be sent.
    fn question(&mut self, step: usize, cell: CellId) -> Option<Question> {
        if self.cannot_be_sent(step) {
            return None;
        }
        let mut memo = self.memo();
        let Step { cell: own, needs, .. } = &self.plan.steps[step];
        let needs: &[CellId] = if *own == cell { needs } else { &[] };
        let (question, found, taken) = questions(&mut Lookup::new(self.reach(), cell, needs, &mut memo));
        self.masker.learn(memo.secrets.drain(..));
        for (name, text, value) in taken {
            self.answers.give(&name, &text, value);
        }
        self.found.extend(found);
        question
    }

    pub(super) fn masked(&self, failure: &Failure) -> Failure {
        let mask = |text: &str| self.masker.mask(text).into_owned();
        Failure { message: mask(&failure.message), hint: failure.hint.as_deref().map(mask), ..failure.clone() }
    }

    /// Whether what a request waits for is there.
    fn holds(&mut self, ready: &mut Ready<'w>, until: &Use<'w>, exchange: &Exchange) -> bool {
        let until = std::slice::from_ref(until);
        self.judge(ready.cell, ready.step, &mut ready.memo, until, exchange).failures.is_empty()
    }

    fn judge(
        &mut self,
        cell: CellId,
        step: usize,
        memo: &mut Memo,
        uses: &[Use<'_>],
        exchange: &Exchange,
    ) -> Judgement {
        let mut names = ResponseNames::reading(exchange, checks::reads_of_body(uses));
        let mut judge = Judge {
            workspace: self.workspace,
            engine: self.engine,
            settings: &self.settings,
            tray: &mut self.tray,
            answers: &self.answers,
            masker: &mut self.masker,
            cell,
            needs: &self.plan.steps[step].needs,
            memo,
        };
        judge.judge(uses, &mut names)
    }

    pub(super) fn report(&self, cell: CellId, outcome: Outcome, mut problems: Vec<Problem>) -> CellReport {
        for problem in &mut problems {
            if let std::borrow::Cow::Owned(masked) = self.masker.mask(&problem.message) {
                problem.message = masked;
            }
        }
        CellReport {
            cell,
            row: self.row_number(),
            played_by: self.plan.steps.get(self.current).and_then(|step| step.played).map(|played| played.by),
            round: self.round,
            tries: 1,
            outcome,
            method: String::new(),
            url: String::new(),
            status: None,
            elapsed: Duration::ZERO,
            size: 0,
            checks: 0,
            failures: Vec::new(),
            yields: Vec::new(),
            problems,
            failure: None,
            advice: None,
        }
    }

    pub(super) fn finish(&mut self, report: CellReport) {
        match report.outcome {
            Outcome::NotSent(_) => self.summary.not_sent += 1,
            Outcome::Skipped(_) => self.summary.skipped += 1,
            Outcome::Mistaken => self.summary.mistaken += 1,
            Outcome::NoAnswer => self.summary.no_answer += 1,
            Outcome::Passed | Outcome::Failed => {}
        }
        self.summary.checks += report.checks;
        self.summary.failed_checks += report.failures.len();
        let fate = match report.outcome {
            Outcome::Passed => Fate::Passed,
            Outcome::Skipped(_) => Fate::Skipped,
            _ => Fate::Failed,
        };
        if fate == Fate::Failed
            && let Some(played) = self.plan.steps[self.current].played
        {
            self.broken.insert(played.by);
        }
        match report.row {
            Some(_) => self.end_row(fate != Fate::Failed),
            None => {
                self.done.insert(report.cell, fate);
            }
        }
        self.events.push_back(Event::Cell(Box::new(report)));
    }
}
