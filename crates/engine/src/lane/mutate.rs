//! Which altered copies of a response the checks of its cell detect.

use super::LaneCx;
use crate::prove::{Mutation, MutationReport, mutate, mutations, suggestions};
use crate::response_exprs::{Purpose, ResponseExpr};
use yieldtray_http::Exchange;
use yieldtray_http::body_shape::BodyShape;
use yieldtray_source::Span;
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::{EvalCache, ResponseScope};

impl<'w> LaneCx<'_, 'w> {
    /// Evaluates the checks on altered copies of a response that passed. Neither captures nor reports of that remain.
    pub(super) fn mutate(
        &mut self,
        cell: CellId,
        step: usize,
        cache: &mut EvalCache,
        exprs: &[ResponseExpr<'w>],
        exchange: &Exchange,
    ) -> MutationReport {
        let shape = BodyShape::of(exchange);
        let fields = shape.fields();
        let all = mutations(exchange, &shape, &fields);
        let has_yields = exprs.iter().any(|expr| matches!(expr.purpose, Purpose::Yield { .. }));
        let mut detects = |cx: &mut Self, exprs: &[ResponseExpr<'_>], mutant: &Exchange| {
            // Values captured from a mutant are visible only to the checks after that line.
            let tray = has_yields.then(|| cx.run.values.tray().clone());
            let detected = cx.detects(cell, step, cache, exprs, mutant);
            if let Some(tray) = tray {
                cx.run.values.restore_tray(tray);
            }
            detected
        };
        let survivors: Vec<Mutation> =
            all.iter().filter(|mutation| !detects(self, exprs, &mutate(exchange, &shape, mutation))).cloned().collect();
        let suggestion = survivors.iter().find_map(|survivor| {
            let mutant = mutate(exchange, &shape, survivor);
            suggestions(exchange, &shape, &fields, survivor).into_iter().find(|line| {
                let Ok(expression) = self.inputs.engine().compile(line) else { return false };
                let purpose = Purpose::Check { label: None, hint: None };
                let check = [ResponseExpr { source: cell.source, span: Span::default(), expression, purpose }];
                // A secret must not be written into a file that is shared.
                let is_secret = self.run.masker.finds_in(line);
                !is_secret && !detects(self, &check, exchange) && detects(self, &check, &mutant)
            })
        });
        let suggestion = suggestion.map(|line| format!("% check {line}"));
        let mut report = MutationReport { mutants: all.len(), survivors, suggestion };
        report.mask(&self.run.masker);
        report
    }

    /// Whether any of `exprs` fails for a response.
    fn detects(
        &mut self,
        cell: CellId,
        step: usize,
        cache: &mut EvalCache,
        exprs: &[ResponseExpr<'_>],
        exchange: &Exchange,
    ) -> bool {
        let mut names = ResponseScope::new(exchange);
        let mut checks = self.checks(cell, step, cache);
        exprs.iter().any(|expr| !checks.passes(expr, &mut names))
    }
}
