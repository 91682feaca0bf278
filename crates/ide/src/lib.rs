//! Answers for editors (completion, hover, references, fixes), and lint.

pub mod assist;
mod described;
pub mod lint;
