//! What an editor asks of a request file (completion, hover, references, fixes), and what `lint` finds in it.

pub mod assist;
pub mod lint;
