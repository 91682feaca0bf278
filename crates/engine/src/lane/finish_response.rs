//! Finishes a cell with its response: checks, captures, and the report.

use super::LaneCx;
use crate::advice::advice;
use crate::contract::contract_results;
use crate::conversation::not_switched;
use crate::deferred::{EarlyCaptures, PendingResponse};
use crate::event::{CellReport, Outcome};
use crate::graphql_errors::graphql_errors;
use crate::response_exprs::ResponseExpr;
use crate::server_message::server_message;
use crate::stream::check_count;
use bytes::Bytes;
use std::sync::Arc;
use std::time::Duration;
use yieldtray_http::{CapturedExchange, Exchange, PreparedRequest, digest, is_json};
use yieldtray_source::{Code, Problem};
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::ResponseScope;

impl<'w> LaneCx<'_, 'w> {
    /// Evaluates what is left to evaluate of a response, and reports its cell.
    pub(super) fn finish_response(&mut self, pending: PendingResponse<'w>, captures: EarlyCaptures) {
        let PendingResponse {
            mut report,
            known_secrets,
            prepared,
            sent_at,
            step,
            mut cache,
            exprs,
            passed_wait,
            token,
            exchange,
            conversation,
        } = pending;
        let cell = report.cell;
        self.mask_cookies(&exchange);
        let mut names = match captures.names {
            Some(names) => ResponseScope::with_cache(&exchange, names),
            None => ResponseScope::new(&exchange),
        };
        let mut results = self.checks(cell, step, &mut cache).evaluate(&exprs, &mut names);
        results.yields.extend(captures.results.yields);
        results.problems.extend(captures.results.problems);
        if self.inputs.is_from_log() && !results.failures.is_empty() {
            let checks: Vec<ResponseExpr<'w>> = exprs.iter().filter(|expr| expr.is_check()).cloned().collect();
            let other = exchange.with_alternate_masks();
            let mut names = ResponseScope::new(&other);
            let others = self.checks(cell, step, &mut cache).evaluate(&checks, &mut names).failures;
            results.drop_masked(&others);
        }
        results.checks += conversation.fulfilled + usize::from(conversation.failure.is_some());
        results.failures.extend(conversation.failure);
        if exchange.sent.conversation && exchange.status != 101 && !self.inputs.is_from_log() {
            results.checks += 1;
            results.failures.extend(not_switched(self.inputs.workspace(), cell, exchange.status));
        }
        if let Some(count) = check_count(self.inputs.workspace(), cell, &exchange) {
            results.checks += 1;
            results.failures.extend(count.err());
        }
        let contract = contract_results(self.inputs.workspace(), cell, &exchange, &self.run.masker);
        results.checks += contract.checks;
        results.failures.extend(contract.failures);
        report.checks = results.checks + usize::from(passed_wait.is_some());
        report.failures = results.failures;
        report.yields = results.yields;
        if report.failed_yields() + report.failures.len() > 0 {
            report.outcome = Outcome::Failed;
        }
        if self.inputs.options().mutate_responses && report.outcome == Outcome::Passed {
            let exprs: Vec<ResponseExpr<'w>> = passed_wait.into_iter().chain(exprs.iter().cloned()).collect();
            report.mutation = Some(Box::new(self.mutate(cell, step, &mut cache, &exprs, &exchange)));
        }
        report.problems.extend(results.problems);
        report.problems.extend(self.not_json(cell, &exchange, &mut names));
        report.problems.extend(exchange.notes.iter().map(|note| {
            let title = self.inputs.workspace().cell(cell).title;
            Problem::warning(Code::MalformedResponse, title, note.as_str()).in_source(cell.source)
        }));
        let workspace = self.inputs.workspace();
        report.problems.extend(graphql_errors(workspace, cell, &exprs, &exchange, &self.run.masker));
        let failed = report.outcome == Outcome::Failed;
        report.advice = advice(&exchange, report.checks > 0 && report.outcome == Outcome::Passed)
            .or_else(|| if failed { server_message(&exchange) } else { None });
        // A stored token that the server rejects is not tried again.
        if let Some(token) = token.filter(|token| exchange.status == 401 && !token.obtained_now) {
            let profile = &token.profile;
            self.run.oauth.revoke(profile);
            report.advice = Some(format!(
                "the stored token of `{profile}` was rejected and removed: send again to request a new one"
            ));
        }
        // One line of the report may hold a secret that a later one revealed.
        if self.run.masker.forms() != known_secrets {
            report.mask(&self.run.masker);
        }
        self.report_exchange(report, prepared, sent_at, Some(exchange));
    }

    /// The problem of a body that says it is JSON and is not, where a check read it as text.
    fn not_json(&self, cell: CellId, exchange: &Exchange, names: &mut ResponseScope<'_>) -> Option<Problem> {
        if !is_json(&exchange.media_type()) || exchange.body.is_empty() || !names.has_text_body() {
            return None;
        }
        let error = serde_json::from_slice::<serde::de::IgnoredAny>(&exchange.body).err()?;
        let message = format!("the body is labeled JSON but is not valid: {error}; `body` is a string");
        let title = self.inputs.workspace().cell(cell).title;
        Some(Problem::warning(Code::MalformedResponse, title, message).in_source(cell.source))
    }

    /// Reports a cell with what was sent and received.
    pub(super) fn report_exchange(
        &mut self,
        mut report: CellReport,
        prepared: Arc<PreparedRequest>,
        sent_at: Duration,
        response: Option<Exchange>,
    ) {
        let masker = &self.run.masker;
        report.url = masker.mask(&prepared.address()).into_owned();
        report.advice = report.advice.map(|advice| masker.mask(&advice).into_owned());
        self.attach_exchange(&mut report, prepared, sent_at, response);
        self.finish(report);
    }

    /// Puts what was sent and received into the report, if that is wanted.
    fn attach_exchange(
        &mut self,
        report: &mut CellReport,
        prepared: Arc<PreparedRequest>,
        began: Duration,
        mut answer: Option<Exchange>,
    ) {
        let Some(limit) = self.inputs.options().capture_limit else {
            return self.run.deferred.drop_later(answer);
        };
        if let Some(exchange) = answer.as_mut().filter(|exchange| exchange.size > limit && exchange.is_body_complete())
        {
            // A digest still distinguishes a body whose bytes were dropped.
            exchange.digest = Some(digest(&exchange.body));
            exchange.body = Bytes::new();
        }
        let sent = answer.as_ref().map_or(prepared, |exchange| Arc::clone(&exchange.sent));
        report.captured = Some(Arc::new(CapturedExchange { began, sent, answer }));
    }

    /// Masks the values of cookies, which are credentials, too.
    fn mask_cookies(&mut self, exchange: &Exchange) {
        let mut mask = |pair: &str| {
            if let Some((_, value)) = pair.split_once('=') {
                self.run.masker.add_unless_short(value.trim());
            }
        };
        exchange.sent.header("cookie").into_iter().flat_map(|line| line.split(';')).for_each(&mut mask);
        for (_, line) in exchange.headers.iter().filter(|(name, _)| name.eq_ignore_ascii_case("set-cookie")) {
            String::from_utf8_lossy(line).split(';').take(1).for_each(&mut mask);
        }
    }
}
