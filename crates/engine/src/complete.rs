//! What an answer comes to: checks, yields, and the report of its cell.

use super::Run;
use super::checks::Use;
use super::event::{CellReport, Outcome};
use super::ready::Ready;
use super::run::Fate;
use crate::advice::advice;
use crate::check_evaluator::{Judge, Judgement};
use crate::checks;
use crate::deferred::{Answered, PutOff, Taken};
use crate::event_buffer::Told;
use bytes::Bytes;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::time::Duration;
use yieldtray_http::Kept;
use yieldtray_http::Prepared;
use yieldtray_http::digest;
use yieldtray_http::is_json;
use yieldtray_http::{Exchange, Failure, FailureKind};
use yieldtray_source::{Code, Problem};
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::Memo;
use yieldtray_workspace::scope::ResponseNames;

impl<'w> Run<'w> {
    /// Takes the answer to a request, or why there is none.
    pub fn complete(&mut self, ready: Box<Ready<'w>>, answer: Result<Exchange, Failure>) {
        self.settle();
        self.enter(ready.lane);
        self.lane.current = ready.step;
        self.come_back();
        self.summary.requests += usize::from(self.recalled.is_none());
        match catch_unwind(AssertUnwindSafe(|| self.take(ready, answer))) {
            Ok(()) => self.exit(),
            Err(why) => self.crashed(why),
        }
    }

    /// Takes note that a request is not sent after all, and why.
    pub fn skip(&mut self, ready: Box<Ready<'w>>, reason: &str) {
        self.settle();
        self.enter(ready.lane);
        self.lane.current = ready.step;
        self.come_back();
        let Ready { cell, remarks, .. } = *ready;
        let report = self.report(cell, Outcome::Skipped(reason.to_owned()), remarks);
        self.finish(report);
        self.exit();
    }

    /// What [`Self::complete`] does in the entered lane.
    fn take(&mut self, mut ready: Box<Ready<'w>>, mut answer: Result<Exchange, Failure>) {
        // What was waited for counts as a check; what never came is judged, and told, as one.
        let (mut tries, mut came, mut awaited) = (1, 0, None);
        if let Some(mut wait) = ready.wait.take() {
            let (holds, took) = match &answer {
                Ok(exchange) => (self.holds(&mut ready, &wait.until, exchange), exchange.timings.total),
                Err(failure) => (false, failure.elapsed),
            };
            wait.tries += 1;
            wait.waited += took + wait.every;
            if !holds && wait.waited < wait.within && !self.summary.interrupted && self.recalled.is_none() {
                return self.send_again(ready, wait);
            }
            tries = wait.tries;
            if let Err(failure) = &mut answer
                && failure.kind == FailureKind::TimedOut
                && ready.prepared.sending.timeout < wait.timeout
            {
                failure.hint = Some("an attempt may take what is left of `for …` in `% wait`: write more".to_owned());
            }
            match holds {
                true => {
                    came = 1;
                    awaited = Some(wait.until);
                }
                false => ready.uses.insert(0, wait.until),
            }
        }
        let Ready { prepared, cell, step, memo, uses, remarks, token, began, .. } = *ready;
        let mut report = self.report(cell, Outcome::Passed, remarks);
        report.tries = tries;
        report.method.clone_from(&prepared.method);
        let exchange = match answer {
            Ok(exchange) => exchange,
            Err(failure) => {
                report.outcome = Outcome::NoAnswer;
                report.elapsed = failure.elapsed;
                report.failure = Some(self.masked(&failure));
                report.advice = self.unreachable(cell, step, &failure);
                return self.report_exchange(report, prepared, began, None);
            }
        };
        report.status = Some(exchange.status);
        report.elapsed = exchange.timings.total;
        report.size = exchange.size;
        let known = self.masker.forms();
        let mut answered =
            Answered { report, known, prepared, began, step, memo, uses, came, awaited, token, exchange };
        match self.may_put_off(&answered) {
            true => {
                let taken = self.take_yields(&mut answered);
                self.put_off = Some(Box::new(PutOff { answered, taken }));
            }
            false => self.conclude(answered, Taken::default()),
        }
    }

    /// Judges what is still to be judged of an answer, and tells what came of it.
    pub(super) fn conclude(&mut self, answered: Answered<'w>, taken: Taken) {
        let Answered { mut report, known, prepared, began, step, mut memo, uses, came, awaited, token, exchange } =
            answered;
        let cell = report.cell;
        self.learn_cookies(&exchange);
        let Taken { judgement: taken, made } = taken;
        let mut names = match made {
            Some(made) => ResponseNames::resuming(&exchange, made),
            None => ResponseNames::reading(&exchange, checks::reads_of_body(&uses)),
        };
        let mut judgement = self.judge(cell, step, &mut memo, &uses, &mut names);
        judgement.yields.extend(taken.yields);
        judgement.remarks.extend(taken.remarks);
        if self.recalled.is_some() && !judgement.failures.is_empty() {
            let checks: Vec<Use<'w>> = uses.iter().filter(|step| step.is_check()).cloned().collect();
            let other = exchange.with_other_masks();
            let mut names = ResponseNames::reading(&other, checks::reads_of_body(&checks));
            let others = self.judge(cell, step, &mut memo, &checks, &mut names).failures;
            judgement.leave_masked_out(&others);
        }
        report.checks = came + judgement.checks;
        let failed_yields = judgement.yields.iter().filter(|taken| taken.value.is_err()).count();
        self.summary.failed_yields += failed_yields;
        if failed_yields + judgement.failures.len() > 0 {
            report.outcome = Outcome::Failed;
        }
        report.failures = judgement.failures;
        report.yields = judgement.yields;
        if self.proves && report.outcome == Outcome::Passed {
            let uses: Vec<Use<'w>> = awaited.into_iter().chain(uses).collect();
            report.proof = Some(Box::new(self.prove(cell, step, &mut memo, &uses, &exchange)));
        }
        report.problems.extend(judgement.remarks);
        report.problems.extend(self.no_json(cell, &exchange, &mut names));
        report.problems.extend(exchange.notes.iter().map(|note| {
            let title = self.workspace.cell(cell).title;
            Problem::remark(Code::MalformedResponse, title, note.as_str()).in_source(cell.source)
        }));
        report.advice = advice(&exchange, report.checks > 0 && report.outcome == Outcome::Passed);
        // A kept token that is not taken any more is not tried again.
        if let Some(token) = token.filter(|token| exchange.status == 401 && !token.fresh) {
            self.tokens.drop_profile(&token.profile);
            self.dropped.push(token.profile.clone());
            let profile = &token.profile;
            let words =
                format!("the kept token of `{profile}` was not taken and is dropped: send again to get another");
            report.advice = Some(words);
        }
        // What one line tells may hold a secret that a later one has brought.
        if self.masker.forms() != known {
            report.mask(&self.masker);
        }
        self.report_exchange(report, prepared, began, Some(exchange));
    }

    /// What is wrong with a body that says it is JSON, that a check read as text.
    fn no_json(&self, cell: CellId, exchange: &Exchange, names: &mut ResponseNames<'_>) -> Option<Problem> {
        if !is_json(&exchange.media_type()) || exchange.body.is_empty() || !names.was_read_as_text() {
            return None;
        }
        let error = serde_json::from_slice::<serde::de::IgnoredAny>(&exchange.body).err()?;
        let message = format!("the body says that it is JSON, and is none: {error}; `body` is its text");
        let title = self.workspace.cell(cell).title;
        Some(Problem::remark(Code::MalformedResponse, title, message).in_source(cell.source))
    }

    fn report_exchange(
        &mut self,
        mut report: CellReport,
        prepared: Arc<Prepared>,
        began: Duration,
        answer: Option<Exchange>,
    ) {
        report.url = self.masker.mask(&prepared.address()).into_owned();
        report.advice = report.advice.map(|advice| self.masker.mask(&advice).into_owned());
        self.keep(&mut report, prepared, began, answer);
        self.finish(report);
    }

    /// Puts what was sent and came back into the report, if that is wanted.
    fn keep(
        &mut self,
        report: &mut CellReport,
        prepared: Arc<Prepared>,
        began: Duration,
        mut answer: Option<Exchange>,
    ) {
        let Some(limit) = self.keeps else {
            // To take a large answer apart takes time, which there is while the next one is awaited.
            self.spent = answer;
            return;
        };
        if let Some(exchange) = answer.as_mut().filter(|exchange| exchange.size > limit && exchange.holds_body()) {
            // Let go, it can still be told from another.
            exchange.digest = Some(digest(&exchange.body));
            exchange.body = Bytes::new();
        }
        let sent = answer.as_ref().map_or(prepared, |exchange| Arc::clone(&exchange.sent));
        report.kept = Some(Arc::new(Kept { began, sent, answer }));
    }

    pub(super) fn masked(&self, failure: &Failure) -> Failure {
        let mask = |text: &str| self.masker.mask(text).into_owned();
        Failure { message: mask(&failure.message), hint: failure.hint.as_deref().map(mask), ..failure.clone() }
    }

    /// Whether what a request waits for is there.
    fn holds(&mut self, ready: &mut Ready<'w>, until: &Use<'w>, exchange: &Exchange) -> bool {
        let until = std::slice::from_ref(until);
        let mut names = ResponseNames::reading(exchange, checks::reads_of_body(until));
        self.judge(ready.cell, ready.step, &mut ready.memo, until, &mut names).failures.is_empty()
    }

    pub(super) fn judge(
        &mut self,
        cell: CellId,
        step: usize,
        memo: &mut Memo,
        uses: &[Use<'_>],
        names: &mut ResponseNames<'_>,
    ) -> Judgement {
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
        judge.judge(uses, names)
    }

    pub(super) fn report(&self, cell: CellId, outcome: Outcome, mut problems: Vec<Problem>) -> CellReport {
        problems.iter_mut().for_each(|problem| self.masker.hide_in_problem(problem));
        CellReport {
            cell,
            row: self.row_number(),
            played_by: self.plan.steps.get(self.lane.current).and_then(|step| step.played).map(|played| played.by),
            round: self.round,
            place: self.plan.steps.get(self.lane.current).and_then(|step| step.place),
            tries: 1,
            outcome,
            method: String::new(),
            url: String::new(),
            status: None,
            elapsed: Duration::ZERO,
            size: 0,
            checks: 0,
            failures: Vec::new(),
            yields: Vec::new(),
            problems,
            failure: None,
            advice: None,
            kept: None,
            proof: None,
        }
    }

    pub(super) fn finish(&mut self, report: CellReport) {
        // What came before is told before.
        self.settle();
        match report.outcome {
            Outcome::NotSent(_) => self.summary.not_sent += 1,
            Outcome::Skipped(_) => self.summary.skipped += 1,
            Outcome::Mistaken => self.summary.mistaken += 1,
            Outcome::NoAnswer => self.summary.no_answer += 1,
            Outcome::Passed | Outcome::Failed => {}
        }
        self.summary.checks += report.checks;
        self.summary.failed_checks += report.failures.len();
        let fate = match report.outcome {
            Outcome::Passed => Fate::Passed,
            Outcome::Skipped(_) => Fate::Skipped,
            _ => Fate::Failed,
        };
        if fate == Fate::Failed
            && let Some(played) = self.plan.steps[self.lane.current].played
        {
            self.broken.insert(played.by);
        }
        match report.row {
            Some(_) => self.end_row(fate != Fate::Failed),
            None => {
                self.note_fate(self.lane.current, fate);
            }
        }
        let Some(lane) = self.entered else { return };
        let told = Told::Cell(Box::new(report), self.masker.forms());
        self.order.tell(lane, self.lane.current, told, &self.masker);
    }
}
