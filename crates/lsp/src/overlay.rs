//! Files as the editor has them.

use crate::host::TextMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use yieldtray_source::access::check_readable;
use yieldtray_source::files::{CommandError, FileSystem};

/// The texts in the editor, seen by everybody who reads files.
pub type OpenTexts = Arc<Mutex<TextMap>>;

/// Files as the editor has them, else as they are on disk.
pub struct Overlay {
    /// The files on disk.
    pub disk: Box<dyn FileSystem>,
    /// The root of their workspace.
    pub root: PathBuf,
    /// The open texts.
    pub open: OpenTexts,
    /// Whether commands of the private configuration are run.
    pub runs: bool,
}

impl Overlay {
    fn text(&self, path: &Path) -> Option<Arc<str>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner).get(&self.root.join(path)).cloned()
    }
}

impl FileSystem for Overlay {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.text(path).map_or_else(|| self.disk.read(path), |text| Ok(text.as_bytes().to_vec()))
    }

    fn read_data(&self, path: &Path) -> io::Result<Vec<u8>> {
        check_readable(path)?;
        self.text(path).map_or_else(|| self.disk.read_data(path), |text| Ok(text.as_bytes().to_vec()))
    }

    fn read_private(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.disk.read_private(path)
    }

    fn open_data(&self, path: &Path) -> io::Result<Box<dyn io::Read + Send>> {
        check_readable(path)?;
        match self.text(path) {
            Some(text) => Ok(Box::new(io::Cursor::new(text.as_bytes().to_vec()))),
            None => self.disk.open_data(path),
        }
    }

    fn locate_data(&self, path: &Path) -> io::Result<(PathBuf, u64)> {
        self.disk.locate_data(path)
    }

    fn run(&self, command: &[String]) -> Result<Vec<u8>, CommandError> {
        match self.runs {
            true => self.disk.run(command),
            false => Err(CommandError::NotAllowed("but commands are not run here".to_owned())),
        }
    }
}
