//! Outcomes of the cells of the current round, for the cells that depend on them.

use crate::event::Outcome;
use rustc_hash::{FxHashMap, FxHashSet};
use yieldtray_source::SourceId;
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::Plan;

/// The outcomes of the current round.
#[derive(Default)]
pub(crate) struct Outcomes {
    by_cell: FxHashMap<CellId, Outcome>,
    /// The outcomes of steps that cells of other files need.
    by_step: FxHashMap<usize, Outcome>,
    /// Sequences of which a cell failed.
    failed_sequences: FxHashSet<CellId>,
    /// Files of which a cell was sent.
    started_files: FxHashSet<SourceId>,
    /// Cells that others need.
    needed: FxHashSet<CellId>,
}

impl Outcomes {
    pub(crate) fn new(plan: &Plan) -> Self {
        let needed = plan.steps.iter().flat_map(|step| step.needs.iter().copied()).collect();
        Self { needed, ..Self::default() }
    }

    /// Forgets all outcomes, for a new round.
    pub(crate) fn reset(&mut self) {
        self.by_cell.clear();
        self.by_step.clear();
        self.failed_sequences.clear();
        self.started_files.clear();
    }

    /// Records the outcome of a cell. Where cells of other files need the step, pass `Some(step)`.
    pub(crate) fn record(&mut self, cell: CellId, needed_step: Option<usize>, outcome: Outcome) {
        self.by_cell.insert(cell, outcome);
        if let Some(step) = needed_step {
            self.by_step.insert(step, outcome);
        }
    }

    /// Whether a step that cells of other files need has ended.
    pub(crate) fn has_ended(&self, step: usize) -> bool {
        self.by_step.contains_key(&step)
    }

    /// The first cell that a step needs and that did not pass. `cross_lane` are the steps of other lanes that it needs.
    pub(crate) fn unmet_need(&self, plan: &Plan, step: usize, cross_lane: &[usize]) -> Option<(CellId, Outcome)> {
        plan.steps[step].needs.iter().find_map(|need| {
            let place = cross_lane.iter().find(|place| plan.steps[**place].cell == *need);
            let outcome = match place {
                Some(place) => self.by_step.get(place),
                None => self.by_cell.get(need),
            };
            outcome.filter(|outcome| **outcome != Outcome::Passed).map(|outcome| (*need, *outcome))
        })
    }

    /// Whether another cell needs this one.
    pub(crate) fn is_needed(&self, cell: CellId) -> bool {
        self.needed.contains(&cell)
    }

    /// Notes that a cell of a file is sent: its cleanup must run.
    pub(crate) fn start_file(&mut self, file: SourceId) {
        self.started_files.insert(file);
    }

    pub(crate) fn is_started(&self, file: SourceId) -> bool {
        self.started_files.contains(&file)
    }

    /// Notes that a cell which a sequence plays failed.
    pub(crate) fn fail_sequence(&mut self, sequence: CellId) {
        self.failed_sequences.insert(sequence);
    }

    /// The outcome of a sequence whose cells have all been played.
    pub(crate) fn end_sequence(&mut self, sequence: CellId) -> Outcome {
        if self.failed_sequences.remove(&sequence) { Outcome::Failed } else { Outcome::Passed }
    }
}
