//! Source texts and what is said about them: byte spans, lines, edits, problems with stable codes. Also the file system
//! as a trait, and small text helpers that every other crate may use.

pub mod access;
pub mod diff;
mod edit;
pub mod entropy;
pub mod escape;
pub mod files;
pub mod glob;
pub mod hex;
mod lines;
pub mod names;
pub mod percent;
mod problem;
pub mod scan;
mod span;

pub use edit::{Edit, edited};
pub use lines::{LineColumn, Lines};
pub use problem::{Code, MissingValue, Problem, RelatedPlace, Severity, SourceId, closest, join_words};
pub use span::Span;
