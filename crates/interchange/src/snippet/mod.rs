//! Exports requests as code of other languages, as shell commands and in the formats of HTTP itself.
//!
//! A request is resolved first; [`outline()`] finds the places in it that must stay variables, and [`write()`]
//! renders the template of a [`Target`]. Each target is one file in `templates/`, and a line of `target.rs`.

mod exported_request;
mod json_path;
mod model;
mod outline;
mod quote;
mod shape;
mod target;
mod write;

#[cfg(test)]
mod round_tests;
#[cfg(test)]
mod tests;

pub use exported_request::{ExportedRequest, ResponseValue};
pub use json_path::Source;
pub use outline::{NamedValue, NamedValueKind, ParameterizedRequest, outline};
pub use target::{TARGETS, Target, target};
pub use write::{SnippetError, write};
