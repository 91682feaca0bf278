//! Events on their way into the order of the plan. Lanes report as they go; readers see the events in the plan's order,
//! whatever is in flight at the same time.

use crate::event::{CellReport, Event, Outcome, Summary, TokenReport};
use rustc_hash::FxHashSet;
use std::collections::VecDeque;
use yieldtray_source::Code;
use yieldtray_workspace::secret::Masker;

/// A lane with this many buffered reports waits, so that memory does not grow with the rows of a file.
const MAX_BUFFERED_REPORTS: usize = 1000;

/// The same for the bodies in a lane's buffered reports, in bytes.
const MAX_BUFFERED_BODIES: usize = 8 << 20;

/// A report of a lane about a step.
pub(crate) enum LaneEvent {
    /// The token of this number, which was obtained in this run, is used.
    TokenUsed(usize),
    /// A cell is finished. The number is how many forms of secrets were known then.
    CellFinished(Box<CellReport>, usize),
}

impl LaneEvent {
    /// How many bytes of bodies it holds.
    fn body_size(&self) -> usize {
        match self {
            LaneEvent::TokenUsed(_) => 0,
            LaneEvent::CellFinished(report, _) => report.captured.as_ref().map_or(0, |captured| captured.size()),
        }
    }
}

/// Puts events into the order of the plan, and counts them.
#[derive(Default)]
pub(crate) struct EventBuffer {
    /// The lane of each step.
    lane_of_step: Vec<u32>,
    /// The first step of which not everything is emitted.
    cursor: usize,
    /// For each lane, its events that are not emitted yet, with their steps.
    buffered: Vec<VecDeque<(usize, LaneEvent)>>,
    /// For each lane, the bytes of bodies in those.
    body_sizes: Vec<usize>,
    /// For each lane, the step before which it has reported everything.
    reported_up_to: Vec<usize>,
    /// Events in order, for the caller.
    emitted: VecDeque<Event>,
    /// The tokens that were obtained in this run, and whether the event of each was emitted.
    tokens: Vec<(TokenReport, bool)>,
    /// The messages about default answers that were emitted.
    default_messages: FxHashSet<String>,
    summary: Summary,
}

impl EventBuffer {
    /// A buffer for steps of these lanes, which starts with the beginning of the run.
    pub(crate) fn new(lane_of_step: Vec<u32>, lanes: usize, environment: Option<String>, cells: usize) -> Self {
        Self {
            lane_of_step,
            buffered: (0..lanes).map(|_| VecDeque::new()).collect(),
            body_sizes: vec![0; lanes],
            reported_up_to: vec![0; lanes],
            emitted: VecDeque::from([Event::RunStarted { environment, cells }]),
            summary: Summary { cells, ..Summary::default() },
            ..Self::default()
        }
    }

    /// Buffers an event of a step.
    pub(crate) fn push(&mut self, lane: usize, step: usize, event: LaneEvent, masker: &Masker) {
        self.body_sizes[lane] += event.body_size();
        self.buffered[lane].push_back((step, event));
        self.emit_ready(masker);
    }

    /// Notes that a lane has reported everything before `step`.
    pub(crate) fn advance(&mut self, lane: usize, step: usize, masker: &Masker) {
        self.reported_up_to[lane] = step;
        self.emit_ready(masker);
    }

    /// Whether everything before a step is emitted.
    pub(crate) fn has_emitted_up_to(&self, step: usize) -> bool {
        self.cursor >= step
    }

    /// Whether a lane has buffered so much that it must wait.
    pub(crate) fn is_full(&self, lane: usize) -> bool {
        self.buffered[lane].len() >= MAX_BUFFERED_REPORTS || self.body_sizes[lane] >= MAX_BUFFERED_BODIES
    }

    /// Notes that a token was obtained. Its event is emitted with the first cell that uses it.
    pub(crate) fn add_token(&mut self, report: TokenReport) {
        self.tokens.push((report, false));
    }

    /// The number of the token that was obtained last for a profile.
    pub(crate) fn token_number(&self, profile: &str) -> Option<usize> {
        self.tokens.iter().rposition(|(report, _)| report.profile == profile)
    }

    /// Emits the end of the run.
    pub(crate) fn end(&mut self) {
        self.emitted.push_back(Event::RunFinished(self.summary));
    }

    /// The events that are emitted and not read yet.
    pub(crate) fn drain(&mut self) -> impl Iterator<Item = Event> + '_ {
        self.emitted.drain(..)
    }

    fn emit_ready(&mut self, masker: &Masker) {
        while let Some(lane) = self.lane_of_step.get(self.cursor) {
            let lane = *lane as usize;
            while self.buffered[lane].front().is_some_and(|(step, _)| *step <= self.cursor) {
                if let Some((_, event)) = self.buffered[lane].pop_front() {
                    self.body_sizes[lane] -= event.body_size();
                    self.emit(event, masker);
                }
            }
            if self.reported_up_to[lane] <= self.cursor {
                break;
            }
            self.cursor += 1;
        }
    }

    fn emit(&mut self, event: LaneEvent, masker: &Masker) {
        match event {
            // Each cell reports the token that it uses; the first report is emitted.
            LaneEvent::TokenUsed(number) => {
                let (report, emitted) = &mut self.tokens[number];
                if !std::mem::replace(emitted, true) {
                    masker.hide(&mut report.url);
                    self.emitted.push_back(Event::TokenObtained(report.clone()));
                }
            }
            LaneEvent::CellFinished(mut report, known_secrets) => {
                // While it was buffered, another lane may have met a secret that is in it.
                if masker.forms() != known_secrets {
                    report.mask(masker);
                }
                // A prompt's answer or default holds for the whole run. Lanes may reach it in any order, so each cell
                // reports it, and it is emitted once.
                report.problems.retain(|problem| {
                    problem.code != Code::DefaultUsed || self.default_messages.insert(problem.message.clone())
                });
                self.emitted.push_back(Event::CellFinished(report));
            }
        }
    }

    /// The counts so far.
    pub(crate) fn summary(&self) -> &Summary {
        &self.summary
    }

    /// Counts a finished cell.
    pub(crate) fn count_cell(&mut self, report: &CellReport) {
        match report.outcome {
            Outcome::NotSent => self.summary.not_sent += 1,
            Outcome::Skipped => self.summary.skipped += 1,
            Outcome::Invalid => self.summary.invalid += 1,
            Outcome::NoResponse => self.summary.no_response += 1,
            Outcome::Passed | Outcome::Failed => {}
        }
        self.summary.checks += report.checks;
        self.summary.failed_checks += report.failures.len();
        self.summary.failed_yields += report.failed_yields();
    }

    /// Counts a request.
    pub(crate) fn count_request(&mut self) {
        self.summary.requests += 1;
    }

    /// Counts cells that were not reached, since the run ended before.
    pub(crate) fn count_not_reached(&mut self, cells: usize) {
        self.summary.not_reached += cells;
    }

    /// Notes that the user ends the run.
    pub(crate) fn interrupt(&mut self) {
        self.summary.interrupted = true;
    }

    pub(crate) fn is_interrupted(&self) -> bool {
        self.summary.interrupted
    }
}
