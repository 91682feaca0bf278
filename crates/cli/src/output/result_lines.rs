//! Lines about the result of one request, on standard error.

use super::cell::{CellLines, Columns, Heading, not_sent, shown_name};
use super::{Out, exchange, table};
use crate::error::CommandError;
use crate::output::styles::Styles;
use yieldtray_engine::{CellReport, Outcome, Run, TokenReport};
use yieldtray_http::Exchange;
use yieldtray_source::escape::escape_line;

/// Says it.
pub(crate) struct ResultLines<'r, 'w> {
    /// The run, when it is over.
    pub(crate) run: &'r Run<'w>,
    /// Environment and URL.
    pub(crate) heading: Heading,
    /// Colours of standard error.
    pub(crate) look: Styles,
}

impl ResultLines<'_, '_> {
    fn lines(&self, width: Option<usize>, reports: &[CellReport]) -> CellLines<'_> {
        let workspace = self.run.workspace();
        let cells = reports.iter().map(|report| {
            (shown_name(workspace, report.cell, report.played_by), report.method.as_str(), report.url.as_str())
        });
        CellLines { workspace, columns: Columns::new(cells, width), look: self.look, base: self.heading.base.clone() }
    }

    /// The requests that were sent before.
    pub(crate) fn needs(
        &self,
        out: &mut Out,
        tokens: &[TokenReport],
        before: &[CellReport],
    ) -> Result<(), CommandError> {
        if out.quiet {
            return Ok(());
        }
        for line in self.before_lines(tokens, before, out.width) {
            out.say(&line)?;
        }
        Ok(())
    }

    /// The same as lines.
    pub(crate) fn before_lines(
        &self,
        tokens: &[TokenReport],
        before: &[CellReport],
        width: Option<usize>,
    ) -> Vec<String> {
        let workspace = self.run.workspace();
        let lines = self.lines(width, before);
        let mut told: Vec<String> = tokens.iter().map(|token| lines.token(token)).collect();
        for report in before {
            told.extend(lines.cell(report));
            told.extend(report.problems.iter().map(|problem| super::problems::snippet(workspace, problem, self.look)));
        }
        told
    }

    /// Status, time, size, media type, and redirects.
    pub(crate) fn status(&self, out: &mut Out, answer: &Exchange) -> Result<(), CommandError> {
        if out.quiet {
            return Ok(());
        }
        let masker = self.run.masker();
        for hop in &answer.hops {
            out.say(&self.look.odd(&escape_line(&masker.mask(&exchange::hop_words(hop)))))?;
        }
        Ok(out.say(&exchange::status_line(answer, masker, self.look))?)
    }

    /// Checks and yields, or why nothing was sent or answered.
    pub(crate) fn verdict(&self, out: &mut Out, report: Option<&CellReport>) -> Result<(), CommandError> {
        let lines = self.verdict_lines(out.width, out.quiet, report);
        Ok(lines.iter().try_for_each(|line| out.say(line))?)
    }

    /// The same as lines.
    pub(crate) fn verdict_lines(&self, width: Option<usize>, quiet: bool, report: Option<&CellReport>) -> Vec<String> {
        let Some(report) = report else { return vec![self.look.bad("not sent: a cell it needs did not pass")] };
        let mut told = Vec::new();
        if let Some(advice) = &report.advice {
            told.push(self.look.odd(&escape_line(&self.run.masker().mask(advice))));
        }
        let lines = self.lines(width, &[]);
        // Its errors were shown at their places.
        if let Some(why) = not_sent(report, self.look).filter(|_| report.outcome != Outcome::Mistaken) {
            told.push(why);
        }
        if let Some(failure) = &report.failure {
            told.push(self.look.bad(&escape_line(&failure.message)));
            told.extend(failure.hint.iter().map(|hint| self.look.faint(&escape_line(hint))));
        }
        let failed = report.failures.len();
        let mut parts = Vec::new();
        match (report.checks, failed) {
            (0, _) => {}
            (all, 0) => parts.push(self.look.good(&format!("{} passed", table::count(all, "check", "checks")))),
            (all, failed) => {
                parts.push(self.look.bad(&format!("{failed} of {} failed", table::count(all, "check", "checks"))))
            }
        }
        if report.attempts > 1 {
            parts.push(format!("tried {} times", report.attempts));
        }
        for taken in &report.yields {
            if let Ok(value) = &taken.value {
                parts.push(self.look.name(&table::cut(&escape_line(&format!("{} = {value}", taken.name)), 72)));
            }
        }
        if !parts.is_empty() && (failed > 0 || !quiet) {
            told.push(parts.join(" · "));
        }
        told.extend(report.failures.iter().flat_map(|failure| lines.failure(failure)));
        told.extend(report.yields.iter().filter_map(|taken| lines.failed_yield(taken)));
        told
    }
}
