//! Files that an expression reads: the reader travels as a hidden argument, as made-up data does, and
//! knows the folder that relative paths count from.

use crate::workspace::Files;
use cel::common::types::Type;
use cel::common::value::{StaticVal, Val};
use std::any::Any;
use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;

/// The name the reader has in an expression: one nobody can write.
pub(super) const FILES: &str = "@files";

static READER_TYPE: Type = Type::new_unspecified_type("files");

/// Reads files for one expression.
#[derive(Clone)]
pub(crate) struct FileReader {
    /// Reads below the workspace's root, and nothing else.
    pub(crate) files: Arc<dyn Files>,
    /// The folder of the text the expression stands in, relative to the root.
    pub(crate) folder: PathBuf,
}

impl fmt::Debug for FileReader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("FileReader")
    }
}

impl Val for FileReader {
    fn get_type(&self) -> &Type {
        &READER_TYPE
    }

    fn cel_type() -> &'static Type {
        &READER_TYPE
    }

    fn clone_as_boxed<'v>(&self) -> Box<dyn Val + 'v>
    where
        Self: 'v,
    {
        Box::new(self.clone())
    }

    fn as_any(&self) -> Option<&dyn Any> {
        Some(self)
    }
}

impl StaticVal for FileReader {}
