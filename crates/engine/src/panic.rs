//! When the program itself fails at a cell: its file's run ends there, and the others lose nothing.

use super::Run;
use super::event::{CellReport, Outcome};
use super::run::Fate;
use std::any::Any;
use std::panic::resume_unwind;
use yieldtray_source::{Code, Problem};

impl Run<'_> {
    /// Reports the cell that was worked on and ends its lane.
    pub(super) fn crashed(&mut self, why: Box<dyn Any + Send>) {
        // Outside of any lane there is nothing to be saved.
        if self.entered.is_none() {
            resume_unwind(why);
        }
        let step = self.lane.current;
        self.come_back();
        let report = self.failed_itself(step, why);
        self.finish(report);
        (self.lane.turn, self.lane.again) = (None, None);
        // Who waits for it, or for one of the cells behind it, does so in vain.
        let rest = self.lane.steps.split_off(self.lane.at.min(self.lane.steps.len()));
        for other in rest.iter().chain([&step]) {
            self.note_fate(*other, Fate::Failed);
        }
        self.summary.left_out += rest.iter().filter(|other| **other != step).count();
        self.lane.at = self.lane.steps.len();
        self.exit();
    }
    /// The report of a cell at which the program itself failed.
    pub(super) fn failed_itself(&self, step: usize, why: Box<dyn Any + Send>) -> CellReport {
        let words = why.downcast_ref::<&str>().map(|words| (*words).to_owned());
        let words = words.or_else(|| why.downcast_ref::<String>().cloned()).unwrap_or_default();
        let cell = self.plan.steps[step].cell;
        let message = format!("yieldtray itself failed at this cell: {words}");
        let problem = Problem::mistake(Code::InternalFailure, self.workspace.cell(cell).title, message)
            .with_hint("this is our mistake, not yours: please report it; the other files go on")
            .in_source(cell.source);
        self.report(cell, Outcome::Mistaken, vec![problem])
    }
}
