//! The file system and the commands that the rest of the program may use, as one trait: no crate but the command line
//! opens a file.

use crate::access::check_readable;
use std::io;
use std::path::{Component, Path, PathBuf};

/// Reads files and runs commands; core has neither disk nor processes of its own. Paths are relative to the
/// workspace's root. What a request file names is read by the methods for data, which refuse what
/// [`check_readable`] refuses, links followed.
pub trait FileSystem: Send + Sync {
    /// The text of a request file or a configuration.
    fn read(&self, path: &Path) -> io::Result<Vec<u8>>;

    /// A file that a request file or the shared configuration names.
    fn read_data(&self, path: &Path) -> io::Result<Vec<u8>> {
        check_readable(path)?;
        self.read(path)
    }

    /// The same bytes, read as they are asked for.
    fn open_data(&self, path: &Path) -> io::Result<Box<dyn io::Read + Send>> {
        self.read_data(path).map(|bytes| Box::new(io::Cursor::new(bytes)) as Box<dyn io::Read + Send>)
    }

    /// The path of such a file and its size in bytes; the sender opens it there.
    fn locate_data(&self, path: &Path) -> io::Result<(PathBuf, u64)> {
        self.read_data(path).map(|bytes| (path.to_owned(), bytes.len() as u64))
    }

    /// A file that the private configuration names. It may be outside the workspace if the user has allowed that.
    fn read_private(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.read_data(path)
    }

    /// A secret of the system's keyring.
    fn keyring(&self, name: &str) -> Result<String, CommandError> {
        let _ = name;
        Err(CommandError::NotAllowed("which is not read here".to_owned()))
    }

    /// Decrypts a value with the user's identity.
    fn unseal(&self, encrypted: &[u8]) -> Result<Vec<u8>, CommandError> {
        let _ = encrypted;
        Err(CommandError::NotAllowed("nothing is decrypted here".to_owned()))
    }

    /// Runs a command of the private configuration and returns its standard output.
    fn run(&self, command: &[String]) -> Result<Vec<u8>, CommandError> {
        let _ = command;
        Err(CommandError::NotAllowed("but commands are not run here".to_owned()))
    }
}

/// Why a command gave no value. The words go on after “comes from the command …,”.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CommandError {
    /// The user has not allowed the workspace to run it.
    NotAllowed(String),
    /// It failed.
    Failed(String),
}

impl CommandError {
    /// A description of the error.
    pub fn describe(&self) -> &str {
        let (Self::NotAllowed(message) | Self::Failed(message)) = self;
        message
    }
}

/// The path without `.` and `..`; `None` where it leaves the workspace.
pub fn normalize(path: &Path) -> Option<PathBuf> {
    let mut cleaned = PathBuf::new();
    for part in path.components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir => {
                if !cleaned.pop() {
                    return None;
                }
            }
            Component::Normal(part) => cleaned.push(part),
            Component::RootDir | Component::Prefix(_) => return None,
        }
    }
    Some(cleaned)
}
