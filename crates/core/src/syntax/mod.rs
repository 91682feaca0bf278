//! Text to tree. Parsing cannot fail: it gives a [`File`] and the [`Problem`]s found, so that one
//! broken cell never hides nine good ones. Every node is a [`Span`] into the one shared text.
//!
//! The language itself is described in `docs/language.md`.
//!
//! [`Problem`]: crate::problem::Problem

mod control;
mod duration;
mod edit;
mod file;
mod instruction;
mod lines;
mod names;
mod parse;
mod request_line;
mod scan;
mod sending;
pub mod shell;
mod span;
mod swallowed;
mod template;
mod tidy;
mod value_text;

#[cfg(test)]
mod tests;

pub use duration::duration;
pub use edit::{Edit, edited};
pub(crate) use file::instructions;
pub use file::{Auth, Cell, Field, File, Instruction, Item, Kind, Node, PartContent, RequestLine, Version};
pub use instruction::{CARRIED_OUT, NOT_YET, is_language_name};
pub use lines::{Lines, Place};
pub use names::{first_free, is_value_name, slug};
pub use parse::{MAX_TEXT, Parsed, parse};
pub(crate) use request_line::control_in_field;
pub use request_line::{is_token, typed_field};
pub use scan::{Identifier, calls_and_names, find_outside_strings};
pub(crate) use sending::media_at_end;
pub use span::Span;
pub use template::{Segment, Template};
pub use tidy::tidy;
pub use value_text::{Piece, Text};
