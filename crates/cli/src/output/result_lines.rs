//! Lines about the result of one request, on standard error.

use super::cell::{CellLines, Columns, Heading, not_sent, shown_name};
use super::{exchange, table};
use crate::styles::Styles;
use yieldtray_engine::{CellReport, Outcome, Run, TokenReport};
use yieldtray_http::Exchange;
use yieldtray_source::escape::escape_line;

/// Describes the result of a request.
pub(crate) struct ResultLines<'r, 'w> {
    /// The run, when it is over.
    pub(crate) run: &'r Run<'w>,
    /// Environment and URL.
    pub(crate) heading: Heading,
    /// Colours of standard error.
    pub(crate) styles: Styles,
}

impl ResultLines<'_, '_> {
    fn lines(&self, width: Option<usize>, reports: &[CellReport]) -> CellLines<'_> {
        let workspace = self.run.workspace();
        let cells = reports.iter().map(|report| {
            (shown_name(workspace, report.cell, report.played_by), report.method.as_str(), report.url.as_str())
        });
        CellLines {
            workspace,
            columns: Columns::new(cells, width),
            styles: self.styles,
            base: self.heading.base.clone(),
        }
    }

    /// The tokens that were obtained and the requests that were sent before.
    pub(crate) fn prerequisites(
        &self,
        tokens: &[TokenReport],
        before: &[CellReport],
        width: Option<usize>,
    ) -> Vec<String> {
        let workspace = self.run.workspace();
        let lines = self.lines(width, before);
        let mut texts: Vec<String> = tokens.iter().map(|token| lines.token(token)).collect();
        for report in before {
            texts.extend(lines.cell(report));
            texts.extend(
                report.problems.iter().map(|problem| super::problems::snippet(workspace, problem, self.styles)),
            );
        }
        texts
    }

    /// Status, time, size, media type, and redirects.
    pub(crate) fn status(&self, answer: &Exchange) -> Vec<String> {
        let masker = self.run.masker();
        let hop = |hop| self.styles.warn(&escape_line(&masker.mask(&exchange::describe_hop(hop))));
        let status = exchange::status_line(answer, masker, self.styles);
        answer.hops.iter().map(hop).chain([status]).collect()
    }

    /// Checks and yields, or why nothing was sent or answered.
    pub(crate) fn verdict(&self, width: Option<usize>, quiet: bool, report: Option<&CellReport>) -> Vec<String> {
        let Some(report) = report else { return vec![self.styles.bad("not sent: a required request did not pass")] };
        let mut texts = Vec::new();
        let lines = self.lines(width, &[]);
        // Its errors were shown at their places.
        if let Some(why) = not_sent(report, self.styles).filter(|_| report.outcome != Outcome::Invalid) {
            texts.push(why);
        }
        if let Some(failure) = &report.failure {
            texts.push(format!("{} {}", self.styles.bad("error:"), escape_line(&failure.message)));
            texts.extend(failure.hint.iter().map(|hint| self.styles.dim(&escape_line(&format!("hint: {hint}")))));
        }
        if let Some(advice) = &report.advice {
            texts.push(self.styles.warn(&escape_line(&self.run.masker().mask(advice))));
        }
        let failed = report.failures.len();
        let mut parts = Vec::new();
        match (report.checks, failed) {
            (0, _) => {}
            (all, 0) => parts.push(self.styles.good(&format!("{} passed", table::count(all, "check", "checks")))),
            (all, failed) => {
                parts.push(self.styles.bad(&format!("{failed} of {} failed", table::count(all, "check", "checks"))))
            }
        }
        if report.attempts > 1 {
            parts.push(format!("{} attempts", report.attempts));
        }
        for taken in &report.yields {
            if let Ok(value) = &taken.value {
                parts.push(self.styles.name(&table::cut(&escape_line(&format!("{} = {value}", taken.name)), 72)));
            }
        }
        if !parts.is_empty() && (failed > 0 || !quiet) {
            texts.push(parts.join(" · "));
        }
        texts.extend(report.failures.iter().flat_map(|failure| lines.failure(failure)));
        texts.extend(report.yields.iter().filter_map(|taken| lines.failed_yield(taken)));
        texts
    }
}
