//! The expressions that are evaluated on a cell's response: checks, yields, and the condition of `% wait`.

use std::sync::Arc;
use std::time::Duration;
use yieldtray_expression::{Compiled, Engine};
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::scope::reads_body as expression_reads_body;
use yieldtray_workspace::{CellId, Workspace};

/// An expression that is evaluated on a response, and what its value is for.
#[derive(Clone, Debug)]
pub(crate) struct ResponseExpr<'w> {
    /// The text that the expression is in.
    pub(crate) source: SourceId,
    /// Its place in the text.
    pub(crate) span: Span,
    pub(crate) expression: Arc<Compiled>,
    pub(crate) purpose: Purpose<'w>,
}

impl ResponseExpr<'_> {
    pub(crate) fn is_check(&self) -> bool {
        matches!(self.purpose, Purpose::Check { .. })
    }
}

/// The purpose of an expression over a response.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Purpose<'w> {
    /// It must be true.
    Check { label: Option<&'w str>, hint: Option<Span> },
    /// It is captured.
    Yield { name: &'w str, secret: bool },
}

/// The shared checks that hold for `cell`, outermost first, then its own checks and yields in their order. A shared check
/// is left out where the cell waives its label or has a check of that label. So is what cannot be compiled: that is
/// reported when the cell is validated.
pub(crate) fn response_exprs<'w>(workspace: &'w Workspace, engine: &Engine, cell: CellId) -> Vec<ResponseExpr<'w>> {
    let compiled = |source: SourceId, span: Span, purpose| {
        let expression = engine.compile(span.of(&workspace.source(source).text)).ok()?;
        Some(ResponseExpr { source, span, expression, purpose })
    };
    let text = &workspace.source(cell.source).text;
    let mut left_out: Vec<&str> = Vec::new();
    let mut own = Vec::new();
    for instruction in workspace.cell(cell).instructions() {
        match instruction.kind {
            InstructionKind::Waive(list) => {
                left_out.extend(InstructionKind::list(list, text).map(|label| label.of(text)));
            }
            InstructionKind::Check { label, expression, hint } => {
                let label = label.map(|label| label.of(text));
                left_out.extend(label);
                own.extend(compiled(cell.source, expression, Purpose::Check { label, hint }));
            }
            InstructionKind::Yield { name, expression, secret } => {
                own.extend(compiled(cell.source, expression, Purpose::Yield { name: name.of(text), secret }));
            }
            _ => {}
        }
    }
    let shared = workspace.preambles(cell.source).filter_map(|(source, instruction)| match instruction.kind {
        InstructionKind::Check { label, expression, hint } => {
            let label = label.map(|label| label.of(&workspace.source(source).text));
            let holds = label.is_none_or(|label| !left_out.contains(&label));
            holds.then(|| compiled(source, expression, Purpose::Check { label, hint })).flatten()
        }
        _ => None,
    });
    shared.chain(own).collect()
}

/// `% wait`: a request that is sent again until a condition holds.
#[derive(Clone, Debug)]
pub(crate) struct Poll<'w> {
    /// The condition.
    pub(crate) until: ResponseExpr<'w>,
    /// The pause between two attempts.
    pub(crate) interval: Duration,
    /// How long to try.
    pub(crate) timeout: Duration,
    /// How often the request was sent.
    pub(crate) attempts: usize,
    /// How long it took so far: the pauses and the exchanges. A run has no clock.
    pub(crate) elapsed: Duration,
    /// How long an exchange of the cell may take.
    pub(crate) request_timeout: Duration,
}

impl Poll<'_> {
    /// How long the next attempt may take.
    pub(crate) fn time_left(&self) -> Duration {
        self.timeout.saturating_sub(self.elapsed).min(self.request_timeout)
    }
}

/// The polling condition of `cell`, if it has one.
pub(crate) fn poll_of<'w>(workspace: &'w Workspace, engine: &Engine, cell: CellId) -> Option<Poll<'w>> {
    let lines = workspace.cell(cell).instructions().filter_map(|line| match line.kind {
        InstructionKind::Wait { until, every, within } => Some((until, every, within)),
        _ => None,
    });
    let (span, interval, timeout) = lines.last()?;
    let until = condition(workspace, engine, cell.source, span)?;
    Some(Poll { until, interval, timeout, attempts: 0, elapsed: Duration::ZERO, request_timeout: Duration::MAX })
}

/// The condition of an instruction of a response; `None` if it is no expression, which was reported.
pub(crate) fn condition<'w>(
    workspace: &'w Workspace,
    engine: &Engine,
    source: SourceId,
    span: Span,
) -> Option<ResponseExpr<'w>> {
    let expression = engine.compile(span.of(&workspace.source(source).text)).ok()?;
    Some(ResponseExpr { source, span, expression, purpose: Purpose::Check { label: None, hint: None } })
}

/// Whether an expression reads the body, parsed or as text.
pub(crate) fn reads_body(expression: &Compiled) -> bool {
    expression_reads_body(expression)
}
