//! The Common Expression Language (CEL): reading, checking and evaluating expressions.
//!
//! ```
//! use yieldtray_cel::{Limits, Nothing, Open, Program, Value};
//!
//! let (program, errors) = Program::compile("[3, 40].all(bins, bins < 24)", &Open);
//! assert!(errors.is_empty());
//! assert_eq!(program.evaluate(&Nothing, Limits::default(), None).expect("a value"), Value::Bool(false));
//! ```

mod budget;
mod check;
mod compile;
mod environment;
mod error;
mod eval_error;
mod evaluate;
pub mod functions;
mod json;
mod lexer;
mod literal;
mod parser;
mod printer;
mod program;
mod record;
mod signature;
mod tree;
mod types;
mod value;

#[cfg(test)]
mod evaluation_tests;
#[cfg(test)]
mod test_schema;
#[cfg(test)]
mod tests;

pub use budget::{Budget, LimitExceeded, Limits};
pub use check::{CheckErrorKind, type_name};
pub use compile::{CompileError, CompileErrorKind};
pub use environment::{Activation, Environment, HostFunction, Nothing, Open};
pub use error::{SyntaxError, SyntaxErrorKind};
pub use eval_error::{EvalError, EvalErrorKind, FunctionError, SHOWN_MEMBERS};
pub use json::{JsonError, JsonErrorKind, MAX_JSON_DEPTH};
pub use lexer::{Token, TokenKind, tokens};
pub use literal::Literal;
pub use parser::{MAX_DEPTH, Parsed, parse};
pub use printer::print;
pub use program::{CalledFunction, Program, UserFunction};
pub use record::{Element as LoopElement, Loop, Record};
pub use signature::Signature;
pub use tree::{Binary, Children, Element, Entry, Field, Kind, Node, NodeId, Tree, Unary};
pub use types::{Schema, Type};
pub use value::{Decimal, Key, KeyRef, List, ListSource, Map, MapSource, Object, Value};
