//! Answers for editors (completion, hover, references, fixes), and lint.

pub mod assist;
pub mod lint;
