//! A cell's turn: once, or once a row; and again while it waits.

use super::Run;
use super::checks::Wait;
use super::event::Outcome;
use super::ready::Ready;
use super::run::{Next, Pause};
use std::sync::Arc;
use std::time::Duration;
use yieldtray_expression::Value;
use yieldtray_http::Failure;
use yieldtray_source::Span;
use yieldtray_source::{Code, Problem};
use yieldtray_syntax::Kind;
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::{Played, Step};
use yieldtray_workspace::scope::{Lookup, Memo, Rows, Stage};

/// The rows a cell is sent for.
pub(super) struct Turn {
    rows: Rows,
    /// The row it is sent for now, and its number from 1.
    row: Option<Value>,
    number: usize,
    /// The row it is sent for alone; what is before that is passed over.
    only: Option<usize>,
    /// Whether all rows so far passed.
    passed: bool,
    path: Span,
    /// Whether no more rows are taken.
    over: bool,
}

impl Turn {
    /// The next row to be sent for.
    fn next(&mut self) -> Option<Result<Value, String>> {
        while !self.over && self.only.is_none_or(|only| self.number < only) {
            let row = self.rows.next()?;
            self.number += 1;
            if row.is_err() || self.only.is_none_or(|only| self.number == only) {
                return Some(row);
            }
        }
        None
    }
}

/// A request that is sent again until something holds.
pub(super) struct Again<'w> {
    pub(super) ready: Box<Ready<'w>>,
    pause: Option<Duration>,
}

/// What the rows of a cell say about its turn.
pub(super) enum Rowed {
    /// It is sent now: for its row, or as it has none.
    Now,
    /// Its rows are through.
    Over,
}

impl<'w> Run<'w> {
    /// Goes on with a request that is sent again: with the pause before it, the request, or the end of both.
    pub(super) fn try_again(&mut self, again: Again<'w>) -> Option<Next<'w>> {
        let Again { ready, pause } = again;
        if self.summary.interrupted {
            self.give_up(ready);
            return None;
        }
        self.set_out(ready.step);
        let Some(time) = pause else { return Some(Next::Send(ready)) };
        self.lane.again = Some(Again { ready, pause: None });
        self.entered.map(|lane| Next::Pause(Pause { time, lane }))
    }

    /// Reports a request that would be sent again, had nobody ended the run.
    fn give_up(&mut self, ready: Box<Ready<'w>>) {
        let mut report = self.report(ready.cell, Outcome::NoAnswer, ready.remarks);
        report.method.clone_from(&ready.prepared.method);
        report.url = self.masker.mask(&ready.prepared.address()).into_owned();
        let wait = ready.wait.as_ref();
        report.tries = wait.map_or(1, |wait| wait.tries);
        report.elapsed = wait.map_or(Duration::ZERO, |wait| wait.waited);
        let message = "interrupted before what is waited for was there".to_owned();
        report.failure = Some(Failure { message, hint: None, ..Failure::interrupted(report.elapsed) });
        self.finish(report);
    }

    /// Puts a request aside, to be sent again after a pause.
    pub(super) fn send_again(&mut self, mut ready: Box<Ready<'w>>, wait: Wait<'w>) {
        let pause = Some(wait.every);
        Arc::make_mut(&mut ready.prepared).sending.timeout = wait.left();
        ready.wait = Some(wait);
        self.lane.again = Some(Again { ready, pause });
    }

    /// Takes the next row of a cell that has rows.
    pub(super) fn take_row(&mut self, step: usize) -> Rowed {
        let cell = self.plan.steps[step].cell;
        let Some(path) = self.workspace.rows_file(cell) else { return Rowed::Now };
        if self.lane.turn.is_none() {
            // What cannot be sent anyway is not looked at further.
            if self.cannot_be_sent(step) {
                return Rowed::Now;
            }
            match self.workspace.rows(cell, path.of(&self.workspace.source(cell.source).text)) {
                Ok(rows) => {
                    let only = self.only_row(cell);
                    self.lane.turn = Some(Turn { rows, row: None, number: 0, only, passed: true, path, over: false });
                }
                Err(why) => {
                    let problem = rows_problem(path, format!("there are no rows: {why}"), cell);
                    self.plan.steps[step].problems.push(problem);
                    return Rowed::Now;
                }
            }
        }
        let Some(turn) = &mut self.lane.turn else { return Rowed::Now };
        if turn.row.is_some() {
            return Rowed::Now;
        }
        match turn.next() {
            Some(Ok(row)) => {
                turn.row = Some(row);
                Rowed::Now
            }
            Some(Err(why)) => {
                (turn.over, turn.passed) = (true, false);
                let message = format!("row {} cannot be read: {why}", turn.number);
                let problem = rows_problem(turn.path, message, cell);
                let report = self.report(cell, Outcome::Mistaken, vec![problem]);
                self.finish(report);
                self.take_row(step)
            }
            None => {
                self.end_turn(step, cell);
                Rowed::Over
            }
        }
    }

    /// The row a cell is sent for alone, if it is one.
    fn only_row(&self, cell: CellId) -> Option<usize> {
        let own = self.row_of.and_then(|(of, number)| (of == cell).then_some(number));
        own.or(self.one_row.then_some(1))
    }

    fn end_turn(&mut self, step: usize, cell: CellId) {
        let Some(turn) = self.lane.turn.take() else { return };
        if turn.number == 0 {
            let file = turn.path.of(&self.workspace.source(cell.source).text);
            let report = self.report(cell, Outcome::Skipped(format!("`{file}` has no rows")), Vec::new());
            self.finish(report);
            return;
        }
        if let Some(only) = turn.only.filter(|only| turn.number < *only && !turn.over) {
            let file = turn.path.of(&self.workspace.source(cell.source).text);
            let message = format!("`{file}` has no row {only}: it ends after row {}", turn.number);
            let problem = rows_problem(turn.path, message, cell);
            let report = self.report(cell, Outcome::Mistaken, vec![problem]);
            self.finish(report);
            return;
        }
        let fate = if turn.passed { crate::run::Fate::Passed } else { crate::run::Fate::Failed };
        self.note_fate(step, fate);
    }

    /// The number of the row a cell is sent for; what is asked for it leaves the row where it is.
    pub(super) fn row_number(&self) -> Option<usize> {
        self.lane.turn.as_ref().filter(|turn| turn.number > 0).map(|turn| turn.number)
    }

    /// Notes how a row came out; the next one may follow.
    pub(super) fn end_row(&mut self, passed: bool) {
        if let Some(turn) = &mut self.lane.turn {
            turn.passed &= passed;
        }
    }

    /// What a cell's expressions see beside its lines: its row, and what a sequence gives it.
    pub(super) fn memo(&self) -> Memo {
        let row = self.lane.turn.as_ref().and_then(|turn| turn.row.clone());
        Memo::given(row, self.lane.given.clone()).at(self.lane.current)
    }

    /// The same, for the request itself: after it the next row is due.
    pub(super) fn memo_for_request(&mut self) -> Memo {
        let row = self.lane.turn.as_mut().and_then(|turn| turn.row.take());
        let mut memo = Memo::given(row, std::mem::take(&mut self.lane.given)).at(self.lane.current);
        memo.secrets = std::mem::take(&mut self.lane.given_secrets);
        memo
    }

    /// The sequence that gives a cell something which is still to be worked out.
    pub(super) fn giver(&self, step: usize) -> Option<CellId> {
        let played = self.plan.steps[step].played.filter(|played| played.with.is_some())?;
        self.lane.given.is_empty().then_some(played.by)
    }

    /// Works out, once for each request, what the sequence that plays a cell gives it, as the sequence's own
    /// cell sees it.
    pub(super) fn give(&mut self, step: usize) {
        let Some(Played { by, with: Some(with), .. }) = self.plan.steps[step].played else { return };
        if !self.lane.given.is_empty() || self.cannot_be_sent(step) {
            return;
        }
        let text = &self.workspace.source(by.source).text;
        let (mut own, mut given) = (Memo::default(), Vec::new());
        for (name, expression) in Kind::assignments(with, text) {
            match Lookup::new(self.reach(), by, &[], &mut own).evaluate(by.source, expression, Stage::Before) {
                Ok(value) => given.push((name.of(text).to_owned(), value)),
                Err(found) => self.lane.found.extend(found),
            }
        }
        self.masker.learn(own.new_secrets());
        self.lane.given = given;
        self.lane.given_secrets = own.secrets;
    }

    /// Whether `% skip when` holds: why, as far as the line says it.
    pub(super) fn skips(&mut self, step: usize) -> Result<Option<String>, Vec<Problem>> {
        let Step { cell, needs, .. } = &self.plan.steps[step];
        let (cell, workspace) = (*cell, self.workspace);
        let lines = workspace.cell(cell).instructions().filter_map(|line| match line.kind {
            Kind::Skip { condition, reason } => Some((condition, reason)),
            _ => None,
        });
        let mut lines = lines.peekable();
        if lines.peek().is_none() || self.cannot_be_sent(step) {
            return Ok(None);
        }
        let mut memo = self.memo();
        let mut lookup = Lookup::new(self.reach(), cell, needs, &mut memo);
        let decided = lines.find_map(|(condition, reason)| match skip_reason(&mut lookup, condition, reason) {
            Ok(reason) => reason.map(Ok),
            Err(found) => Some(Err(found)),
        });
        self.masker.learn(memo.new_secrets());
        decided.transpose().map(|reason| reason.map(|reason| self.masker.mask(&reason).into_owned()))
    }
}

/// The reason of a `% skip when` that holds.
fn skip_reason(lookup: &mut Lookup<'_>, condition: Span, reason: Option<Span>) -> Result<Option<String>, Vec<Problem>> {
    let source = lookup.cell.source;
    let value = lookup.evaluate(source, condition, Stage::Before)?;
    match value.as_bool() {
        Some(false) => Ok(None),
        Some(true) => Ok(Some(match reason {
            Some(reason) => lookup.words(source, reason, Stage::Before),
            None => condition.of(&lookup.workspace.source(source).text).to_owned(),
        })),
        None => {
            let message = format!("this must be true or false, but is {}", value.kind().words());
            Err(vec![Problem::mistake(Code::FailedExpression, condition, message).in_source(source)])
        }
    }
}

fn rows_problem(path: Span, message: String, cell: CellId) -> Problem {
    let hint = "name a file with columns in its first row (.csv, .tsv), a JSON array (.json) or JSON lines (.jsonl)";
    Problem::mistake(Code::UnreadableFile, path, message).with_hint(hint).in_source(cell.source)
}
