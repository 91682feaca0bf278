//! The Common Expression Language (CEL): text to a tree with spans.
//!
//! ```
//! use yieldtray_cel::{Binary, Kind, parse};
//!
//! let parsed = parse("body.bins >= 24 && lot != ''");
//! assert!(parsed.errors.is_empty());
//! assert!(matches!(parsed.tree.node(parsed.tree.root()).kind, Kind::Binary { operator: Binary::And, .. }));
//! ```

mod error;
mod lexer;
mod literal;
mod parser;
mod printer;
mod tree;

#[cfg(test)]
mod tests;

pub use error::{SyntaxError, SyntaxErrorKind};
pub use lexer::{Token, TokenKind, tokens};
pub use literal::Literal;
pub use parser::{MAX_DEPTH, Parsed, parse};
pub use printer::print;
pub use tree::{Binary, Children, Element, Entry, Field, Kind, Node, NodeId, Tree, Unary};
