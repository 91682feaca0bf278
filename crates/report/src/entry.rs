//! Entries: the results of cells, which reports and `--json` consist of.

use super::record::{RequestRecord, ResponseRecord};
use super::time::{duration, millis};
use serde::{Deserialize, Deserializer, Serialize};
use serde_json::{Value, json};
use std::time::Duration;
use yieldtray_engine::{CellReport, CheckFailure, CheckPart, Difference, Outcome, YieldReport};
use yieldtray_expression::EvalError;
use yieldtray_http::{CapturedExchange, Failure};
use yieldtray_source::diff::DiffLine;
use yieldtray_source::{Problem, SourceId, Span};
use yieldtray_workspace::Workspace;
use yieldtray_workspace::secret::Masker;

/// The result of one cell, on its own: it points into no workspace, and contains no secret. `--json` prints it, and
/// reports are made of it. Times are in milliseconds, sizes in bytes, lines and columns count from 1.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Entry<'k> {
    /// The file, from the workspace's root.
    pub file: String,
    /// The line the cell begins at.
    pub line: usize,
    /// The cell's name.
    pub name: String,
    /// Its outcome.
    pub outcome: Outcome,
    /// The cell it needs that did not pass.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub needs: Option<String>,
    /// Why it was skipped.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// The sequence that played it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub played_by: Option<String>,
    /// Which time the plan was gone through, where it is not the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub round: Option<usize>,
    /// Its place in the run that was divided into shards, from 0; in reports of shards only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<usize>,
    /// The row it was sent for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub row: Option<usize>,
    /// How often it was sent, where that is more than once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tries: Option<usize>,
    /// Which attempt this is, in reports that were joined, where those before did not pass.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub attempts: Option<usize>,
    /// The method, of what was sent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub method: Option<String>,
    /// The URL.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// When it was sent, after the run started; in reports only.
    #[serde(default, alias = "began_ms", skip_serializing_if = "Option::is_none")]
    pub started_ms: Option<f64>,
    /// How long the exchange took.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub elapsed_ms: Option<f64>,
    /// The status of the response.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status: Option<u16>,
    /// Size of the response body in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// How many checks were judged.
    pub checks: usize,
    /// The checks that failed.
    pub failures: Vec<FailedCheck>,
    /// The captured values.
    pub yields: Vec<CaptureRecord>,
    /// Errors and warnings.
    #[serde(default, alias = "problems", skip_serializing_if = "Vec::is_empty")]
    pub diagnostics: Vec<ProblemRecord>,
    /// Advice.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub advice: Option<String>,
    /// Why there is no response.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<FailureRecord>,
    /// The request; in reports only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<RequestRecord<'k>>,
    /// The response; in reports only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub response: Option<ResponseRecord<'k>>,
}

/// A check that failed.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct FailedCheck {
    /// The position of its expression.
    pub file: String,
    /// Its first line.
    pub line: usize,
    /// Its first column.
    pub column: usize,
    /// Its last line.
    pub end_line: usize,
    /// The column behind its end.
    pub end_column: usize,
    /// Its label.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// The expression.
    pub expression: String,
    /// Its parts, each with its value.
    pub parts: Vec<Part>,
    /// How two long sides differ.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub difference: Option<DiffRecord>,
    /// Why it could not be judged, and what else to know.
    pub notes: Vec<String>,
    /// The words after `else`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
}

/// A part of an expression: its value, or why it has none.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// The part as it is written.
    pub text: String,
    /// Its value as it is shown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// Why it has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}

/// How two values differ, line by line.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct DiffRecord {
    /// The left expression.
    pub left: String,
    /// The right one.
    pub right: String,
    /// Pairs: `both`, `left` or `right` and the line, `unchanged` or `truncated` and the number of lines omitted.
    pub lines: Vec<(String, Value)>,
}

/// A value that was taken, or why it was not.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CaptureRecord {
    /// The value's name.
    pub name: String,
    /// The value as it is shown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// Why there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}

/// An error or warning.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProblemRecord {
    /// Its stable code.
    pub code: String,
    /// `error`, `warning` or `info`.
    #[serde(alias = "level", deserialize_with = "severity")]
    pub severity: String,
    /// The message.
    pub message: String,
    /// How to correct it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
    /// Where, if it has a place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Its first line.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// Its first column.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub column: Option<usize>,
    /// Its last line.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end_line: Option<usize>,
    /// The column behind its end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub end_column: Option<usize>,
    /// A second place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub also: Option<RelatedRecord>,
}

/// A second place of a problem.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RelatedRecord {
    /// The file.
    pub file: String,
    /// Its first line.
    pub line: usize,
    /// Its first column.
    pub column: usize,
    /// Its last line.
    pub end_line: usize,
    /// The column behind its end.
    pub end_column: usize,
    /// A label for it.
    pub message: String,
}

/// Why there is no response.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FailureRecord {
    /// The kind of failure.
    pub kind: String,
    /// The message.
    pub message: String,
    /// A hint at the cause.
    pub hint: Option<String>,
}

impl<'k> Entry<'k> {
    /// The entry of a report, without its exchange.
    pub fn of(workspace: &Workspace, report: &CellReport) -> Self {
        let (needs, reason) = match report.outcome {
            Outcome::NotSent => (report.reason.clone(), None),
            Outcome::Skipped => (None, report.reason.clone()),
            _ => (None, None),
        };
        let was_sent = !report.method.is_empty();
        Self {
            file: workspace.shown_path(report.cell.source),
            line: workspace.line_of(report.cell),
            name: workspace.cell(report.cell).name.to_string(),
            outcome: report.outcome,
            needs,
            reason,
            played_by: report.played_by.map(|by| workspace.cell(by).name.to_string()),
            round: (report.round > 1).then_some(report.round),
            place: report.place,
            row: report.row,
            tries: (report.attempts > 1).then_some(report.attempts),
            attempts: None,
            method: was_sent.then(|| report.method.clone()),
            url: was_sent.then(|| report.url.clone()),
            started_ms: None,
            elapsed_ms: was_sent.then(|| millis(report.elapsed)),
            status: report.status,
            size: report.status.map(|_| report.size),
            checks: report.checks,
            failures: report.failures.iter().map(|failure| FailedCheck::of(workspace, failure)).collect(),
            yields: report.yields.iter().map(CaptureRecord::of).collect(),
            diagnostics: report.problems.iter().map(|problem| ProblemRecord::of(workspace, problem)).collect(),
            advice: report.advice.clone(),
            failure: report.failure.as_ref().map(FailureRecord::of),
            request: None,
            response: None,
        }
    }

    /// Adds the exchange, masked, and its time.
    #[must_use]
    pub fn with_exchange(mut self, kept: &'k CapturedExchange, masker: &Masker) -> Self {
        self.started_ms = Some(millis(kept.began));
        self.request = Some(RequestRecord::of(&kept.sent, masker));
        self.response = kept.answer.as_ref().map(|answer| ResponseRecord::of(answer, masker));
        self
    }

    /// How long the exchange took.
    pub fn elapsed(&self) -> Duration {
        duration(self.elapsed_ms.unwrap_or_default())
    }

    /// The name with that of the sequence before it, and the row, the round and such behind it.
    pub fn title(&self) -> String {
        let mut title = self.cell_name();
        let mut add = |word: &str, number: Option<usize>| {
            if let Some(number) = number {
                title.push_str(&format!(" {word} {number}"));
            }
        };
        add("row", self.row);
        add("round", self.round);
        title
    }

    /// The name with that of the sequence before it.
    pub fn cell_name(&self) -> String {
        match &self.played_by {
            Some(by) => format!("{by} › {}", self.name),
            None => self.name.clone(),
        }
    }

    /// Yields that failed, each with the reason.
    pub fn failed_yields(&self) -> impl Iterator<Item = (&str, &str)> {
        self.yields.iter().filter_map(|taken| Some((taken.name.as_str(), taken.error.as_deref()?)))
    }
}

impl FailedCheck {
    fn of(workspace: &Workspace, failure: &CheckFailure) -> Self {
        let LineRange { file, line, column, end_line, end_column } = place(workspace, failure.source, failure.span);
        Self {
            file,
            line,
            column,
            end_line,
            end_column,
            label: failure.label.clone(),
            expression: failure.expression.clone(),
            parts: failure.parts.iter().map(Part::of).collect(),
            difference: failure.difference.as_ref().map(DiffRecord::of),
            notes: failure.notes.clone(),
            hint: failure.hint.clone(),
        }
    }
}

impl Part {
    fn of(part: &CheckPart) -> Self {
        let (value, error) = either(&part.value);
        Self { text: part.text.clone(), value, error }
    }
}

impl CaptureRecord {
    fn of(report: &YieldReport) -> Self {
        let (value, error) = either(&report.value);
        Self { name: report.name.clone(), value, error }
    }
}

fn either(value: &Result<String, EvalError>) -> (Option<String>, Option<String>) {
    (value.as_ref().ok().cloned(), value.as_ref().err().map(ToString::to_string))
}

impl DiffRecord {
    fn of(difference: &Difference) -> Self {
        let line = |line: &DiffLine| match line {
            DiffLine::Context(text) => ("both".to_owned(), json!(text)),
            DiffLine::Left(text) => ("left".to_owned(), json!(text)),
            DiffLine::Right(text) => ("right".to_owned(), json!(text)),
            DiffLine::Skipped(number) => ("unchanged".to_owned(), json!(number)),
            DiffLine::Truncated(number) => ("truncated".to_owned(), json!(number)),
        };
        let lines = difference.lines.iter().map(line).collect();
        Self { left: difference.left.clone(), right: difference.right.clone(), lines }
    }
}

impl ProblemRecord {
    /// The problem on its own, its place by the file's name.
    pub fn of(workspace: &Workspace, problem: &Problem) -> Self {
        let at = problem.source.map(|source| place(workspace, source, problem.span));
        let also = problem.related.as_ref().map(|related| {
            let LineRange { file, line, column, end_line, end_column } = place(workspace, related.source, related.span);
            RelatedRecord { file, line, column, end_line, end_column, message: related.message.clone() }
        });
        Self {
            code: problem.code.as_str().to_owned(),
            severity: problem.severity.as_str().to_owned(),
            message: problem.message.clone(),
            hint: problem.hint.clone(),
            line: at.as_ref().map(|at| at.line),
            column: at.as_ref().map(|at| at.column),
            end_line: at.as_ref().map(|at| at.end_line),
            end_column: at.as_ref().map(|at| at.end_column),
            file: at.map(|at| at.file),
            also,
        }
    }
}

/// Reads a severity, also by its name before version 0.2.
fn severity<'d, D: Deserializer<'d>>(from: D) -> Result<String, D::Error> {
    Ok(match String::deserialize(from)?.as_str() {
        "mistake" => "error".to_owned(),
        "remark" => "warning".to_owned(),
        other => other.to_owned(),
    })
}

impl FailureRecord {
    fn of(failure: &Failure) -> Self {
        Self { kind: failure.kind.as_str().to_owned(), message: failure.message.clone(), hint: failure.hint.clone() }
    }
}

/// A place with both ends.
struct LineRange {
    file: String,
    line: usize,
    column: usize,
    end_line: usize,
    end_column: usize,
}

fn place(workspace: &Workspace, id: SourceId, span: Span) -> LineRange {
    let source = workspace.source(id);
    let (start, end) = (source.place(span.start()), source.place(span.end()));
    LineRange {
        file: workspace.shown_path(id),
        line: start.line,
        column: start.column,
        end_line: end.line,
        end_column: end.column,
    }
}
