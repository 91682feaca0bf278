//! A cell whose turn it is becomes a request that is ready to go, or a report of why it is not.

use super::Run;
use super::checks::{Purpose, Use, Wait};
use super::event::{CellReport, Outcome};
use super::run::Fate;
use crate::checks;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use yieldtray_http::Prepared;
use yieldtray_http::{credential, is_secret_header};
use yieldtray_source::{Code, Problem};
use yieldtray_syntax::Kind;
use yieldtray_workspace::request::{Extras, Token, prepare};
use yieldtray_workspace::scope::{Lookup, Memo};
use yieldtray_workspace::secret::short_secret;
use yieldtray_workspace::{CellId, Workspace};

/// A request that is ready to go.
#[derive(Debug)]
pub struct Ready<'w> {
    /// The request.
    pub prepared: Arc<Prepared>,
    /// The cell it was made from.
    pub cell: CellId,
    /// The row it is for, from 1.
    pub row: Option<usize>,
    /// When it was sent, after the run began: for whoever sends it to say.
    pub began: Duration,
    /// Where the answer's body goes, relative to the root.
    pub save: Option<PathBuf>,
    /// The token it carries.
    pub(super) token: Option<Token>,
    /// Which of the files that may go side by side it belongs to; one has its cookies to itself.
    pub lane: usize,
    /// Which time the plan is gone through, from 1.
    pub round: usize,
    /// The steps of other lanes that it relies on: it has their cookies too.
    pub from: Vec<usize>,
    /// Whether a cell of another file relies on this step.
    pub awaited: bool,
    /// Its place in the plan.
    pub step: usize,
    pub(super) memo: Memo,
    /// What is done with the answer.
    pub(super) uses: Vec<Use<'w>>,
    pub(super) remarks: Vec<Problem>,
    /// The largest body that is kept of an answer whatever reads it.
    pub(super) keeps: u64,
    /// What it waits for.
    pub(super) wait: Option<Wait<'w>>,
}

impl Ready<'_> {
    /// What is worth knowing about the request.
    pub fn remarks(&self) -> &[Problem] {
        &self.remarks
    }

    /// The largest body that the answer is wanted with, in bytes: of any size where something reads it, else as large as
    /// reports and the log keep it.
    pub fn largest_body(&self) -> u64 {
        if self.reads_body() { u64::MAX } else { self.keeps }
    }

    /// Whether anything reads the answer's body.
    pub fn reads_body(&self) -> bool {
        let wait = self.wait.iter().map(|wait| &wait.until);
        self.uses.iter().chain(wait).any(|step| checks::reads_body(&step.expression))
    }
}

impl<'w> Run<'w> {
    /// The request of a step, or the report of why it has none.
    pub(super) fn make_ready(&mut self, step: usize, token: Option<Token>) -> Result<Box<Ready<'w>>, Box<CellReport>> {
        let cell = self.plan.steps[step].cell;
        // Whatever comes of it, the row is used up.
        let mut memo = self.memo_for_request();
        let mut problems = match &self.lane.turn {
            Some(_) => self.plan.steps[step].problems.clone(),
            None => std::mem::take(&mut self.plan.steps[step].problems),
        };
        problems.append(&mut self.lane.found);
        if problems.iter().any(Problem::is_mistake) {
            // What rows and sequences would give is not known here.
            let given = self.workspace.rows_file(cell).is_some() || self.plan.steps[step].played.is_some();
            if !given && !has_broken_lines(self.workspace, cell) {
                problems.extend(self.unresolved(step, cell));
                dedup(&mut problems);
                problems.sort_by_key(|problem| (problem.source, problem.span.start()));
            }
            return Err(Box::new(self.report(cell, Outcome::Mistaken, problems)));
        }
        if let Some((unmet, fate)) = self.unmet_need(step) {
            let name = self.workspace.cell(unmet).name.to_string();
            let outcome = match fate {
                Fate::Skipped => Outcome::Skipped(format!("{name} was skipped")),
                _ => Outcome::NotSent(name),
            };
            return Err(Box::new(self.report(cell, outcome, problems)));
        }
        // A cell with rows is made ready again.
        let uses = match &self.lane.turn {
            Some(_) => self.lane.ahead.clone(),
            None => std::mem::take(&mut self.lane.ahead),
        };
        let mut lookup = Lookup::new(self.reach(), cell, &self.plan.steps[step].needs, &mut memo);
        let headers = self.headers.as_ref().filter(|(own, _)| *own == cell);
        let headers = headers.map(|(_, headers)| headers.as_slice()).unwrap_or_default();
        let extras = Extras { token: token.as_ref().map(|token| token.access.as_str()), headers };
        let (prepared, found) = prepare(&mut lookup, extras);
        problems.extend(found);
        let mut wait = checks::wait_of(self.workspace, self.engine, cell);
        problems.extend(missing_in_checks(&mut lookup, wait.iter().map(|wait| &wait.until).chain(&uses)));
        problems.extend(memo.secrets.iter().filter_map(|secret| {
            let (source, span) = secret.used_at;
            Some(short_secret(&secret.name, &secret.value.to_text().ok()?, span)?.in_source(source))
        }));
        self.masker.learn(memo.new_secrets());
        dedup(&mut problems);
        match prepared {
            Some((mut prepared, save)) if !problems.iter().any(Problem::is_mistake) => {
                for (_, value) in prepared.headers.iter().filter(|(name, _)| is_secret_header(name)) {
                    self.masker.add(credential(value));
                }
                let body = prepared.body.as_ref();
                prepared.secret_body = body.is_some_and(|body| body.any_bytes(|it| self.masker.finds_in_bytes(it)));
                if let Some(wait) = &mut wait {
                    wait.timeout = prepared.sending.timeout;
                    prepared.sending.timeout = wait.left();
                }
                let prepared = Arc::new(prepared);
                self.will_judge |= !uses.is_empty() || wait.is_some();
                let timetable = &self.timetable;
                let own = &self.plan.steps[step];
                let lane = self.entered.unwrap_or_default();
                // Within a lane the cookies are the same anyway, and newer.
                let steps = &self.plan.steps;
                let foreign = |place: &usize| timetable.lane_of(steps[*place].cell.source) != Some(lane);
                Ok(Box::new(Ready {
                    prepared,
                    cell,
                    row: self.row_number(),
                    began: Duration::ZERO,
                    save,
                    lane,
                    round: own.round,
                    from: timetable.relied_on(step).iter().copied().filter(foreign).collect(),
                    awaited: timetable.awaited.contains(&step),
                    token,
                    step,
                    memo,
                    uses,
                    remarks: problems,
                    keeps: if self.proves { u64::MAX } else { self.keeps.unwrap_or_default() },
                    wait,
                }))
            }
            _ => Err(Box::new(self.report(cell, Outcome::Mistaken, problems))),
        }
    }

    /// What else is wrong with a cell that has mistakes: names nobody gives a value. Those that an
    /// earlier response may still give are not among them.
    fn unresolved(&self, step: usize, cell: CellId) -> Vec<Problem> {
        let mut memo = Memo::default();
        let mut lookup = Lookup::new(self.reach(), cell, &self.plan.steps[step].needs, &mut memo);
        let (_, mut problems) = prepare(&mut lookup, Extras::default());
        problems.extend(missing_in_checks(&mut lookup, &self.lane.ahead));
        problems.retain(|problem| matches!(problem.code, Code::UnknownValue | Code::ValueCycle | Code::NeedsResponse));
        problems
    }
}

/// Names in checks and yields that will have no value: found before the request is sent, since a
/// check that cannot be judged is a mistake in the file and no news of the server.
fn missing_in_checks<'u, 'w: 'u>(lookup: &mut Lookup<'_>, uses: impl IntoIterator<Item = &'u Use<'w>>) -> Vec<Problem> {
    let (mut problems, mut yielded) = (Vec::new(), Vec::new());
    for step in uses {
        problems.extend(lookup.missing(&step.expression, step.source, step.span, &yielded));
        if let Purpose::Yield { name, .. } = step.purpose {
            yielded.push(name);
        }
    }
    problems
}

/// Whether a line that gives values, or a mark, cannot be read: what it would have given is not known.
fn has_broken_lines(workspace: &Workspace, cell: CellId) -> bool {
    let own = workspace.cell(cell).instructions();
    let mut all = workspace.preambles(cell.source).map(|(_, instruction)| instruction).chain(own);
    all.any(|instruction| instruction.kind == Kind::Broken)
}

/// A problem is said once: a `let` used twice fails twice, and a name used in five places lacks one
/// value.
fn dedup(problems: &mut Vec<Problem>) {
    let mut kept: Vec<Problem> = Vec::with_capacity(problems.len());
    for problem in problems.drain(..) {
        let about_a_value = matches!(problem.code, Code::MissingValue | Code::UnknownValue);
        let known = |old: &Problem| *old == problem || about_a_value && old.message == problem.message;
        if !kept.iter().any(known) {
            kept.push(problem);
        }
    }
    *problems = kept;
}
