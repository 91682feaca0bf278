//! What the checks of a cell notice of altered copies of its answer.

use super::Run;
use super::checks::{Purpose, Use};
use crate::check_evaluator::Judge;
use crate::checks;
use crate::prove::{Change, Proof, alter, candidates, changes};
use yieldtray_http::Exchange;
use yieldtray_http::body_shape::Outline;
use yieldtray_source::Span;
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::Memo;
use yieldtray_workspace::scope::ResponseNames;

impl<'w> Run<'w> {
    /// Judges altered copies of an answer that passed. Nothing of it stays: neither what they yield nor what
    /// they would tell.
    pub(super) fn prove(
        &mut self,
        cell: CellId,
        step: usize,
        memo: &mut Memo,
        uses: &[Use<'w>],
        exchange: &Exchange,
    ) -> Proof {
        let outline = Outline::of(exchange);
        let fields = outline.fields();
        let all = changes(exchange, &outline, &fields);
        let yields = uses.iter().any(|step| matches!(step.purpose, Purpose::Yield { .. }));
        let mut notices = |run: &mut Self, uses: &[Use<'_>], copy: &Exchange| {
            // What a copy yields is seen by the checks behind it, and by nobody else.
            let kept = yields.then(|| run.tray.clone());
            let noticed = run.notices(cell, step, memo, uses, copy);
            if let Some(kept) = kept {
                run.tray = kept;
            }
            noticed
        };
        let gaps: Vec<Change> =
            all.iter().filter(|change| !notices(self, uses, &alter(exchange, &outline, change))).cloned().collect();
        let suggestion = gaps.iter().find_map(|gap| {
            let copy = alter(exchange, &outline, gap);
            candidates(exchange, &outline, &fields, gap).into_iter().find(|line| {
                let Ok(expression) = self.engine.compile(line) else { return false };
                let purpose = Purpose::Check { label: None, hint: None };
                let own = [Use { source: cell.source, span: Span::default(), expression, purpose }];
                // A secret must not be written into a file that is shared.
                !self.masker.finds_in(line) && !notices(self, &own, exchange) && notices(self, &own, &copy)
            })
        });
        let suggestion = suggestion.map(|line| format!("% check {line}"));
        let mut proof = Proof { altered: all.len(), gaps, suggestion };
        proof.mask(&self.masker);
        proof
    }

    /// Whether any of `uses` fails for an answer.
    fn notices(&mut self, cell: CellId, step: usize, memo: &mut Memo, uses: &[Use<'_>], exchange: &Exchange) -> bool {
        let mut names = ResponseNames::reading(exchange, checks::reads_of_body(uses));
        let mut judge = Judge {
            workspace: self.workspace,
            engine: self.engine,
            settings: &self.settings,
            tray: &mut self.tray,
            answers: &self.answers,
            masker: &mut self.masker,
            cell,
            step,
            needs: &self.plan.steps[step].needs,
            memo,
        };
        uses.iter().any(|step| !judge.passes(step, &mut names))
    }
}
