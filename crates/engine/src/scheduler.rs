//! Which lane goes next. A lane is the cells of one file, or of several whose sequences play each other's cells: they go
//! one after another, while those of other lanes may be in flight.

use crate::event_buffer::EventBuffer;
use crate::outcomes::Outcomes;
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::BTreeSet;
use yieldtray_source::SourceId;
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::{FileGroups, Plan, Step};

/// The lanes of a run and the order in which they go.
#[derive(Default)]
pub(crate) struct Scheduler {
    groups: FileGroups,
    /// The lane of each group of files.
    lane_of_group: FxHashMap<SourceId, usize>,
    /// Lanes that wait for nothing but their turn, by the step they are at.
    runnable: BTreeSet<(usize, usize)>,
    /// How many lanes wait for a response, a token or a pause.
    in_flight: usize,
    /// For each step that needs cells of other lanes, their steps.
    cross_lane_needs: FxHashMap<usize, Vec<usize>>,
    /// All of those steps.
    needed_elsewhere: FxHashSet<usize>,
    /// The lane whose request was handed out last, until its next cell is prefetched.
    last_sent_lane: Option<usize>,
    /// The current round, from 1; 0 before the first.
    round: usize,
    ended: bool,
}

/// How the steps of a plan are divided.
pub(crate) struct LaneSteps {
    /// The steps of each lane, as places in the plan.
    pub(crate) steps: Vec<Vec<usize>>,
    /// The lane of each step.
    pub(crate) lane_of_step: Vec<u32>,
}

impl Scheduler {
    /// Divides the steps of a plan into lanes.
    pub(crate) fn new(plan: &Plan) -> (Self, LaneSteps) {
        let mut scheduler = Self { groups: FileGroups::of(plan), ..Self::default() };
        scheduler.find_cross_lane_needs(plan);
        let (mut steps, mut lane_of_step): (Vec<Vec<usize>>, _) = (Vec::new(), Vec::with_capacity(plan.steps.len()));
        for (place, step) in plan.steps.iter().enumerate() {
            let group = scheduler.groups.of_file(step.cell.source);
            let lane = *scheduler.lane_of_group.entry(group).or_insert_with(|| {
                steps.push(Vec::new());
                steps.len() - 1
            });
            steps[lane].push(place);
            lane_of_step.push(lane as u32);
        }
        let first = |(lane, own): (usize, &Vec<usize>)| Some((*own.first()?, lane));
        scheduler.runnable = steps.iter().enumerate().filter_map(first).collect();
        (scheduler, LaneSteps { steps, lane_of_step })
    }

    fn find_cross_lane_needs(&mut self, plan: &Plan) {
        let of_other_files = |step: &Step| {
            let file = step.cell.source;
            step.needs.iter().copied().filter(move |need| need.source != file).collect::<Vec<_>>()
        };
        let needed: FxHashSet<CellId> = plan.steps.iter().flat_map(of_other_files).collect();
        // Most plans have none, and are not gone through again.
        if needed.is_empty() {
            return;
        }
        let mut last: FxHashMap<CellId, usize> = FxHashMap::default();
        for (place, step) in plan.steps.iter().enumerate() {
            let same_round = |place: &usize| plan.steps[*place].round == step.round;
            let found = of_other_files(step).into_iter().filter_map(|need| last.get(&need).copied().filter(same_round));
            let found: Vec<usize> = found.collect();
            if !found.is_empty() {
                self.needed_elsewhere.extend(&found);
                self.cross_lane_needs.insert(place, found);
            }
            if needed.contains(&step.cell) {
                last.insert(step.cell, place);
            }
        }
    }

    /// The lane of a file.
    pub(crate) fn lane_of(&self, file: SourceId) -> Option<usize> {
        self.lane_of_group.get(&self.groups.of_file(file)).copied()
    }

    /// Whether all steps are in one lane.
    pub(crate) fn is_single_lane(&self) -> bool {
        self.lane_of_group.len() == 1
    }

    /// Whether nothing is in flight that could make another lane runnable.
    pub(crate) fn is_idle(&self) -> bool {
        self.in_flight == 0
    }

    pub(crate) fn round(&self) -> usize {
        self.round
    }

    pub(crate) fn begin_round(&mut self, round: usize) {
        self.round = round;
    }

    /// The first step that could go, or `None` when every lane is in flight or at its end.
    pub(crate) fn first_runnable(&self) -> Option<usize> {
        self.runnable.first().map(|(step, _)| *step)
    }

    /// The steps of other files that a step needs: it waits for them, and sees what they captured. A cell may be in the
    /// plan several times, since sequences play it; the last time before the step counts, as in a run of one request at
    /// a time.
    pub(crate) fn cross_lane_needs(&self, step: usize) -> &[usize] {
        match self.cross_lane_needs.is_empty() {
            true => &[],
            false => self.cross_lane_needs.get(&step).map(Vec::as_slice).unwrap_or_default(),
        }
    }

    /// Whether a cell of another file needs this step.
    pub(crate) fn is_needed_elsewhere(&self, step: usize) -> bool {
        self.needed_elsewhere.contains(&step)
    }

    /// All steps that cells of other files need.
    pub(crate) fn steps_needed_elsewhere(&self) -> &FxHashSet<usize> {
        &self.needed_elsewhere
    }

    /// Takes the lane that goes next: of those that may go, the one that is first in the plan.
    pub(crate) fn take_next(&mut self, plan: &Plan, outcomes: &Outcomes, events: &EventBuffer) -> Option<usize> {
        let may_go = |(step, lane): &&(usize, usize)| self.may_go(plan, outcomes, events, *step, *lane);
        let ready = self.runnable.iter().find(may_go).copied();
        // Where all lanes wait for each other, which a cycle of `% needs` causes, the first one goes.
        let first = self.runnable.first().copied().filter(|_| self.is_idle());
        let taken = ready.or(first)?;
        self.runnable.remove(&taken);
        Some(taken.1)
    }

    /// Whether what a step waits for in other lanes has ended.
    fn may_go(&self, plan: &Plan, outcomes: &Outcomes, events: &EventBuffer, step: usize, lane: usize) -> bool {
        let own = &plan.steps[step];
        own.round == self.round
            && self.cross_lane_needs(step).iter().all(|step| outcomes.has_ended(*step))
            // Cleanup is behind all steps that may use what it removes.
            && (!own.afterwards || events.has_emitted_up_to(step))
            && !events.is_full(lane)
    }

    /// Puts a lane back that is at `step` and waits for nothing.
    pub(crate) fn make_runnable(&mut self, step: usize, lane: usize) {
        self.runnable.insert((step, lane));
    }

    /// Notes that a lane waits for a response, a token or a pause.
    pub(crate) fn begin_wait(&mut self) {
        self.in_flight += 1;
    }

    /// Notes that one of those waits is over.
    pub(crate) fn end_wait(&mut self) {
        self.in_flight -= 1;
    }

    /// Notes whose request was handed out last.
    pub(crate) fn mark_sent(&mut self, lane: usize) {
        self.last_sent_lane = Some(lane);
    }

    /// The lane whose request was handed out last, once.
    pub(crate) fn take_last_sent(&mut self) -> Option<usize> {
        self.last_sent_lane.take()
    }

    /// Ends the run. Returns whether it had not ended yet.
    pub(crate) fn end(&mut self) -> bool {
        !std::mem::replace(&mut self.ended, true)
    }
}
