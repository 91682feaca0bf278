//! Changes of files that an editor offers.

use std::path::PathBuf;
use yieldtray_source::{Edit, SourceId};

/// Something that can be done to files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Action {
    /// The title.
    pub title: String,
    /// True if it fixes a problem.
    pub is_fix: bool,
    /// How.
    pub changes: Vec<Change>,
}

/// A change of one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// Edits of a text, in order.
    Edit(SourceId, Vec<Edit>),
    /// A new file at this path, relative to the root.
    Create(PathBuf, String),
}
