//! Cells with rows (`% each`): one request a row.

use super::LaneCx;
use crate::event::Outcome;
use yieldtray_expression::Value;
use yieldtray_source::{Code, Problem, Span};
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::{RowError, Rows};

/// The rows that a cell is sent for.
pub(crate) struct RowIteration {
    rows: Rows,
    /// The row that it is sent for now, until its request is prepared.
    row: Option<Value>,
    /// The number of that row, from 1; 0 before the first.
    number: usize,
    /// The row that it is sent for alone; rows before it are passed over.
    only_row: Option<usize>,
    /// Whether all rows so far passed.
    passed: bool,
    /// Where the instruction names the file.
    path: Span,
    /// Whether no more rows are read.
    is_over: bool,
}

/// The next action for a cell with rows.
pub(super) enum RowStep {
    /// Send the cell now: for its row, or because it has none.
    Send,
    /// All rows are sent.
    Done,
}

impl RowIteration {
    fn new(rows: Rows, only_row: Option<usize>, path: Span) -> Self {
        Self { rows, row: None, number: 0, only_row, passed: true, path, is_over: false }
    }

    /// The row that the cell is sent for, until its request is prepared.
    pub(super) fn row(&self) -> Option<&Value> {
        self.row.as_ref()
    }

    pub(super) fn take_row(&mut self) -> Option<Value> {
        self.row.take()
    }

    /// The number of the row, from 1. What is asked for a row leaves the number as it is.
    pub(super) fn number(&self) -> Option<usize> {
        Some(self.number).filter(|number| *number > 0)
    }

    /// Records whether a row passed; the next one may follow.
    pub(super) fn record(&mut self, passed: bool) {
        self.passed &= passed;
    }

    /// The next row to be sent for.
    fn next(&mut self) -> Option<Result<Value, RowError>> {
        while !self.is_over && self.only_row.is_none_or(|only| self.number < only) {
            let row = self.rows.next()?;
            self.number += 1;
            if row.is_err() || self.only_row.is_none_or(|only| self.number == only) {
                return Some(row);
            }
        }
        None
    }
}

impl LaneCx<'_, '_> {
    /// Takes the next row of a cell that has rows.
    pub(super) fn take_row(&mut self, step: usize) -> RowStep {
        let cell = self.step(step).cell;
        let workspace = self.inputs.workspace();
        let Some(path) = workspace.rows_file(cell) else { return RowStep::Send };
        if self.lane.rows().is_none() {
            // A cell that cannot be sent anyway reads no rows.
            if self.cannot_be_sent(step) {
                return RowStep::Send;
            }
            match workspace.rows(cell, path.of(&workspace.source(cell.source).text)) {
                Ok(rows) => self.lane.set_rows(RowIteration::new(rows, self.only_row(cell), path)),
                Err(why) => {
                    let problem = rows_problem(path, format!("cannot read the rows: {why}"), cell);
                    self.run.step_problems.add(step, [problem]);
                    return RowStep::Send;
                }
            }
        }
        let Some(rows) = self.lane.rows_mut() else { return RowStep::Send };
        if rows.row.is_some() {
            return RowStep::Send;
        }
        match rows.next() {
            Some(Ok(row)) => {
                rows.row = Some(row);
                RowStep::Send
            }
            Some(Err(why)) => {
                (rows.is_over, rows.passed) = (true, false);
                let message = format!("cannot read row {}: {why}", rows.number);
                let problem = rows_problem(rows.path, message, cell);
                let report = self.report(cell, Outcome::Invalid, vec![problem]);
                self.finish(report);
                self.take_row(step)
            }
            None => {
                self.end_rows(step, cell);
                RowStep::Done
            }
        }
    }

    /// The row that a cell is sent for alone, if it is one.
    fn only_row(&self, cell: CellId) -> Option<usize> {
        let options = self.inputs.options();
        let own = options.row_of_cell.and_then(|(of, number)| (of == cell).then_some(number));
        own.or(options.first_row_only.then_some(1))
    }

    fn end_rows(&mut self, step: usize, cell: CellId) {
        let Some(rows) = self.lane.take_rows() else { return };
        let file = rows.path.of(&self.inputs.workspace().source(cell.source).text);
        if rows.number == 0 {
            let report = self.report(cell, Outcome::Skipped, Vec::new()).because(format!("`{file}` has no rows"));
            self.finish(report);
            return;
        }
        if let Some(only) = rows.only_row.filter(|only| rows.number < *only && !rows.is_over) {
            let message = format!("`{file}` has no row {only}: the last is row {}", rows.number);
            let problem = rows_problem(rows.path, message, cell);
            let report = self.report(cell, Outcome::Invalid, vec![problem]);
            self.finish(report);
            return;
        }
        self.record_outcome(step, if rows.passed { Outcome::Passed } else { Outcome::Failed });
    }
}

fn rows_problem(path: Span, message: String, cell: CellId) -> Problem {
    let hint = "use a file with a header row (.csv, .tsv), a JSON array (.json) or JSON lines (.jsonl)";
    Problem::error(Code::UnreadableFile, path, message).with_hint(hint).in_source(cell.source)
}
