//! Lanes: the cells of a file go one after another, while those of other files may be under way.

use super::checks::Use;
use super::plan::Plan;
use super::turn::{Again, Turn};
use crate::expression::{Draws, Value};
use crate::problem::Problem;
use crate::workspace::CellId;
use rustc_hash::{FxHashMap, FxHashSet};
use std::collections::BTreeSet;

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
    /// What is wrong with the request that is being made, beside what is wrong with its step.
    pub(super) found: Vec<Problem>,
    /// The profile a token was got for just now.
    pub(super) just_got: Option<String>,
    /// The tokens that were told of in this lane, by their numbers.
    pub(super) tokens_told: Vec<usize>,
    /// Where the made-up values of its cell come from.
    pub(super) draws: Draws,
    /// For which step and row they are.
    pub(super) drawn_for: Option<(usize, usize)>,
    /// How often a sequence played a cell already.
    pub(super) played: FxHashMap<CellId, usize>,
    /// The step whose request is under way.
    pub(super) busy: Option<usize>,
}

impl Lane<'_> {
    /// The step it stands at; `None` when it is through.
    pub(super) fn position(&self) -> Option<usize> {
        let again = self.again.as_ref().map(Again::step);
        again.or_else(|| self.steps.get(self.at).copied())
    }

    /// The step before which everything of it was told.
    pub(super) fn reached(&self) -> usize {
        self.busy.or_else(|| self.position()).unwrap_or(usize::MAX)
    }
}

/// Who goes when.
#[derive(Default)]
pub(super) struct Timetable {
    /// The lane of each step.
    pub(super) lane_of: Vec<u32>,
    /// Lanes that wait for nothing but their turn, by the step they stand at.
    pub(super) free: BTreeSet<(usize, usize)>,
    /// Lanes that wait for a token, and its profile.
    pub(super) waiting: Vec<(String, usize)>,
    /// How many lanes have a request under way.
    pub(super) busy: usize,
    /// Cells that cells of another lane need.
    pub(super) awaited: FxHashSet<CellId>,
    /// For each lane, those that need a cell of it, and those that need one of theirs.
    pub(super) followers: Vec<Vec<usize>>,
}

impl Timetable {
    /// Puts the steps of a plan into lanes: one a file, but one for files whose sequences play each
    /// other's cells.
    pub(super) fn new<'w>(plan: &Plan) -> (Self, Lanes<'w>) {
        let mut files: FxHashMap<_, usize> = FxHashMap::default();
        let mut joined: Vec<usize> = Vec::new();
        for step in &plan.steps {
            let mut file = |source| {
                *files.entry(source).or_insert_with(|| {
                    joined.push(joined.len());
                    joined.len() - 1
                })
            };
            let own = file(step.cell.source);
            if let Some(played) = step.played {
                let by = file(played.by.source);
                let (own, by) = (root(&joined, own), root(&joined, by));
                joined[own.max(by)] = own.min(by);
            }
        }
        let mut lanes: Lanes<'w> = Vec::new();
        let mut numbers: FxHashMap<usize, usize> = FxHashMap::default();
        let mut lane_of = Vec::with_capacity(plan.steps.len());
        for (place, step) in plan.steps.iter().enumerate() {
            let number = *numbers.entry(root(&joined, files[&step.cell.source])).or_insert_with(|| {
                lanes.push(Box::default());
                lanes.len() - 1
            });
            lanes[number].steps.push(place);
            lane_of.push(number as u32);
        }
        let mut timetable = Self { lane_of, ..Self::default() };
        timetable.find_followers(plan, lanes.len());
        timetable.free = lanes.iter().enumerate().filter_map(|(lane, own)| Some((own.position()?, lane))).collect();
        (timetable, lanes)
    }

    fn find_followers(&mut self, plan: &Plan, lanes: usize) {
        let home: FxHashMap<CellId, u32> =
            plan.steps.iter().zip(&self.lane_of).map(|(step, lane)| (step.cell, *lane)).collect();
        self.followers = vec![Vec::new(); lanes];
        for (step, lane) in plan.steps.iter().zip(&self.lane_of) {
            for need in &step.needs {
                let Some(other) = home.get(need).filter(|other| *other != lane) else { continue };
                self.awaited.insert(*need);
                let followers = &mut self.followers[*other as usize];
                if !followers.contains(&(*lane as usize)) {
                    followers.push(*lane as usize);
                }
            }
        }
        for lane in 0..lanes {
            let mut all = self.followers[lane].clone();
            let mut at = 0;
            while at < all.len() {
                let more: Vec<usize> = self.followers[all[at]]
                    .iter()
                    .copied()
                    .filter(|other| *other != lane && !all.contains(other))
                    .collect();
                all.extend(more);
                at += 1;
            }
            self.followers[lane] = all;
        }
    }

    /// Whether nothing is under way that could let another lane go.
    pub(super) fn is_idle(&self) -> bool {
        self.busy == 0 && self.waiting.is_empty()
    }

    /// Lets those go on that wait for a profile's token.
    pub(super) fn release(&mut self, profile: &str) -> Vec<usize> {
        let (released, waiting) =
            std::mem::take(&mut self.waiting).into_iter().partition(|(for_it, _)| for_it == profile);
        self.waiting = waiting;
        let released: Vec<(String, usize)> = released;
        released.into_iter().map(|(_, lane)| lane).collect()
    }
}

fn root(joined: &[usize], mut file: usize) -> usize {
    while joined[file] != file {
        file = joined[file];
    }
    file
}
