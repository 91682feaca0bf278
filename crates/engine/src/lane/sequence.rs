//! Sequences (`% play`): what they pass to the cells they play, and their end. Also `% skip when`.

use super::LaneCx;
use crate::event::Outcome;
use yieldtray_source::{Code, Problem, Span};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::{PlayedBy, Step};
use yieldtray_workspace::scope::{EvalCache, Phase, Resolver};

impl LaneCx<'_, '_> {
    /// Ends a sequence whose cells were played, since it sends nothing itself. Returns whether the step is one.
    pub(super) fn end_sequence(&mut self, step: usize) -> bool {
        let Step { cell, played, .. } = self.step(step);
        let has_errors = self.run.step_problems.of(step).iter().any(Problem::is_error);
        if has_errors || self.inputs.workspace().cell(*cell).request.is_some() {
            return false;
        }
        let outcome = self.run.outcomes.end_sequence(*cell);
        self.record_outcome(step, outcome);
        if let (Some(played), Outcome::Failed) = (played, outcome) {
            self.run.outcomes.fail_sequence(played.sequence);
        }
        self.lane.pass_step();
        true
    }

    /// The sequence that passes values to a cell which are still to be evaluated.
    pub(super) fn pending_play_args(&self, step: usize) -> Option<CellId> {
        let played = self.step(step).played.filter(|played| played.with.is_some())?;
        self.lane.play_args().is_empty().then_some(played.sequence)
    }

    /// Evaluates, once for each request, what the sequence that plays a cell passes to it, as the sequence's own cell
    /// sees it.
    pub(super) fn bind_play_args(&mut self, step: usize) {
        let Some(PlayedBy { sequence, with: Some(with), .. }) = self.step(step).played else { return };
        if !self.lane.play_args().is_empty() || self.cannot_be_sent(step) {
            return;
        }
        let text = &self.inputs.workspace().source(sequence.source).text;
        let (mut cache, mut args) = (EvalCache::default(), Vec::new());
        for (name, expression) in InstructionKind::assignments(with, text) {
            let mut resolver = self.resolver(sequence, &[], &mut cache);
            match resolver.evaluate(sequence.source, expression, Phase::Request) {
                Ok(value) => args.push((name.of(text).to_owned(), value)),
                Err(problems) => self.lane.add_problems(problems),
            }
        }
        self.mask_new_secrets(&mut cache);
        self.lane.set_play_args(args, cache.secrets);
    }

    /// The reason of the `% skip when` that holds, if one does.
    pub(super) fn skip_reason(&mut self, step: usize) -> Result<Option<String>, Vec<Problem>> {
        let Step { cell, needs, .. } = self.step(step);
        let lines = self.inputs.workspace().cell(*cell).instructions().filter_map(|line| match line.kind {
            InstructionKind::Skip { condition, reason } => Some((condition, reason)),
            _ => None,
        });
        let mut lines = lines.peekable();
        if lines.peek().is_none() || self.cannot_be_sent(step) {
            return Ok(None);
        }
        let mut cache = self.cache();
        let mut resolver = self.resolver(*cell, needs, &mut cache);
        let decided = lines.find_map(|(condition, reason)| match skip_reason(&mut resolver, condition, reason) {
            Ok(reason) => reason.map(Ok),
            Err(problems) => Some(Err(problems)),
        });
        self.mask_new_secrets(&mut cache);
        decided.transpose().map(|reason| reason.map(|reason| self.run.masker.mask(&reason).into_owned()))
    }
}

/// The reason of a `% skip when` line, if its condition holds.
fn skip_reason(
    resolver: &mut Resolver<'_>,
    condition: Span,
    reason: Option<Span>,
) -> Result<Option<String>, Vec<Problem>> {
    let source = resolver.cell.source;
    let value = resolver.evaluate(source, condition, Phase::Request)?;
    match value.as_bool() {
        Some(false) => Ok(None),
        Some(true) => Ok(Some(match reason {
            Some(reason) => resolver.render(source, reason, Phase::Request),
            None => condition.of(&resolver.workspace.source(source).text).to_owned(),
        })),
        None => {
            let message = format!("this must be true or false, but it is {}", value.kind().describe());
            Err(vec![Problem::error(Code::FailedExpression, condition, message).in_source(source)])
        }
    }
}
