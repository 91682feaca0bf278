//! The files of a workspace on disk, within what the user allows it.

use super::trust::Trust;
use super::{identity, keyring};
use crate::{files, process};
use std::io;
use std::path::{Path, PathBuf};
use yieldtray_source::access::check_readable;
use yieldtray_source::files::{CommandError, FileSystem};

/// Reads below one folder, and nothing outside of it: not through a link either, unless the user has allowed the
/// workspace to.
pub(crate) struct Disk {
    /// The folder, without links.
    root: PathBuf,
    trust: Trust,
}

impl Disk {
    /// Reads below `root`.
    pub(crate) fn new(root: &Path, trust: &Trust) -> io::Result<Self> {
        Ok(Self { root: root.canonicalize()?, trust: trust.clone() })
    }

    /// The file itself, links followed, as long as they stay below the root.
    fn inside(&self, path: &Path) -> io::Result<PathBuf> {
        let full = self.root.join(path).canonicalize().map_err(files::plain)?;
        match full.starts_with(&self.root) {
            true => Ok(full),
            false => Err(io::Error::new(io::ErrorKind::PermissionDenied, "it links to a file outside the workspace")),
        }
    }

    /// The same for a file that request files may read: neither its name nor what it links to is out of their reach.
    fn data(&self, path: &Path) -> io::Result<PathBuf> {
        check_readable(path)?;
        let full = self.inside(path)?;
        check_readable(full.strip_prefix(&self.root).unwrap_or(&full))?;
        Ok(full)
    }
}

impl FileSystem for Disk {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        files::read_regular(&self.inside(path)?, files::MAX_FILE_BYTES)
    }

    fn read_data(&self, path: &Path) -> io::Result<Vec<u8>> {
        files::read_regular(&self.data(path)?, files::MAX_FILE_BYTES)
    }

    fn open_data(&self, path: &Path) -> io::Result<Box<dyn io::Read + Send>> {
        Ok(Box::new(files::open_regular(&self.data(path)?)?))
    }

    fn locate_data(&self, path: &Path) -> io::Result<(PathBuf, u64)> {
        let full = self.data(path)?;
        let about = std::fs::metadata(&full)?;
        if !about.is_file() {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a file"));
        }
        Ok((full, about.len()))
    }

    fn read_private(&self, path: &Path) -> io::Result<Vec<u8>> {
        if self.trust.allows() {
            return files::read_regular(&files::anywhere(&self.root, path), files::MAX_FILE_BYTES);
        }
        if files::is_outside(&self.root, path) {
            let message = "it is outside the workspace, which is not allowed to read it";
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, message));
        }
        self.read_data(path)
    }

    fn keyring(&self, name: &str) -> Result<String, CommandError> {
        match self.trust.allows() {
            true => keyring::read(name).map_err(CommandError::Failed),
            false => Err(CommandError::NotAllowed("this workspace is not allowed to read it".to_owned())),
        }
    }

    fn unseal(&self, encrypted: &[u8]) -> Result<Vec<u8>, CommandError> {
        match self.trust.allows() {
            true => identity::decrypt(encrypted).map_err(CommandError::Failed),
            false => Err(CommandError::NotAllowed("this workspace is not allowed to decrypt it".to_owned())),
        }
    }

    fn run(&self, command: &[String]) -> Result<Vec<u8>, CommandError> {
        let refused = |why: &str| CommandError::NotAllowed(why.to_owned());
        self.trust.allows_commands().map_err(refused)?;
        process::output(command, &self.root).map_err(CommandError::Failed)
    }
}

/// The text of the `.env` file at `root`, if there is one.
pub(crate) fn dot_env(root: &Path, trust: &Trust) -> io::Result<Option<String>> {
    let disk = Disk::new(root, trust)?;
    let name = Path::new(".env");
    let file = if trust.allows() { Ok(root.join(name)) } else { disk.inside(name) };
    let read = file.and_then(|file| files::read_regular(&file, files::MAX_DOT_ENV_BYTES));
    match read {
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::IsADirectory) => Ok(None),
        Err(error) => Err(error),
        Ok(bytes) => String::from_utf8(bytes).map(Some).map_err(|_| io::Error::other("it is not UTF-8 text")),
    }
}
