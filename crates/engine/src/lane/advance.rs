//! The next thing that a lane wants: what is asked, skipped or prepared before anything is sent.

use super::LaneCx;
use super::rows::RowStep;
use crate::event::{CellReport, Outcome};
use crate::next::Next;
use crate::question::{self, Question};
use crate::{ExitCode, response_exprs};
use yieldtray_http::Failure;
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::{self, Step};
use yieldtray_workspace::request::TokenLookup;

impl<'w> LaneCx<'_, 'w> {
    /// Goes on: what is wanted of the caller, or `None` where the lane has moved on without it.
    pub(crate) fn advance(&mut self) -> Option<Next<'w>> {
        if let Some(retry) = self.lane.take_retry() {
            return self.resume_retry(retry);
        }
        let step = self.due_step()?;
        self.lane.replace_current(step);
        self.prefetch();
        if self.end_sequence(step) {
            return None;
        }
        if let RowStep::Done = self.take_row(step) {
            self.lane.pass_step();
            return None;
        }
        self.seed_random(step);
        // The arguments of a sequence may need answers of its own.
        if let Some(sequence) = self.pending_play_args(step)
            && let Some(question) = self.question(step, sequence)
        {
            return Some(Next::Ask(question));
        }
        self.bind_play_args(step);
        // Evaluate `% skip when` before prompting, if it needs no answer.
        let undecided = match self.skip_reason(step) {
            Ok(None) => Vec::new(),
            Ok(Some(reason)) => {
                self.skip_step(step, reason);
                return None;
            }
            Err(problems) => problems,
        };
        if let Some(question) = self.question(step, self.step(step).cell) {
            return Some(Next::Ask(question));
        }
        self.lane.add_problems(undecided);
        let token = match self.token(step) {
            Ok(TokenLookup::NotNeeded) => None,
            Ok(TokenLookup::Token(token)) => Some(token),
            Ok(TokenLookup::Flow(flow)) => return self.wait_for_token(flow),
            Err(failure) => {
                self.fail_without_token(step, failure);
                return None;
            }
        };
        match self.prepare_step(step, token) {
            Ok(ready) => {
                self.run.outcomes.start_file(ready.cell.source);
                self.lane.pass_step_without_rows();
                self.mark_sent(step);
                Some(Next::Send(ready))
            }
            Err(report) => {
                self.finish_unsent(*report);
                None
            }
        }
    }

    /// Validates the next cell and compiles its checks, if that was not done yet.
    pub(crate) fn prefetch(&mut self) {
        let Some(step) = self.lane.unvalidated_step() else { return };
        let (workspace, engine) = (self.inputs.workspace(), self.inputs.engine());
        let cell = self.step(step).cell;
        self.run.step_problems.add(step, plan::examine(workspace, engine, cell));
        self.lane.set_prefetched(response_exprs::response_exprs(workspace, engine, cell));
    }

    /// Goes on from a step without sending it.
    fn skip_step(&mut self, step: usize, reason: String) {
        let problems = self.lane.take_problems();
        let report = self.report(self.step(step).cell, Outcome::Skipped, problems).because(reason);
        drop(self.take_cache());
        self.finish_unsent(report);
    }

    /// The same, since no token could be obtained for it.
    fn fail_without_token(&mut self, step: usize, failure: Failure) {
        let problems = self.lane.take_problems();
        let mut report = self.report(self.step(step).cell, Outcome::NoResponse, problems);
        report.elapsed = failure.elapsed;
        report.failure = Some(failure);
        drop(self.take_cache());
        self.finish_unsent(report);
    }

    /// Reports a cell that is not sent, and goes on to the next; of one with rows, to the next row.
    fn finish_unsent(&mut self, report: CellReport) {
        self.lane.pass_step_without_rows();
        self.finish(report);
    }

    /// The lane's next step. After a failure that ends the run, only cleanup is left.
    fn due_step(&mut self) -> Option<usize> {
        while let Some(step) = self.lane.next_step() {
            let Step { cell, afterwards, .. } = self.step(step);
            // Cells that ran before the run was stopped are cleaned up.
            if !self.is_stopped() || (*afterwards && self.run.outcomes.is_started(cell.source)) {
                return Some(step);
            }
            // A cell in the middle of its rows was reached.
            self.run.events.count_not_reached(usize::from(self.lane.take_rows().is_none()));
            self.lane.pass_step();
        }
        None
    }

    fn is_stopped(&self) -> bool {
        let summary = self.run.events.summary();
        summary.interrupted || self.inputs.options().fail_fast && summary.exit_code() != ExitCode::Success
    }

    /// Seeds the random values of a request: they depend on its cell and row, whatever else is sent.
    fn seed_random(&mut self, step: usize) {
        let row = self.lane.row_number();
        if !self.lane.enter_random_scope(step, row.unwrap_or_default()) {
            return;
        }
        let Step { cell, played, round, .. } = self.step(step);
        let workspace = self.inputs.workspace();
        // The parts of the path, since the separator differs between systems.
        let path = workspace.source(cell.source).path.components();
        let name = std::iter::once(workspace.cell(*cell).name.as_bytes());
        let parts = path.map(|part| part.as_os_str().as_encoded_bytes()).chain(name);
        let seed = self.inputs.options().logged_seeds.as_ref().and_then(|seeds| seeds(*cell, row));
        let numbers = [*round, row.unwrap_or_default(), played.map_or(0, |played| played.time)];
        self.lane.random().begin(seed, parts, &numbers);
    }

    /// The next question of `cell` (of the step, or of the sequence that plays it) before the step can be sent.
    fn question(&mut self, step: usize, cell: CellId) -> Option<Question> {
        if self.cannot_be_sent(step) {
            return None;
        }
        let mut cache = self.cache();
        let Step { cell: own, needs, .. } = self.step(step);
        let needs: &[CellId] = if *own == cell { needs } else { &[] };
        let (question, problems, defaults) = question::next_question(&mut self.resolver(cell, needs, &mut cache));
        self.mask_new_secrets(&mut cache);
        for default in defaults {
            self.run.values.answer(&default.name, &default.question, default.value, default.secret);
        }
        self.lane.add_problems(problems);
        question
    }
}
