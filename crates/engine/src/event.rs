//! The events of a run.

use crate::ExitCode;
use crate::difference::Difference;
use crate::prove::MutationReport;
use serde::de::IntoDeserializer;
use serde::de::value::StrDeserializer;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;
use yieldtray_expression::EvalError;
use yieldtray_http::{CapturedExchange, Failure};
use yieldtray_source::diff::DiffLine;
use yieldtray_source::{Problem, SourceId, Span};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace};

/// An event of a run. Every text in it is masked, except in [`CapturedExchange`].
#[derive(Clone, Debug)]
pub enum Event {
    /// The run begins with this many cells.
    RunStarted {
        /// The chosen environment.
        environment: Option<String>,
        /// Cells in the plan, those that were pulled in by a need too.
        cells: usize,
    },
    /// A token was got for the cells that follow.
    TokenObtained(TokenReport),
    /// A cell is done.
    CellFinished(Box<CellReport>),
    /// The run is over.
    RunFinished(Summary),
}

/// A token that was obtained, without the token itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenReport {
    /// The profile it was got by.
    pub profile: String,
    /// Where from.
    pub url: String,
    /// How long that took.
    pub elapsed: Duration,
    /// For how many seconds it holds, where that is known.
    pub seconds: Option<i64>,
    /// True if it replaces an expired one.
    pub renewed: bool,
}

/// How a cell ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// It was answered, and all checks and yields are fine.
    Passed,
    /// It was answered, but a check or a yield failed.
    Failed,
    /// It was not sent, since a cell that it needs did not pass.
    NotSent,
    /// It was not sent, since its `% skip when` holds, it has no rows, or a cell that it needs was skipped.
    Skipped,
    /// It was not sent, since the cell or a value has an error.
    #[serde(alias = "mistaken")]
    Invalid,
    /// It was sent, but there was no usable response.
    #[serde(alias = "no-answer")]
    NoResponse,
}

impl Outcome {
    /// Whether there is nothing to look at.
    pub fn is_fine(self) -> bool {
        matches!(self, Outcome::Passed | Outcome::Skipped)
    }

    /// The outcome in words.
    pub fn describe(self) -> &'static str {
        match self {
            Outcome::Passed => "passed",
            Outcome::Failed => "failed",
            Outcome::NotSent => "not sent",
            Outcome::Skipped => "skipped",
            Outcome::Invalid => "error",
            Outcome::NoResponse => "no response",
        }
    }

    /// The outcome of this name, or of its former name.
    pub fn named(name: &str) -> Option<Self> {
        let name: StrDeserializer<'_, serde::de::value::Error> = name.into_deserializer();
        Self::deserialize(name).ok()
    }

    /// The stable word for data output.
    pub fn as_str(self) -> &'static str {
        match self {
            Outcome::Passed => "passed",
            Outcome::Failed => "failed",
            Outcome::NotSent => "not-sent",
            Outcome::Skipped => "skipped",
            Outcome::Invalid => "invalid",
            Outcome::NoResponse => "no-response",
        }
    }
}

/// All there is to say about one cell.
#[derive(Clone, Debug)]
pub struct CellReport {
    /// The cell.
    pub cell: CellId,
    /// The row it was sent for, from 1.
    pub row: Option<usize>,
    /// The sequence that played it.
    pub played_by: Option<CellId>,
    /// Which time the plan was gone through, from 1.
    pub round: usize,
    /// Its place in the plan that was divided into shards, if it was.
    pub place: Option<usize>,
    /// How often it was sent, where it waits for something; else 1.
    pub attempts: usize,
    /// How it ended.
    pub outcome: Outcome,
    /// The cell that it needs and that did not pass, or why it was skipped.
    pub reason: Option<String>,
    /// The method; empty where no request was made.
    pub method: String,
    /// The URL; empty if no request was made.
    pub url: String,
    /// The status of the response.
    pub status: Option<u16>,
    /// How long the exchange took.
    pub elapsed: Duration,
    /// Size of the response body in bytes.
    pub size: u64,
    /// How many checks were judged.
    pub checks: usize,
    /// The checks that failed.
    pub failures: Vec<CheckFailure>,
    /// The captured values.
    pub yields: Vec<YieldReport>,
    /// Errors and warnings.
    pub problems: Vec<Problem>,
    /// Why there is no response.
    pub failure: Option<Failure>,
    /// Advice, if the response looks like a common error.
    pub advice: Option<String>,
    /// The exchange, if the run captures it.
    pub captured: Option<Arc<CapturedExchange>>,
    /// The result of mutation testing, if the run does it and the checks passed.
    pub mutation: Option<Box<MutationReport>>,
}

impl CellReport {
    /// The report of a cell of which nothing else is known yet.
    pub fn new(cell: CellId, outcome: Outcome) -> Self {
        Self {
            cell,
            row: None,
            played_by: None,
            round: 1,
            place: None,
            attempts: 1,
            outcome,
            reason: None,
            method: String::new(),
            url: String::new(),
            status: None,
            elapsed: Duration::ZERO,
            size: 0,
            checks: 0,
            failures: Vec::new(),
            yields: Vec::new(),
            problems: Vec::new(),
            failure: None,
            advice: None,
            captured: None,
            mutation: None,
        }
    }

    /// Says why the cell was not sent.
    #[must_use]
    pub(crate) fn because(self, reason: String) -> Self {
        Self { reason: Some(reason), ..self }
    }

    /// How many yields failed.
    pub fn failed_yields(&self) -> usize {
        self.yields.iter().filter(|yielded| yielded.value.is_err()).count()
    }

    /// Hides secrets that became known after it was made.
    pub(crate) fn mask(&mut self, masker: &Masker) {
        let mut hide = |text: &mut String| masker.hide(text);
        hide(&mut self.url);
        self.reason.iter_mut().filter(|_| self.outcome == Outcome::Skipped).for_each(&mut hide);
        for failure in &mut self.failures {
            failure.notes.iter_mut().chain(&mut failure.hint).for_each(&mut hide);
            if let Some(difference) = &mut failure.difference {
                difference.mask(masker);
            }
            for part in &mut failure.parts {
                hide(&mut part.text);
                hide(part.value.as_mut().unwrap_or_else(EvalError::text_mut));
            }
        }
        for taken in &mut self.yields {
            hide(taken.value.as_mut().unwrap_or_else(EvalError::text_mut));
        }
        self.problems.iter_mut().for_each(|problem| masker.hide_in_problem(problem));
        if let Some(failure) = &mut self.failure {
            hide(&mut failure.message);
            failure.hint.iter_mut().for_each(&mut hide);
        }
        self.advice.iter_mut().for_each(&mut hide);
        if let Some(mutation) = &mut self.mutation {
            mutation.mask(masker);
        }
    }
}

/// A check that failed, with what a person needs to see why.
#[derive(Clone, Debug)]
pub struct CheckFailure {
    /// The text that `span` is in.
    pub source: SourceId,
    /// The span of its expression.
    pub span: Span,
    /// Its label.
    pub label: Option<String>,
    /// Its expression.
    pub expression: String,
    /// The parts of the expression that decided.
    pub parts: Vec<CheckPart>,
    /// The difference between the sides of an `==` that are too long to show as parts.
    pub difference: Option<Difference>,
    /// Why it could not be judged, and what else to know.
    pub notes: Vec<String>,
    /// The words after `else`.
    pub hint: Option<String>,
}

/// A part of the expression of a check, with the value that it had.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CheckPart {
    /// The part as it is written; of a list the element that decided, as `body.lots[1]`.
    pub text: String,
    /// Where it is, counted from the start of the expression; of an element its list.
    pub span: Span,
    /// Its value as it is shown, or why it has none.
    pub value: Result<String, EvalError>,
}

impl CheckFailure {
    /// The failure of a check, or of an instruction that counts as one, without parts.
    pub(crate) fn at(workspace: &Workspace, source: SourceId, span: Span, notes: Vec<String>) -> Self {
        let expression = span.of(&workspace.source(source).text).to_owned();
        Self { source, span, label: None, expression, parts: Vec::new(), difference: None, notes, hint: None }
    }

    /// Whether another one is of the same check and for the same reason.
    pub(crate) fn is_same_failure(&self, other: &Self) -> bool {
        let own = (self.source, self.span, &self.parts, &self.difference, &self.notes);
        own == (other.source, other.span, &other.parts, &other.difference, &other.notes)
    }

    /// True if `text` occurs in its explanation.
    pub(crate) fn mentions(&self, text: &str) -> bool {
        let parts = self.parts.iter().map(|part| part.value.as_ref().map_or_else(EvalError::as_str, String::as_str));
        let lines = self.difference.iter().flat_map(|difference| &difference.lines).filter_map(|line| match line {
            DiffLine::Context(text) | DiffLine::Left(text) | DiffLine::Right(text) => Some(text.as_str()),
            DiffLine::Skipped(_) | DiffLine::Truncated(_) => None,
        });
        parts.chain(lines).chain(self.notes.iter().map(String::as_str)).any(|part| part.contains(text))
    }
}

/// A value captured from a response, or why it could not be.
#[derive(Clone, Debug)]
pub struct YieldReport {
    /// The text that `span` is in.
    pub source: SourceId,
    /// The span of its expression.
    pub span: Span,
    /// The value's name.
    pub name: String,
    /// The value as it is shown, or why there is none.
    pub value: Result<String, EvalError>,
}

/// The figures of a run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Summary {
    /// Cells in the plan.
    pub cells: usize,
    /// Requests that were sent.
    pub requests: usize,
    /// Checks that were judged.
    pub checks: usize,
    /// Checks that failed.
    pub failed_checks: usize,
    /// Yields that failed.
    pub failed_yields: usize,
    /// Cells that were not sent, since one they need did not pass.
    pub not_sent: usize,
    /// Cells that were skipped.
    pub skipped: usize,
    /// Cells that were not reached, since a failure ended the run.
    #[serde(alias = "left_out")]
    pub not_reached: usize,
    /// Cells that were not sent because of an error in them.
    #[serde(alias = "mistaken")]
    pub invalid: usize,
    /// Requests without a usable response.
    #[serde(alias = "no_answer")]
    pub no_response: usize,
    /// Whether somebody ended the run before its end.
    pub interrupted: bool,
}

impl Summary {
    /// The exit code of a run with these results.
    pub fn exit_code(&self) -> ExitCode {
        if self.interrupted {
            ExitCode::Interrupted
        } else if self.no_response > 0 {
            ExitCode::NoResponse
        } else if self.invalid > 0 {
            ExitCode::InvalidInput
        } else {
            ExitCode::failed_if(self.failed_checks + self.failed_yields > 0)
        }
    }
}
