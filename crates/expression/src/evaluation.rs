//! An evaluation that can be explained.

use crate::compiled::Compiled;
use crate::error::EvalError;
use crate::files::FileReader;
use crate::value::Value;
use yieldtray_cel as cel;

/// The result of an expression, with the values that its parts had.
pub struct Evaluation<'c> {
    pub(crate) compiled: &'c Compiled,
    outcome: Result<Value, EvalError>,
    pub(crate) record: cel::Record,
    pub(crate) files: Option<FileReader>,
}

impl<'c> Evaluation<'c> {
    pub(crate) fn new(
        compiled: &'c Compiled,
        outcome: Result<cel::Value, cel::EvalError>,
        record: cel::Record,
        files: Option<FileReader>,
    ) -> Self {
        let outcome = outcome.map(Value).map_err(|error| EvalError::of(&compiled.program, &error));
        Self { compiled, outcome, record, files }
    }

    /// The value, or why there is none.
    pub fn outcome(&self) -> &Result<Value, EvalError> {
        &self.outcome
    }

    /// True if it is `true`.
    pub fn is_true(&self) -> bool {
        self.outcome.as_ref().is_ok_and(|value| value.as_bool() == Some(true))
    }
}
