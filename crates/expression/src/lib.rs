//! Expressions: the Common Expression Language over our own values and functions.
//!
//! The crate that parses and runs CEL is known to this crate alone. This crate adds to it: names and functions are
//! checked before anything runs ([`Engine::compile`]), long expressions get the stack they need, endless ones run out
//! of steps, and a failure is explained by its parts ([`Engine::explain`]).

mod compiled;
mod digits;
mod document;
mod engine;
mod error;
mod explain;
mod fault;
mod files;
mod functions;
mod json;
mod json_path;
mod opaque;
mod parse;
mod random;
mod schemas;
mod tree;
mod unparse;
mod user_functions;
mod value;
mod walk;

#[cfg(test)]
mod round_tests;
#[cfg(test)]
mod tests;

pub use compiled::Compiled;
pub use engine::{Bindings, Engine};
pub use error::EvalError;
pub use explain::{Explanation, Part};
pub use files::FileReader;
pub use functions::{ConstantError, FAKE_KINDS, FUNCTIONS, Function, XPathError, check_constant};
pub use json_path::{JsonPath, JsonPathError};
pub use parse::CompileError;
pub use random::{Clock, RandomSource};
pub use schemas::Schemas;
pub use tree::{is_builtin, is_type_name};
pub use user_functions::UserFunction;
pub use value::{NotRepresentable, Value, ValueKind};
pub use walk::BodyAccess;
