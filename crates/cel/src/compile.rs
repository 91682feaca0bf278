//! Reads and checks expressions.

use crate::check::{CheckErrorKind, Checker};
use crate::environment::Environment;
use crate::error::SyntaxErrorKind;
use crate::parser::parse;
use crate::program::Program;
use thiserror::Error;
use yieldtray_source::Span;

/// Why an expression cannot be evaluated.
#[derive(Clone, Debug, Error)]
#[error("{kind}")]
pub struct CompileError {
    /// The part of the text that it is about, in bytes.
    pub span: Span,
    /// The kind of error.
    pub kind: CompileErrorKind,
}

/// The kind of an error that is found before an expression is evaluated.
#[derive(Clone, Debug, Error)]
pub enum CompileErrorKind {
    /// The text does not follow the grammar.
    #[error(transparent)]
    Syntax(SyntaxErrorKind),
    /// A name, function or type does not fit.
    #[error(transparent)]
    Check(CheckErrorKind),
}

impl Program {
    /// Reads and checks an expression. There is a program even if there are errors: what is wrong then fails when it is
    /// evaluated.
    pub fn compile(text: &str, environment: &dyn Environment) -> (Self, Vec<CompileError>) {
        Self::compile_function(text, &[], environment)
    }

    /// Reads and checks the expression of a function with parameters.
    pub fn compile_function(
        text: &str,
        parameters: &[String],
        environment: &dyn Environment,
    ) -> (Self, Vec<CompileError>) {
        let parsed = parse(text);
        let checked = Checker::check(&parsed.tree, parameters, environment);
        let syntax = parsed.errors.into_iter();
        let mut errors: Vec<CompileError> =
            syntax.map(|error| CompileError { span: error.span, kind: CompileErrorKind::Syntax(error.kind) }).collect();
        let has_syntax_errors = !errors.is_empty();
        let check = checked.errors.into_iter();
        // Too many levels have a syntax error already.
        let check = check.filter(|(_, kind)| !(has_syntax_errors && matches!(kind, CheckErrorKind::Levels(_))));
        errors.extend(check.map(|(span, kind)| CompileError { span, kind: CompileErrorKind::Check(kind) }));
        errors.sort_by_key(|error| error.span.start());
        let program = Self {
            text: text.into(),
            tree: parsed.tree,
            operations: checked.operations.into(),
            names: checked.names.into(),
            calls: checked.calls.into(),
            result: checked.result,
            levels: checked.levels,
        };
        (program, errors)
    }
}
