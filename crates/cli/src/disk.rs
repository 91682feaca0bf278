//! The files of a workspace on disk.

use crate::failure::Stop;
use crate::process;
use ignore::WalkBuilder;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;
use yieldtray_core::workspace::{COMMON_FILE, CONFIG_FILE, Files};

/// Reads below one folder, and nothing outside of it: not through a link either.
pub(crate) struct Disk {
    /// The folder, without links.
    root: PathBuf,
}

impl Disk {
    /// Reads below `root`.
    pub(crate) fn new(root: &Path) -> io::Result<Self> {
        Ok(Self { root: root.canonicalize()? })
    }

    /// The file itself, links followed, as long as they stay below the root.
    fn inside(&self, path: &Path) -> io::Result<PathBuf> {
        let full = self.root.join(path).canonicalize().map_err(plain)?;
        match full.starts_with(&self.root) {
            true => Ok(full),
            false => Err(io::Error::new(io::ErrorKind::PermissionDenied, "it links to a place outside the workspace")),
        }
    }
}

/// `path` counted from `root`, with `~` for the user's home.
pub(crate) fn anywhere(root: &Path, path: &Path) -> PathBuf {
    let home = path.strip_prefix("~").ok().and_then(|below| Some(Path::new(&std::env::var_os("HOME")?).join(below)));
    root.join(home.as_deref().unwrap_or(path))
}

impl Files for Disk {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        std::fs::read(self.inside(path)?).map_err(plain)
    }

    fn read_anywhere(&self, path: &Path) -> io::Result<Vec<u8>> {
        std::fs::read(anywhere(&self.root, path)).map_err(plain)
    }

    fn open(&self, path: &Path) -> io::Result<Box<dyn io::Read + Send>> {
        Ok(Box::new(std::fs::File::open(self.inside(path)?)?))
    }

    fn locate(&self, path: &Path) -> io::Result<(PathBuf, u64)> {
        let full = self.inside(path)?;
        let about = std::fs::metadata(&full)?;
        if !about.is_file() {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "it is no file"));
        }
        Ok((full, about.len()))
    }

    fn run(&self, command: &[String]) -> Result<Vec<u8>, String> {
        process::output(command, &self.root)
    }
}

/// The most common failures in our words: they end sentences that a person reads.
pub(crate) fn plain(error: io::Error) -> io::Error {
    let words = match error.kind() {
        io::ErrorKind::NotFound => "there is no such file",
        io::ErrorKind::IsADirectory => "it is a folder",
        _ => return error,
    };
    io::Error::new(error.kind(), words)
}

/// A file that gets its name once it is whole; until then the one that had the name stays as it was.
pub(crate) struct Unfinished {
    temporary: NamedTempFile,
    target: PathBuf,
}

impl Unfinished {
    /// One that will be called `target`, with the rights of the one it replaces, or of any new file.
    pub(crate) fn new(target: &Path) -> io::Result<Self> {
        let folder = target.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        if !folder.is_dir() {
            return Err(io::Error::new(io::ErrorKind::NotFound, format!("there is no folder `{}`", folder.display())));
        }
        let before = std::fs::metadata(target);
        // A whole file takes the place of what is there: a device or a pipe would be gone.
        match &before {
            Ok(before) if before.is_dir() => return Err(io::Error::new(io::ErrorKind::IsADirectory, "it is a folder")),
            Ok(before) if !before.is_file() => return Err(io::Error::other("it is a device or a pipe, and no file")),
            _ => {}
        }
        let temporary = tempfile::Builder::new().prefix(".yieldtray-").tempfile_in(folder)?;
        // A temporary file is for its owner alone.
        match before {
            Ok(before) => temporary.as_file().set_permissions(before.permissions())?,
            Err(_) => open_to_all(temporary.as_file())?,
        }
        Ok(Self { temporary, target: target.to_owned() })
    }

    /// Appends all that is left of another file.
    pub(crate) fn append(&mut self, from: &mut std::fs::File) -> io::Result<()> {
        io::copy(from, self.temporary.as_file_mut()).map(drop)
    }

    /// Gives it its name.
    pub(crate) fn finish(mut self) -> io::Result<()> {
        self.temporary.flush()?;
        self.temporary.persist(&self.target).map_err(|error| error.error)?;
        Ok(())
    }
}

impl Write for Unfinished {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.temporary.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.temporary.flush()
    }
}

#[cfg(unix)]
fn open_to_all(file: &std::fs::File) -> io::Result<()> {
    use rustix::fs::Mode;
    use std::os::unix::fs::PermissionsExt;
    // The mask can only be read by setting it.
    let mask = rustix::process::umask(Mode::from_raw_mode(0o077));
    rustix::process::umask(mask);
    file.set_permissions(std::fs::Permissions::from_mode(0o666 & !mask.as_raw_mode()))
}

#[cfg(not(unix))]
fn open_to_all(_file: &std::fs::File) -> io::Result<()> {
    Ok(())
}

/// Writes a file that is either whole or as it was.
pub(crate) fn replace(file: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut unfinished = Unfinished::new(file)?;
    unfinished.write_all(bytes)?;
    unfinished.finish()
}

/// The root of the workspace that holds `start`: the nearest folder upward with a configuration, else
/// `start` itself.
pub(crate) fn root_of(start: &Path) -> PathBuf {
    let found = start.ancestors().find(|folder| folder.join(CONFIG_FILE).is_file());
    found.unwrap_or(start).to_owned()
}

/// The request files below `folder`, sorted by path, relative to `root`; with `commons`, the `_common.http`
/// files too. What git ignores is passed over, and so are hidden folders.
pub(crate) fn request_files(root: &Path, folder: &Path, commons: bool) -> Result<Vec<PathBuf>, Stop> {
    let mut files = Vec::new();
    for entry in WalkBuilder::new(folder).require_git(false).sort_by_file_name(Ord::cmp).build() {
        let entry =
            entry.map_err(|error| Stop::refused(format!("cannot look through `{}`: {error}", folder.display())))?;
        let path = entry.path();
        let is_request = path.extension().is_some_and(|extension| extension == "http")
            && path.file_name().is_some_and(|name| commons || name != COMMON_FILE);
        if is_request && path.is_file() {
            files.push(path.strip_prefix(root).unwrap_or(path).to_owned());
        }
    }
    files.sort();
    Ok(files)
}
