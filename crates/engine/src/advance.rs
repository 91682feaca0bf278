//! One step of a lane: what is asked, skipped or made ready before anything is sent.

use super::Run;
use super::event::{CellReport, Outcome};
use super::question::{Question, questions};
use super::run::{Fate, Next};
use crate::iteration::Rowed;
use yieldtray_http::Failure;
use yieldtray_source::Problem;
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::Step;
use yieldtray_workspace::request::Granted;
use yieldtray_workspace::scope::Lookup;

impl<'w> Run<'w> {
    /// Goes on with the entered lane: what is wanted of the caller, or `None` where it has moved on.
    pub(super) fn advance(&mut self) -> Option<Next<'w>> {
        if let Some(again) = self.lane.again.take() {
            return self.try_again(again);
        }
        let step = self.due()?;
        self.lane.current = step;
        self.examine_next();
        if self.ends_sequence(step) {
            return None;
        }
        if let Rowed::Over = self.take_row(step) {
            self.lane.at += 1;
            return None;
        }
        self.begin_draws(step);
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
                return None;
            }
            Err(found) => found,
        };
        if let Some(question) = self.question(step, self.plan.steps[step].cell) {
            return Some(Next::Ask(question));
        }
        self.lane.found.extend(undecided);
        let token = match self.granted(step) {
            Ok(Granted::NotNeeded) => None,
            Ok(Granted::Token(token)) => Some(token),
            Ok(Granted::Request(request)) => return self.wait_for_token(request),
            Err(failure) => {
                self.leave_without_token(step, failure);
                return None;
            }
        };
        match self.make_ready(step, token) {
            Ok(ready) => {
                self.begun.insert(ready.cell.source);
                self.lane.at += usize::from(self.lane.turn.is_none());
                self.set_out(step);
                Some(Next::Send(ready))
            }
            Err(report) => {
                self.pass_on(*report);
                None
            }
        }
    }

    /// Goes on from a step without sending it.
    fn leave(&mut self, step: usize, outcome: Outcome) {
        let remarks = std::mem::take(&mut self.lane.found);
        let report = self.report(self.plan.steps[step].cell, outcome, remarks);
        drop(self.memo_for_request());
        self.pass_on(report);
    }

    /// The same, since no token could be got for it.
    fn leave_without_token(&mut self, step: usize, failure: Failure) {
        let remarks = std::mem::take(&mut self.lane.found);
        let mut report = self.report(self.plan.steps[step].cell, Outcome::NoAnswer, remarks);
        report.elapsed = failure.elapsed;
        report.failure = Some(failure);
        drop(self.memo_for_request());
        self.pass_on(report);
    }

    /// Reports a cell that is not sent, and goes on to the next; of one with rows, to the next row.
    fn pass_on(&mut self, report: CellReport) {
        self.lane.at += usize::from(self.lane.turn.is_none());
        self.finish(report);
    }

    /// The end of a sequence, where its cells were played: it has nothing to send itself.
    fn ends_sequence(&mut self, step: usize) -> bool {
        let Step { cell, problems, .. } = &self.plan.steps[step];
        let cell = *cell;
        if problems.iter().any(Problem::is_mistake) || self.workspace.cell(cell).request.is_some() {
            return false;
        }
        let fate = if self.broken.remove(&cell) { Fate::Failed } else { Fate::Passed };
        self.note_fate(step, fate);
        if let (Some(played), Fate::Failed) = (self.plan.steps[step].played, fate) {
            self.broken.insert(played.by);
        }
        self.lane.at += 1;
        true
    }

    /// The lane's next step. After a failure that ends the run, only what must be done afterwards is.
    fn due(&mut self) -> Option<usize> {
        while let Some(step) = self.lane.steps.get(self.lane.at).copied() {
            let own = &self.plan.steps[step];
            // What was done before the run was ended is undone.
            if !self.stopped() || (own.afterwards && self.begun.contains(&own.cell.source)) {
                return Some(step);
            }
            // A cell in the middle of its rows was come to.
            self.summary.left_out += usize::from(self.lane.turn.take().is_none());
            self.lane.at += 1;
        }
        None
    }

    fn stopped(&self) -> bool {
        self.summary.interrupted || self.fail_fast && self.summary.exit_code() != 0
    }

    /// Begins the made-up values of a request: the same for this cell and row, whatever else is sent.
    fn begin_draws(&mut self, step: usize) {
        let row = self.row_number().unwrap_or_default();
        if self.lane.drawn_for.replace((step, row)) == Some((step, row)) {
            return;
        }
        let Step { cell, played, round, .. } = &self.plan.steps[step];
        // The parts of the path, since what stands between them is not the same everywhere.
        let path = self.workspace.source(cell.source).path.components();
        let name = std::iter::once(self.workspace.cell(*cell).name.as_bytes());
        let words = path.map(|part| part.as_os_str().as_encoded_bytes()).chain(name);
        let seed = self.recalled.as_ref().and_then(|seeds| seeds(*cell, self.row_number()));
        self.engine.made_up().begin(seed, words, &[*round, row, played.map_or(0, |played| played.time)]);
    }

    /// Whether a step, or the request for it, has mistakes, or needs a cell that did not pass.
    pub(super) fn cannot_be_sent(&self, step: usize) -> bool {
        let problems = &self.plan.steps[step].problems;
        problems.iter().chain(&self.lane.found).any(Problem::is_mistake) || self.unmet_need(step).is_some()
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
        self.masker.learn(memo.new_secrets());
        for (name, text, value, secret) in taken {
            self.answers.give(&name, &text, value, secret);
        }
        self.lane.found.extend(found);
        question
    }
}
