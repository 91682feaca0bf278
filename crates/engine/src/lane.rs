//! Lanes: the cells of a file go one after another, while those of other files may be under way.

use super::checks::Use;
use crate::iteration::{Again, Turn};
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::BTreeSet;
use yieldtray_expression::{Draws, Value};
use yieldtray_source::{Problem, SourceId};
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::FileGroups;
use yieldtray_workspace::plan::{Plan, Step};
use yieldtray_workspace::secret::UsedSecret;

/// All lanes of a run.
#[allow(clippy::vec_box)] // each changes places, twice a request, with the one that is worked on
pub(super) type Lanes<'w> = Vec<Box<Lane<'w>>>;

/// Where one lane is.
#[derive(Default)]
pub(super) struct Lane<'w> {
    /// Its steps, as places in the plan.
    pub(super) steps: Vec<usize>,
    /// Which of them comes next.
    pub(super) at: usize,
    /// The step that was taken last.
    pub(super) current: usize,
    /// How many steps were examined.
    pub(super) examined: usize,
    /// What is done with the answer of the step that was examined last.
    pub(super) ahead: Vec<Use<'w>>,
    /// The rows of the cell whose turn it is.
    pub(super) turn: Option<Turn>,
    /// The request that is sent again.
    pub(super) again: Option<Again<'w>>,
    /// What the sequence that plays the cell gives it.
    pub(super) given: Vec<(String, Value)>,
    /// The secrets that were used for that.
    pub(super) given_secrets: Vec<UsedSecret>,
    /// What is wrong with the request that is being made, beside what is wrong with its step.
    pub(super) found: Vec<Problem>,
    /// The profile a token was got for just now.
    pub(super) just_got: Option<String>,
    /// Where the made-up values of its cell come from.
    pub(super) draws: Draws,
    /// For which step and row they are.
    pub(super) drawn_for: Option<(usize, usize)>,
    /// What it is engaged in.
    pub(super) doing: Doing,
}

/// What keeps a lane from going on.
#[derive(Default, PartialEq)]
pub(super) enum Doing {
    /// Nothing: it waits for its turn.
    #[default]
    Nothing,
    /// The request of this step is under way, or a pause before it.
    Request(usize),
    /// A token of this profile is to come.
    Token(String),
}

impl Lane<'_> {
    /// The step it stands at; `None` when it is through.
    pub(super) fn position(&self) -> Option<usize> {
        let again = self.again.as_ref().map(|again| again.ready.step);
        again.or_else(|| self.steps.get(self.at).copied())
    }

    /// The step whose request is under way.
    pub(super) fn under_way(&self) -> Option<usize> {
        match self.doing {
            Doing::Request(step) => Some(step),
            Doing::Nothing | Doing::Token(_) => None,
        }
    }

    /// The step before which everything of it was told.
    pub(super) fn reached(&self) -> usize {
        self.under_way().or_else(|| self.position()).unwrap_or(usize::MAX)
    }
}

/// Who goes when.
#[derive(Default)]
pub(super) struct Timetable {
    groups: FileGroups,
    /// The lane of each group of files.
    lanes: FxHashMap<SourceId, usize>,
    /// Lanes that wait for nothing but their turn, by the step they stand at.
    pub(super) free: BTreeSet<(usize, usize)>,
    /// How many lanes are engaged in something.
    pub(super) engaged: usize,
    /// For each step that needs cells of other files, the steps it relies on.
    relied_on: FxHashMap<usize, Vec<usize>>,
    /// All of those steps.
    pub(super) awaited: FxHashSet<usize>,
}

impl Timetable {
    /// Puts the steps of a plan into lanes: one a file, but one for files whose sequences play each
    /// other's cells. Also gives the lane of each step.
    pub(super) fn new<'w>(plan: &Plan) -> (Self, Lanes<'w>, Vec<u32>) {
        let mut timetable = Self { groups: FileGroups::of(plan), ..Self::default() };
        timetable.find_relied_on(plan);
        let (mut lanes, mut lane_of): (Lanes<'w>, _) = (Vec::new(), Vec::with_capacity(plan.steps.len()));
        for (place, step) in plan.steps.iter().enumerate() {
            let file = timetable.groups.of_file(step.cell.source);
            let lane = *timetable.lanes.entry(file).or_insert_with(|| {
                lanes.push(Box::default());
                lanes.len() - 1
            });
            lanes[lane].steps.push(place);
            lane_of.push(lane as u32);
        }
        timetable.free = lanes.iter().enumerate().filter_map(|(lane, own)| Some((own.position()?, lane))).collect();
        (timetable, lanes, lane_of)
    }

    /// The lane of a file.
    pub(super) fn lane_of(&self, file: SourceId) -> Option<usize> {
        self.lanes.get(&self.groups.of_file(file)).copied()
    }

    /// Whether nothing is under way that could let another lane go.
    pub(super) fn is_idle(&self) -> bool {
        self.engaged == 0
    }

    /// The steps of other files that a step relies on: it waits for them, and sees what they captured. A cell may be
    /// in the plan several times, as sequences play it; the last time before the step counts, as in a run of one
    /// request at a time.
    pub(super) fn relied_on(&self, step: usize) -> &[usize] {
        match self.relied_on.is_empty() {
            true => &[],
            false => self.relied_on.get(&step).map(Vec::as_slice).unwrap_or_default(),
        }
    }

    fn find_relied_on(&mut self, plan: &Plan) {
        let foreign = |step: &Step| {
            let file = step.cell.source;
            step.needs.iter().copied().filter(move |need| need.source != file).collect::<Vec<_>>()
        };
        let needed: FxHashSet<CellId> = plan.steps.iter().flat_map(foreign).collect();
        // Most plans have none, and are not gone through again.
        if needed.is_empty() {
            return;
        }
        let mut last: FxHashMap<CellId, usize> = FxHashMap::default();
        for (place, step) in plan.steps.iter().enumerate() {
            let same_round = |place: &usize| plan.steps[*place].round == step.round;
            let found = foreign(step).into_iter().filter_map(|need| last.get(&need).copied().filter(same_round));
            let found: Vec<usize> = found.collect();
            if !found.is_empty() {
                self.awaited.extend(&found);
                self.relied_on.insert(place, found);
            }
            if needed.contains(&step.cell) {
                last.insert(step.cell, place);
            }
        }
    }
}
