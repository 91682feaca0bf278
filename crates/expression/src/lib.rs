//! Expressions: the Common Expression Language with our own names and functions.
//!
//! [`yieldtray_cel`] reads, checks and evaluates expressions. This crate adds what is ours: the functions, random values,
//! the time and files that they use, the functions of a workspace, and the words of errors and explanations.

mod compile_error;
mod compiled;
mod engine;
mod error;
mod error_text;
mod evaluation;
mod explain;
mod files;
mod functions;
mod identifiers;
mod json_path;
mod names;
mod random;
mod schemas;
mod tight_json;
mod user_functions;
mod value;

#[cfg(test)]
mod tests;

pub use compile_error::CompileError;
pub use compiled::{CalledConstant, Compiled};
pub use engine::{Bindings, Engine};
pub use error::EvalError;
pub use evaluation::Evaluation;
pub use explain::{Explanation, Part};
pub use files::FileReader;
pub use functions::{
    ConstantError, FAKE_KINDS, FUNCTIONS, Function, FunctionHelp, FunctionOrigin, XPathError, check_constant, function,
    functions,
};
pub use identifiers::{Identifier, IdentifierRole};
pub use json_path::{JsonPath, JsonPathError};
pub use names::{is_builtin, is_type_name};
pub use random::{Clock, RandomSource};
pub use schemas::{DocumentSchema, SchemaDocument, Schemas};
pub use user_functions::UserFunction;
pub use value::{NotRepresentable, Value, ValueKind};
