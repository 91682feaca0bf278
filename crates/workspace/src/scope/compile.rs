//! Compiling expressions where they are written.

use crate::Workspace;
use std::sync::Arc;
use yieldtray_expression::{CompileError, Compiled, Engine};
use yieldtray_source::{Problem, SourceId, Span};

/// Compiles the expression at `span` of `source`; its faults become problems with their place.
pub fn compile(
    workspace: &Workspace,
    engine: &Engine,
    source: SourceId,
    span: Span,
) -> Result<Arc<Compiled>, Vec<Problem>> {
    engine.compile(span.of(&workspace.source(source).text)).map_err(|errors| {
        let problem = |error: &CompileError| {
            let place = span.part(error.span.start().min(span.len()), error.span.end().min(span.len()));
            let problem = compile_problem(error, place, source);
            Problem { replacement: error.replacement.clone().map(Box::new), ..problem }
        };
        errors.iter().map(problem).collect()
    })
}

/// The problem of an expression that cannot be compiled, at a place of a text.
pub(crate) fn compile_problem(error: &CompileError, at: Span, source: SourceId) -> Problem {
    Problem::error(error.code, at, error.message.clone()).with_hint_if(error.hint.clone()).in_source(source)
}

/// Where a name is used. The very place is looked for only when there is something to say about it.
#[derive(Clone, Copy)]
pub(super) enum UseSite {
    /// Just here.
    Here(Span),
    /// Somewhere in this expression.
    In(Span),
}

impl UseSite {
    pub(super) fn place(self, engine: &Engine, name: &str, text: &str) -> Span {
        match self {
            UseSite::Here(span) => span,
            UseSite::In(span) => place_of_name(engine, name, text, span),
        }
    }
}

/// The span of `name` in the expression at `span`; the whole expression if it is not written there.
pub(crate) fn place_of_name(engine: &Engine, name: &str, text: &str, span: Span) -> Span {
    engine.find_name(span.of(text), name).map_or(span, |found| span.part(found.start(), found.end()))
}
