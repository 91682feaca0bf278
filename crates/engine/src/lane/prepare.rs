//! A step becomes a request that is ready to be sent, or a report of why it is not.

use super::LaneCx;
use crate::conversation::conversation_work;
use crate::event::{CellReport, Outcome};
use crate::pages::page_work;
use crate::ready::{ReadyRequest, ResponseWork};
use crate::response_exprs::{self, Purpose, ResponseExpr};
use crate::stream::stream_work;
use std::sync::Arc;
use std::time::Duration;
use yieldtray_credentials::oauth::Token;
use yieldtray_http::{credential, is_secret_header};
use yieldtray_source::{Code, Problem};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::request::{Overrides, prepare};
use yieldtray_workspace::scope::{EvalCache, Resolver, received_names};
use yieldtray_workspace::secret::short_secret;
use yieldtray_workspace::{CellId, Workspace, contract_checks};

impl<'w> LaneCx<'_, 'w> {
    /// The request of a step, or the report of why it has none.
    pub(super) fn prepare_step(
        &mut self,
        step: usize,
        token: Option<Token>,
    ) -> Result<Box<ReadyRequest<'w>>, Box<CellReport>> {
        let cell = self.step(step).cell;
        let workspace = self.inputs.workspace();
        // Whatever comes of it, the row is used up.
        let mut cache = self.take_cache();
        let mut problems = match self.lane.rows() {
            Some(_) => self.run.step_problems.of(step).to_vec(),
            None => self.run.step_problems.take(step),
        };
        problems.append(&mut self.lane.take_problems());
        if problems.iter().any(Problem::is_error) {
            // Values from rows and sequences are not known yet.
            let has_args = workspace.rows_file(cell).is_some() || self.step(step).played.is_some();
            if !has_args && !has_broken_lines(workspace, cell) {
                problems.extend(self.unresolved_names(step, cell));
                dedup(&mut problems);
                problems.sort_by_key(|problem| (problem.source, problem.span.start()));
            }
            return Err(Box::new(self.report(cell, Outcome::Invalid, problems)));
        }
        if let Some((unmet, outcome)) = self.unmet_need(step) {
            let name = workspace.cell(unmet).name.to_string();
            let (outcome, reason) = match outcome {
                Outcome::Skipped => (Outcome::Skipped, format!("{name} was skipped")),
                _ => (Outcome::NotSent, name),
            };
            return Err(Box::new(self.report(cell, outcome, problems).because(reason)));
        }
        let exprs = self.lane.take_exprs();
        let mut resolver = self.resolver(cell, &self.step(step).needs, &mut cache);
        let headers = self.inputs.options().headers.as_ref().filter(|(own, _)| *own == cell);
        let headers = headers.map(|(_, headers)| headers.as_slice()).unwrap_or_default();
        let overrides = Overrides { token: token.as_ref(), headers };
        let (prepared, found) = prepare(&mut resolver, overrides);
        problems.extend(found);
        let mut poll = response_exprs::poll_of(workspace, self.inputs.engine(), cell);
        let condition = poll.iter().map(|poll| &poll.until);
        problems.extend(unresolved_in_checks(&mut resolver, condition.chain(&exprs)));
        problems.extend(cache.secrets.iter().filter_map(|secret| {
            let (source, span) = secret.used_at;
            Some(short_secret(&secret.name, &secret.value.to_text().ok()?, span)?.in_source(source))
        }));
        self.mask_new_secrets(&mut cache);
        dedup(&mut problems);
        let Some((mut prepared, save)) = prepared.filter(|_| !problems.iter().any(Problem::is_error)) else {
            return Err(Box::new(self.report(cell, Outcome::Invalid, problems)));
        };
        let masker = &mut self.run.masker;
        for (_, value) in prepared.headers.iter().filter(|(name, _)| is_secret_header(name)) {
            masker.add(credential(value));
        }
        let body = prepared.body.as_ref();
        prepared.secret_body = body.is_some_and(|body| body.any_bytes(|bytes| masker.finds_in_bytes(bytes)));
        if let Some(poll) = &mut poll {
            poll.request_timeout = prepared.sending.timeout;
            prepared.sending.timeout = poll.time_left();
        }
        let options = self.inputs.options();
        let capture_limit = if options.mutate_responses { u64::MAX } else { options.capture_limit.unwrap_or_default() };
        // What is validated by a description, or may have errors of GraphQL, is read too.
        let workspace = self.inputs.workspace();
        let reads_body = workspace.cell(cell).is_graphql() || !contract_checks(workspace, cell).is_empty();
        let engine = self.inputs.engine();
        let conversation = conversation_work(workspace, engine, cell);
        let (stream, pages) = (stream_work(workspace, engine, cell), page_work(workspace, engine, cell));
        let work = ResponseWork {
            token,
            cache,
            exprs,
            problems,
            capture_limit,
            poll,
            reads_body,
            stream,
            conversation,
            retries: 0,
            pages,
        };
        Ok(Box::new(ReadyRequest {
            prepared: Arc::new(prepared),
            cell,
            row: self.lane.row_number(),
            sent_at: Duration::ZERO,
            save,
            lane: self.index,
            round: self.step(step).round,
            cookie_sources: self.cookie_sources(step),
            needed_elsewhere: self.run.scheduler.is_needed_elsewhere(step),
            step,
            work,
        }))
    }

    /// The steps of other lanes whose cookies a step sends. Within a lane the cookies are the same anyway, and newer.
    fn cookie_sources(&self, step: usize) -> Vec<usize> {
        let scheduler = &self.run.scheduler;
        let of_other_lane = |place: &usize| scheduler.lane_of(self.step(*place).cell.source) != Some(self.index);
        scheduler.cross_lane_needs(step).iter().copied().filter(of_other_lane).collect()
    }

    /// Further problems of a cell that has errors: names that nothing defines. Names that an earlier response may still
    /// define are not among them.
    fn unresolved_names(&self, step: usize, cell: CellId) -> Vec<Problem> {
        let mut cache = EvalCache::default();
        let mut resolver = self.resolver(cell, &self.step(step).needs, &mut cache);
        let (_, mut problems) = prepare(&mut resolver, Overrides::default());
        problems.extend(unresolved_in_checks(&mut resolver, self.lane.prefetched_exprs()));
        problems.retain(|problem| {
            matches!(problem.code, Code::UnknownVariable | Code::VariableCycle | Code::NeedsResponse)
        });
        problems
    }
}

/// Names in checks and yields that will have no value. They are found before the request is sent: a check that cannot be
/// evaluated is an error in the file, and says nothing about the server.
fn unresolved_in_checks<'u, 'w: 'u>(
    resolver: &mut Resolver<'_>,
    exprs: impl IntoIterator<Item = &'u ResponseExpr<'w>>,
) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut yielded: Vec<&str> = received_names(resolver.workspace, resolver.cell).collect();
    for expr in exprs {
        problems.extend(resolver.missing(&expr.expression, expr.source, expr.span, &yielded));
        if let Purpose::Yield { name, .. } = expr.purpose {
            yielded.push(name);
        }
    }
    problems
}

/// Whether a line that defines values, or a placeholder, cannot be read: what it would define is not known.
fn has_broken_lines(workspace: &Workspace, cell: CellId) -> bool {
    let own = workspace.cell(cell).instructions();
    let mut all = workspace.preambles(cell.source).map(|(_, instruction)| instruction).chain(own);
    all.any(|instruction| instruction.kind == InstructionKind::Broken)
}

/// Drops repeated problems: a `let` that is used twice fails twice, and a name that is used in five places misses one
/// value.
fn dedup(problems: &mut Vec<Problem>) {
    let mut kept: Vec<Problem> = Vec::with_capacity(problems.len());
    for problem in problems.drain(..) {
        let is_about_value = matches!(problem.code, Code::MissingValue | Code::UnknownVariable);
        let is_known = |old: &Problem| *old == problem || is_about_value && old.message == problem.message;
        if !kept.iter().any(is_known) {
            kept.push(problem);
        }
    }
    *problems = kept;
}
