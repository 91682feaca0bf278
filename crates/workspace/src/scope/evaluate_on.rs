//! Evaluates an expression of no file on a response.

use super::response::{ResponseScope, body_not_buffered, reads_body};
use super::{EvalCache, EvalContext, Phase, Resolver};
use crate::CellId;
use yieldtray_expression::{CompileError, EvalError, Value};
use yieldtray_http::Exchange;
use yieldtray_source::Problem;

impl EvalContext<'_> {
    /// Evaluates an expression on a response, as the last check of `cell` would. The secrets that it uses are added to
    /// `secrets`.
    ///
    /// # Errors
    /// The reason for a missing value. The text may contain secrets.
    pub fn evaluate_on(
        self,
        cell: CellId,
        expression: &str,
        exchange: &Exchange,
        secrets: &mut Vec<Value>,
    ) -> Result<Value, EvalError> {
        let compiled = self.engine.compile(expression).map_err(|errors| {
            let text = |error: &CompileError| match &error.hint {
                Some(hint) => format!("{} ({hint})", error.message),
                None => error.message.clone(),
            };
            EvalError::new(errors.iter().map(text).collect::<Vec<_>>().join("; "))
        })?;
        if !exchange.is_body_complete() && reads_body(&compiled) {
            return Err(EvalError::new(body_not_buffered(exchange)));
        }
        let title = self.workspace.cell(cell).title;
        let text = |problems: Vec<Problem>| {
            EvalError::new(problems.into_iter().map(|p| p.message).collect::<Vec<_>>().join("; "))
        };
        let (mut names, mut cache) = (ResponseScope::new(exchange), EvalCache::default());
        let mut resolver = Resolver::new(self, cell, &[], &mut cache);
        let bindings = resolver.bind(&compiled, cell.source, title, Phase::Response(&mut names)).map_err(text);
        secrets.extend(cache.new_secrets());
        self.engine.evaluate(&compiled, &bindings?, self.random)
    }
}
