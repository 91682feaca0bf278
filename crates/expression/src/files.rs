//! Files that an expression reads. The reader knows the folder that relative paths count from.

use super::schemas::{Schema, SchemaError, Schemas};
use std::fmt;
use std::path::PathBuf;
use std::sync::Arc;
use yieldtray_source::files::{FileSystem, normalize};

/// Reads files for one expression.
#[derive(Clone)]
pub struct FileReader {
    /// Reads below the workspace's root, and nothing else.
    pub(crate) files: Arc<dyn FileSystem>,
    /// Schemas that were used before.
    pub(crate) schemas: Arc<Schemas>,
    /// The folder of the expression's text, relative to the root.
    pub(crate) folder: PathBuf,
}

impl FileReader {
    /// A reader for the expressions of a text in `folder`, which is relative to the workspace's root.
    pub fn new(files: Arc<dyn FileSystem>, schemas: Arc<Schemas>, folder: PathBuf) -> Self {
        Self { files, schemas, folder }
    }

    /// The schema in the file at `path`, counted from the folder.
    pub(super) fn schema(&self, path: &str) -> Result<Schema, SchemaError> {
        let inside = normalize(&self.folder.join(path)).ok_or_else(|| SchemaError::Outside(path.to_owned()))?;
        self.schemas.at(&self.files, &inside)
    }
}

impl fmt::Debug for FileReader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("FileReader")
    }
}
