//! A panic of the program itself at a cell: that file's run ends there, and the others go on.

use super::LaneCx;
use crate::event::{CellReport, Outcome};
use std::any::Any;
use yieldtray_source::{Code, Problem};

impl LaneCx<'_, '_> {
    /// Reports the current cell as failed internally, and ends the lane.
    pub(crate) fn abort(&mut self, panic: Box<dyn Any + Send>) {
        let step = self.lane.current();
        self.end_wait();
        let report = self.panic_report(step, panic);
        self.finish(report);
        // Cells that need one of the rest are not sent.
        let rest = self.lane.end();
        for other in rest.iter().chain([&step]) {
            self.record_outcome(*other, Outcome::Failed);
        }
        self.run.events.count_not_reached(rest.iter().filter(|other| **other != step).count());
    }

    /// The report of a cell at which the program itself failed.
    pub(super) fn panic_report(&self, step: usize, panic: Box<dyn Any + Send>) -> CellReport {
        let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
        let text = text.or_else(|| panic.downcast_ref::<String>().cloned()).unwrap_or_default();
        let cell = self.step(step).cell;
        let message = format!("internal error in this request: {text}");
        let problem = Problem::error(Code::InternalError, self.inputs.workspace().cell(cell).title, message)
            .with_hint("this is a bug in yieldtray: please report it; the other files continue")
            .in_source(cell.source);
        self.report(cell, Outcome::Invalid, vec![problem])
    }
}
