//! Which checks are judged for a cell, and in which order its answer is used.

use std::sync::Arc;
use std::time::Duration;
use yieldtray_expression::{Compiled, Engine, Reads};
use yieldtray_http::Exchange;
use yieldtray_source::SourceId;
use yieldtray_source::Span;
use yieldtray_syntax::Kind;
use yieldtray_workspace::{CellId, Workspace};

/// One use of an answer: an expression and what is done with its value.
#[derive(Clone, Debug)]
pub(super) struct Use<'w> {
    /// The text the expression stands in.
    pub(super) source: SourceId,
    /// Where it stands.
    pub(super) span: Span,
    /// The expression itself.
    pub(super) expression: Arc<Compiled>,
    /// What is done with its value.
    pub(super) purpose: Purpose<'w>,
}

impl Use<'_> {
    /// Whether it judges.
    pub(super) fn is_check(&self) -> bool {
        matches!(self.purpose, Purpose::Check { .. })
    }
}

/// What is done with a value taken from an answer.
#[derive(Clone, Copy, Debug)]
pub(super) enum Purpose<'w> {
    /// It must be true.
    Check { label: Option<&'w str>, hint: Option<Span> },
    /// It is put on the tray.
    Yield { name: &'w str, secret: bool },
}

/// The shared checks that hold for `cell`, outermost first, then its own checks and yields as they
/// stand. A shared check is left out where the cell waives its label or has a check of that label, and
/// so is what cannot be compiled: that is reported when the cell is examined.
pub(super) fn uses<'w>(workspace: &'w Workspace, engine: &Engine, cell: CellId) -> Vec<Use<'w>> {
    let compiled = |source: SourceId, span: Span, purpose| {
        let expression = engine.compile(span.of(&workspace.source(source).text)).ok()?;
        Some(Use { source, span, expression, purpose })
    };
    let text = &workspace.source(cell.source).text;
    let mut left_out: Vec<&str> = Vec::new();
    let mut own = Vec::new();
    for instruction in workspace.cell(cell).instructions() {
        match instruction.kind {
            Kind::Waive(list) => left_out.extend(Kind::list(list, text).map(|label| label.of(text))),
            Kind::Check { label, expression, hint } => {
                let label = label.map(|label| label.of(text));
                left_out.extend(label);
                own.extend(compiled(cell.source, expression, Purpose::Check { label, hint }));
            }
            Kind::Yield { name, expression, secret } => {
                own.extend(compiled(cell.source, expression, Purpose::Yield { name: name.of(text), secret }));
            }
            _ => {}
        }
    }
    let shared = workspace.preambles(cell.source).filter_map(|(source, instruction)| match instruction.kind {
        Kind::Check { label, expression, hint } => {
            let label = label.map(|label| label.of(&workspace.source(source).text));
            let kept = label.is_none_or(|label| !left_out.contains(&label));
            kept.then(|| compiled(source, expression, Purpose::Check { label, hint })).flatten()
        }
        _ => None,
    });
    shared.chain(own).collect()
}

/// What a cell waits for, and how long.
#[derive(Clone, Debug)]
pub(super) struct Wait<'w> {
    /// What must come to hold.
    pub(super) until: Use<'w>,
    /// The pause between two tries.
    pub(super) every: Duration,
    /// How long it is tried.
    pub(super) within: Duration,
    /// How often it was tried already.
    pub(super) tries: usize,
    /// For how long, by the pauses and the answers' own times.
    pub(super) waited: Duration,
    /// How long an exchange of its cell may take.
    pub(super) timeout: Duration,
}

impl Wait<'_> {
    /// What is left of its time, which is what the next attempt may take at most.
    pub(super) fn left(&self) -> Duration {
        self.within.saturating_sub(self.waited).min(self.timeout)
    }
}

/// What `cell` waits for, if it does.
pub(super) fn wait_of<'w>(workspace: &'w Workspace, engine: &Engine, cell: CellId) -> Option<Wait<'w>> {
    let lines = workspace.cell(cell).instructions().filter_map(|line| match line.kind {
        Kind::Wait { until, every, within } => Some((until, every, within)),
        _ => None,
    });
    let (span, every, within) = lines.last()?;
    let source = cell.source;
    let expression = engine.compile(span.of(&workspace.source(source).text)).ok()?;
    let until = Use { source, span, expression, purpose: Purpose::Check { label: None, hint: None } };
    Some(Wait { until, every, within, tries: 0, waited: Duration::ZERO, timeout: Duration::MAX })
}

/// Whether an expression reads the body, as it is parsed or as text.
pub(super) fn reads_body(expression: &Compiled) -> bool {
    expression.names().iter().any(|name| name == "body" || name == "text")
}

/// Why an expression that reads the body of `exchange` cannot be worked out.
pub(super) fn not_held(exchange: &Exchange) -> String {
    let size = exchange.size;
    format!(
        "the body of {size} bytes is larger than what checks can read: raise `body_limit` in `[send]`, or do without"
    )
}

/// What all of `uses` read of the body.
pub(super) fn reads_of_body(uses: &[Use<'_>]) -> Reads {
    uses.iter().fold(Reads::Nothing, |reads, step| reads.and(step.expression.reads_of_body()))
}
