//! The values that a run collects: what responses yield, and what was answered to prompts.

use rustc_hash::FxHashSet;
use yieldtray_expression::Value;
use yieldtray_workspace::scope::{PromptAnswers, Tray};

/// Captured values and answers to prompts.
pub(crate) struct RunValues {
    tray: Tray,
    /// The tray that each round begins with.
    initial_tray: Tray,
    answers: PromptAnswers,
}

impl RunValues {
    /// Values of a run that begins with this tray.
    pub(crate) fn new(initial_tray: Tray) -> Self {
        Self { tray: Tray::default(), initial_tray, answers: PromptAnswers::default() }
    }

    pub(crate) fn tray(&self) -> &Tray {
        &self.tray
    }

    pub(crate) fn answers(&self) -> &PromptAnswers {
        &self.answers
    }

    /// The tray, mutable, with the answers.
    pub(crate) fn tray_and_answers(&mut self) -> (&mut Tray, &PromptAnswers) {
        (&mut self.tray, &self.answers)
    }

    /// Puts an earlier copy of the tray back.
    pub(crate) fn restore_tray(&mut self, tray: Tray) {
        self.tray = tray;
    }

    /// Begins a round. What the steps in `retained` capture stays available to cells of other files.
    pub(crate) fn reset(&mut self, retained: FxHashSet<usize>) {
        self.tray = self.initial_tray.clone().shared(retained);
    }

    /// Stores the answer to a prompt for the rest of the run.
    pub(crate) fn answer(&mut self, name: &str, question: &str, value: Value, secret: bool) {
        self.answers.give(name, question, value, secret);
    }
}
