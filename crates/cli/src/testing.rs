//! Helpers of the program's own tests.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use yieldtray_source::files::FileSystem;
use yieldtray_workspace::Workspace;

struct Memory(HashMap<PathBuf, Vec<u8>>);

impl FileSystem for Memory {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.0.get(path).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

/// A workspace of these texts, by their paths.
pub(crate) fn workspace(texts: &[(&str, &str)]) -> Workspace {
    let files = texts.iter().map(|(path, text)| (PathBuf::from(path), text.as_bytes().to_vec())).collect();
    Workspace::open(Box::new(Memory(files)))
}
