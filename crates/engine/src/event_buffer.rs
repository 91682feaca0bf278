//! Lanes tell what happens as it happens; whoever listens hears it in the order of the plan.

use super::event::{CellReport, Event, TokenReport};
use rustc_hash::FxHashSet;
use std::collections::VecDeque;
use yieldtray_source::Code;
use yieldtray_workspace::secret::Masker;

/// A lane that is not listened to yet may be this many reports ahead; then it waits. So what is held
/// does not grow with the rows of a file.
const FAR: usize = 1000;

/// The same for the bodies that its reports keep, in bytes.
const MUCH: usize = 8 << 20;

/// What a lane tells.
pub(super) enum Told {
    /// A token that was got in this run is used, the one of this number.
    Token(usize),
    /// A cell is done; and how many secrets were known then.
    Cell(Box<CellReport>, usize),
}

impl Told {
    /// How many bytes of bodies stand in it.
    fn bodies(&self) -> usize {
        match self {
            Told::Token(_) => 0,
            Told::Cell(report, _) => report.kept.as_ref().map_or(0, |kept| kept.size()),
        }
    }
}

/// Reports on their way into the order of the plan.
#[derive(Default)]
pub(super) struct Order {
    /// The lane of each step.
    lane_of: Vec<u32>,
    /// The first step that is not told to its end.
    cursor: usize,
    /// For each lane, what it told and nobody heard yet.
    held: Vec<VecDeque<(usize, Told)>>,
    /// For each lane, how many bytes of bodies stand in that.
    bodies: Vec<usize>,
    /// For each lane, the step before which everything was told.
    reached: Vec<usize>,
    /// What is ready to be heard.
    pub(super) ready: VecDeque<Event>,
    /// The tokens that were got in this run, and which of them were heard of.
    tokens: Vec<(TokenReport, bool)>,
    /// The remarks of defaults that were heard.
    defaults: FxHashSet<String>,
}

impl Order {
    /// The order of steps that belong to these lanes.
    pub(super) fn new(lane_of: Vec<u32>, lanes: usize) -> Self {
        let held = (0..lanes).map(|_| VecDeque::new()).collect();
        Self { lane_of, held, bodies: vec![0; lanes], reached: vec![0; lanes], ..Self::default() }
    }

    /// Takes what a lane tells of a step.
    pub(super) fn tell(&mut self, lane: usize, step: usize, told: Told, masker: &Masker) {
        self.bodies[lane] += told.bodies();
        self.held[lane].push_back((step, told));
        self.pass_on(masker);
    }

    /// Notes that a lane has told everything before `step`.
    pub(super) fn reach(&mut self, lane: usize, step: usize, masker: &Masker) {
        self.reached[lane] = step;
        self.pass_on(masker);
    }

    /// Whether everything before a step was told.
    pub(super) fn has_come_to(&self, step: usize) -> bool {
        self.cursor >= step
    }

    /// Notes that a token was got.
    pub(super) fn add_token(&mut self, report: TokenReport) {
        self.tokens.push((report, false));
    }

    /// The number of the token that was got last for a profile.
    pub(super) fn token(&self, profile: &str) -> Option<usize> {
        self.tokens.iter().rposition(|(report, _)| report.profile == profile)
    }

    /// Whether a lane has told so much that it should wait to be heard.
    pub(super) fn is_far_ahead(&self, lane: usize) -> bool {
        self.held[lane].len() >= FAR || self.bodies[lane] >= MUCH
    }

    fn pass_on(&mut self, masker: &Masker) {
        while let Some(lane) = self.lane_of.get(self.cursor) {
            let lane = *lane as usize;
            while self.held[lane].front().is_some_and(|(step, _)| *step <= self.cursor) {
                if let Some((_, told)) = self.held[lane].pop_front() {
                    self.bodies[lane] -= told.bodies();
                    self.hear(told, masker);
                }
            }
            if self.reached[lane] <= self.cursor {
                break;
            }
            self.cursor += 1;
        }
    }

    fn hear(&mut self, told: Told, masker: &Masker) {
        match told {
            // Each cell tells of the token it carries; the first one heard is news.
            Told::Token(number) => {
                let (report, heard) = &mut self.tokens[number];
                if !std::mem::replace(heard, true) {
                    masker.hide(&mut report.url);
                    self.ready.push_back(Event::Token(report.clone()));
                }
            }
            Told::Cell(mut report, secrets) => {
                // While it was held, another lane may have met a secret that stands in it.
                if masker.forms() != secrets {
                    report.mask(masker);
                }
                // An answer holds for the whole run, and so does the default that is taken in its place.
                report.problems.retain(|problem| {
                    problem.code != Code::DefaultTaken || self.defaults.insert(problem.message.clone())
                });
                self.ready.push_back(Event::Cell(report));
            }
        }
    }
}
