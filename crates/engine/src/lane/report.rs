//! Reports of cells: their beginning, their end, and what explains a failure to connect.

use super::LaneCx;
use crate::event::{CellReport, Outcome};
use crate::event_buffer::LaneEvent;
use yieldtray_http::{Failure, FailureKind};
use yieldtray_source::Problem;
use yieldtray_source::names::is_value_name;
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::{EvalCache, Origin};

impl LaneCx<'_, '_> {
    /// The report of a cell of the current step, to be filled.
    pub(super) fn report(&self, cell: CellId, outcome: Outcome, mut problems: Vec<Problem>) -> CellReport {
        problems.iter_mut().for_each(|problem| self.run.masker.hide_in_problem(problem));
        let step = self.inputs.plan().steps.get(self.lane.current());
        CellReport {
            row: self.lane.row_number(),
            played_by: step.and_then(|step| step.played).map(|played| played.sequence),
            round: self.run.scheduler.round(),
            place: step.and_then(|step| step.place),
            problems,
            ..CellReport::new(cell, outcome)
        }
    }

    /// Emits the report of the current step.
    pub(super) fn finish(&mut self, report: CellReport) {
        // Deferred checks come before, to keep the order of the events.
        self.flush_deferred();
        self.run.events.count_cell(&report);
        let step = self.lane.current();
        let outcome = match report.outcome {
            Outcome::Passed => Outcome::Passed,
            Outcome::Skipped => Outcome::Skipped,
            _ => Outcome::Failed,
        };
        if outcome == Outcome::Failed
            && let Some(played) = self.step(step).played
        {
            self.run.outcomes.fail_sequence(played.sequence);
        }
        match (report.row, self.lane.rows_mut()) {
            (Some(_), Some(rows)) => rows.record(outcome != Outcome::Failed),
            (Some(_), None) => {}
            (None, _) => self.record_outcome(step, outcome),
        }
        let event = LaneEvent::CellFinished(Box::new(report), self.run.masker.forms());
        self.run.events.push(self.index, step, event, &self.run.masker);
    }

    /// A failure with its secrets masked.
    pub(super) fn mask_failure(&self, failure: &Failure) -> Failure {
        let mask = |text: &str| self.run.masker.mask(text).into_owned();
        Failure { message: mask(&failure.message), hint: failure.hint.as_deref().map(mask), ..failure.clone() }
    }

    /// Explains where the URL comes from that cannot be reached.
    pub(super) fn explain_unreachable(&self, cell: CellId, step: usize, failure: &Failure) -> Option<String> {
        if !matches!(failure.kind, FailureKind::Refused | FailureKind::NoSuchHost) {
            return None;
        }
        let workspace = self.inputs.workspace();
        let target = workspace.cell(cell).request.as_ref()?.target;
        let name = base_name(target.of(&workspace.source(cell.source).text))?;
        let mut cache = EvalCache::default();
        let resolver = self.resolver(cell, &self.step(step).needs, &mut cache);
        let origin = Origin::of(&resolver.candidates(name).next()?, workspace);
        Some(format!("the URL comes from `{name}`, {}", origin.describe(workspace)))
    }
}

/// The value that a target takes its host from: `base` for a path, or the name in a placeholder at its start.
fn base_name(target: &str) -> Option<&str> {
    if target.starts_with('/') {
        return Some("base");
    }
    let (name, _) = target.strip_prefix("{{")?.split_once("}}")?;
    Some(name.trim()).filter(|name| is_value_name(name))
}
