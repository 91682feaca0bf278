//! Text to tree. Parsing cannot fail: it gives a [`RequestFile`] and the [`Problem`]s found, so that one
//! broken cell never hides nine good ones. Every node is a [`Span`](yieldtray_source::Span) into the one shared text.
//!
//! The language itself is described in `docs/language.md`.
//!
//! [`Problem`]: yieldtray_source::Problem

mod control;
mod duration;
mod file;
mod instruction;
mod parse;
mod request_line;
mod sending;
pub mod shell;
mod stream;
mod swallowed;
mod template;
mod tidy;
mod value_text;

#[cfg(test)]
mod tests;

pub use duration::duration;
pub use file::{
    Auth, Cell, Field, Instruction, InstructionKind, Item, KeyPlace, Node, PartContent, RequestFile, RequestLine,
    Version, instructions,
};
pub use instruction::{SUPPORTED, is_graphql_name, is_language_name, is_late_name};
pub use parse::{MAX_TEXT, Parsed, parse};
pub use request_line::{control_in_field, is_token, typed_field};
pub use sending::media_at_end;
pub use template::{Segment, Template};
pub use tidy::tidy;
pub use value_text::{ValuePiece, ValueText};
