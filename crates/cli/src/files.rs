//! The files of a workspace on disk.

use crate::error::CommandError;
use crate::process;
use anyhow::Context;
use ignore::WalkBuilder;
use std::collections::BTreeSet;
use std::fs::TryLockError;
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant, SystemTime};
use tempfile::NamedTempFile;
use yieldtray_source::access::{CONFIG_FILE, check_readable};
use yieldtray_source::escape::escape_line;
use yieldtray_source::{Code, Problem, Span};
use yieldtray_workspace::COMMON_FILE;

/// The largest file that is read as a whole, in bytes.
pub(crate) const MAX_FILE_BYTES: u64 = 1 << 30;

/// The largest `.env`, in bytes.
pub(crate) const MAX_DOT_ENV_BYTES: u64 = 1 << 20;

/// `path` counted from `root`, with `~` for the user's home.
pub(crate) fn anywhere(root: &Path, path: &Path) -> PathBuf {
    let home = path.strip_prefix("~").ok().and_then(|below| Some(Path::new(&std::env::var_os("HOME")?).join(below)));
    root.join(home.as_deref().unwrap_or(path))
}

/// Whether a path of a configuration leads to a place outside `root`, links followed.
pub(crate) fn is_outside(root: &Path, path: &Path) -> bool {
    let full = anywhere(root, path);
    // A path that does not exist is judged by its folder.
    let there = full.ancestors().find_map(|part| part.canonicalize().ok());
    !there.is_some_and(|there| there.starts_with(root)) || path.components().any(|part| part.as_os_str() == "..")
}

/// The bytes of a regular file of at most `largest` bytes. A pipe or a device, which may have no end, is refused.
pub(crate) fn read_regular(file: &Path, largest: u64) -> io::Result<Vec<u8>> {
    let opened = open_regular(file)?;
    let mut bytes = Vec::new();
    let size = opened.take(largest + 1).read_to_end(&mut bytes)? as u64;
    match size > largest {
        true => Err(io::Error::other(format!("it is larger than {largest} bytes"))),
        false => Ok(bytes),
    }
}

/// A regular file, opened to be read. A pipe or a device, which may have no end, is refused.
pub(crate) fn open_regular(file: &Path) -> io::Result<std::fs::File> {
    let mut options = std::fs::OpenOptions::new();
    options.read(true);
    // Opening a pipe would wait for somebody who writes to it.
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::custom_flags(&mut options, rustix::fs::OFlags::NONBLOCK.bits() as i32);
    let opened = options.open(file).map_err(plain)?;
    let about = opened.metadata()?;
    match (about.is_dir(), about.is_file()) {
        (true, _) => Err(io::Error::new(io::ErrorKind::IsADirectory, "it is a directory")),
        (_, true) => Ok(opened),
        _ => Err(io::Error::other("it is a device or a pipe, not a file")),
    }
}

/// A device, or a pipe that somebody reads, to be written to as it is.
pub(crate) fn open_to_write_through(file: &Path) -> io::Result<std::fs::File> {
    let open = |wait: bool| {
        let mut options = std::fs::OpenOptions::new();
        options.write(true);
        #[cfg(unix)]
        if !wait {
            std::os::unix::fs::OpenOptionsExt::custom_flags(&mut options, rustix::fs::OFlags::NONBLOCK.bits() as i32);
        }
        options.open(file)
    };
    // Opening a pipe would wait for somebody who reads it.
    match open(false) {
        Err(error) if cfg!(unix) && error.raw_os_error() == Some(rustix::io::Errno::NXIO.raw_os_error()) => {
            Err(io::Error::new(error.kind(), "it is a pipe without a reader"))
        }
        Err(error) => Err(plain(error)),
        Ok(_probe) => open(true).map_err(plain),
    }
}

/// The text of a regular file that a command line names.
pub(crate) fn read_text(file: &Path) -> io::Result<String> {
    let bytes = read_regular(file, MAX_FILE_BYTES)?;
    String::from_utf8(bytes).map_err(|_| io::Error::new(io::ErrorKind::InvalidData, "it is not UTF-8 text"))
}

/// How long another process may keep a folder's files to itself.
const LOCK_TIMEOUT: Duration = Duration::from_secs(30);

/// Keeps the files of a folder to this process as long as the result lives, for a change of what another process of
/// this tool may change at the same time. What is read before must be read again.
pub(crate) fn lock(folder: &Path) -> io::Result<Option<std::fs::File>> {
    // A folder can be opened on Unix alone.
    if !cfg!(unix) {
        return Ok(None);
    }
    let opened = std::fs::File::open(folder)?;
    let began = Instant::now();
    loop {
        match opened.try_lock() {
            Ok(()) => return Ok(Some(opened)),
            // A file system without locks has nothing to wait for.
            Err(TryLockError::Error(error)) if error.kind() == io::ErrorKind::Unsupported => return Ok(None),
            Err(TryLockError::Error(error)) => return Err(error),
            Err(TryLockError::WouldBlock) if began.elapsed() > LOCK_TIMEOUT => {
                return Err(io::Error::new(io::ErrorKind::TimedOut, "another process is changing files there"));
            }
            Err(TryLockError::WouldBlock) => std::thread::sleep(Duration::from_millis(5)),
        }
    }
}

/// A path as text that [`path_from_text`] reads: bytes that are not text are written as `\\x` and two digits.
pub(crate) fn path_to_text(path: &Path) -> String {
    let mut text = String::new();
    for chunk in path.as_os_str().as_encoded_bytes().utf8_chunks() {
        for c in chunk.valid().chars() {
            match c {
                '\\' => text.push_str("\\\\"),
                '\n' => text.push_str("\\x0a"),
                other => text.push(other),
            }
        }
        chunk.invalid().iter().for_each(|byte| text.push_str(&format!("\\x{byte:02x}")));
    }
    text
}

/// The path that a text was made from.
pub(crate) fn path_from_text(text: &str) -> Option<PathBuf> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('\\') {
        bytes.extend_from_slice(before.as_bytes());
        rest = match after.strip_prefix('x') {
            Some(digits) => {
                bytes.push(u8::from_str_radix(digits.get(..2)?, 16).ok()?);
                &digits[2..]
            }
            None => {
                bytes.push(b'\\');
                after.strip_prefix('\\')?
            }
        };
    }
    bytes.extend_from_slice(rest.as_bytes());
    #[cfg(unix)]
    return Some(<std::ffi::OsString as std::os::unix::ffi::OsStringExt>::from_vec(bytes).into());
    #[cfg(not(unix))]
    String::from_utf8(bytes).ok().map(PathBuf::from)
}

/// The most common failures in our words: they end sentences that a person reads.
pub(crate) fn plain(error: io::Error) -> io::Error {
    let message = match error.kind() {
        io::ErrorKind::NotFound => "file not found",
        io::ErrorKind::IsADirectory => "it is a directory",
        _ => return error,
    };
    io::Error::new(error.kind(), message)
}

/// Files that have no name yet, to be removed if the process is ended before they do.
static UNFINISHED: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

/// Removes them: the process ends now.
pub(crate) fn remove_unfinished() {
    // The process that holds the lock may be the one that is being ended.
    if let Ok(mut files) = UNFINISHED.try_lock() {
        files.drain(..).for_each(|file| drop(std::fs::remove_file(file)));
    }
}

/// A file that gets its name once it is whole; until then the one that had the name stays as it was.
pub(crate) struct AtomicFile {
    temporary: Option<NamedTempFile>,
    target: PathBuf,
}

impl Drop for AtomicFile {
    fn drop(&mut self) {
        if let Some(temporary) = self.temporary.take() {
            forget(temporary.path());
        }
    }
}

fn forget(file: &Path) {
    UNFINISHED.lock().unwrap_or_else(PoisonError::into_inner).retain(|known| known != file);
}

impl AtomicFile {
    /// One that will be called `target`, with the rights of the one it replaces, or of any new file.
    pub(crate) fn new(target: &Path) -> io::Result<Self> {
        Self::with(target, false)
    }

    /// The same, but a new file is for its owner alone.
    pub(crate) fn private(target: &Path) -> io::Result<Self> {
        Self::with(target, true)
    }

    fn with(target: &Path, private: bool) -> io::Result<Self> {
        let folder = target.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        if !folder.is_dir() {
            return Err(io::Error::new(io::ErrorKind::NotFound, format!("directory `{}` not found", folder.display())));
        }
        let before = std::fs::metadata(target);
        // A whole file takes the place of what is there: a device or a pipe would be gone.
        match &before {
            Ok(before) if before.is_dir() => {
                return Err(io::Error::new(io::ErrorKind::IsADirectory, "it is a directory"));
            }
            Ok(before) if !before.is_file() => return Err(io::Error::other("it is a device or a pipe, not a file")),
            _ => {}
        }
        remove_abandoned(folder);
        let prefix = format!("{}{}-", own_prefix(), std::process::id());
        let temporary = tempfile::Builder::new().prefix(&prefix).tempfile_in(folder)?;
        // A temporary file is for its owner alone.
        match before {
            Ok(before) => temporary.as_file().set_permissions(before.permissions())?,
            Err(_) if private => {}
            Err(_) => set_default_mode(temporary.as_file())?,
        }
        UNFINISHED.lock().unwrap_or_else(PoisonError::into_inner).push(temporary.path().to_owned());
        Ok(Self { temporary: Some(temporary), target: target.to_owned() })
    }

    /// Appends all that is left of another file.
    pub(crate) fn append(&mut self, from: &mut std::fs::File) -> io::Result<()> {
        io::copy(from, self.file()?).map(drop)
    }

    /// Gives it its name. Its bytes reach the disk before that, and the name after it: a loss of power leaves the
    /// whole file or the one before.
    pub(crate) fn finish(mut self) -> io::Result<()> {
        self.file()?.sync_all()?;
        if let Some(temporary) = self.temporary.take() {
            let path = temporary.path().to_owned();
            let kept = temporary.persist(&self.target);
            forget(&path);
            kept.map_err(|error| error.error)?;
        }
        sync_folder(self.target.parent())
    }

    fn file(&mut self) -> io::Result<&mut std::fs::File> {
        self.temporary.as_mut().map(NamedTempFile::as_file_mut).ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

impl Write for AtomicFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file()?.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file()?.flush()
    }
}

/// The prefix of temporary files of this machine's processes; the process id follows.
fn own_prefix() -> String {
    #[cfg(unix)]
    let machine = rustix::system::uname().nodename().to_bytes().to_vec();
    #[cfg(not(unix))]
    let machine = std::env::var("COMPUTERNAME").unwrap_or_default().into_bytes();
    let digest = blake3::hash(&machine).to_hex();
    format!(".yieldtray-{}-", &digest[..6])
}

/// A temporary file of another machine, of which nobody knows whether its process lives, is left for so long.
const ABANDONED_FILE_AGE: Duration = Duration::from_secs(24 * 60 * 60);

/// Removes temporary files in a folder whose process was ended before it could. Each folder is gone through once: a run
/// may save thousands of files into one.
fn remove_abandoned(folder: &Path) {
    static GONE_THROUGH: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());
    if !GONE_THROUGH.lock().unwrap_or_else(PoisonError::into_inner).insert(folder.to_owned()) {
        return;
    }
    let prefix = own_prefix();
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let Some(name) = name.to_str().filter(|name| name.starts_with(".yieldtray-")) else { continue };
        let of_process = name.strip_prefix(&prefix).and_then(|rest| rest.split('-').next()?.parse::<u32>().ok());
        let abandoned = match of_process {
            Some(process) => !process::is_alive(process),
            None => {
                let changed = entry.metadata().and_then(|about| about.modified());
                let age = changed.ok().and_then(|changed| SystemTime::now().duration_since(changed).ok());
                age.is_some_and(|age| age > ABANDONED_FILE_AGE) && entry.file_type().is_ok_and(|kind| kind.is_file())
            }
        };
        if abandoned {
            tracing::debug!(name, "an unfinished file is removed");
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

#[cfg(unix)]
fn set_default_mode(file: &std::fs::File) -> io::Result<()> {
    use rustix::fs::Mode;
    use std::os::unix::fs::PermissionsExt;
    // The mask can only be read by setting it.
    let mask = rustix::process::umask(Mode::from_raw_mode(0o077));
    rustix::process::umask(mask);
    file.set_permissions(std::fs::Permissions::from_mode(0o666 & !mask.as_raw_mode()))
}

#[cfg(not(unix))]
fn set_default_mode(_file: &std::fs::File) -> io::Result<()> {
    Ok(())
}

fn sync_folder(folder: Option<&Path>) -> io::Result<()> {
    let folder = folder.filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    match cfg!(unix) {
        true => std::fs::File::open(folder)?.sync_all(),
        false => Ok(()),
    }
}

/// Writes a file that only its owner can read, whole or as it was.
pub(crate) fn replace_private(file: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut unfinished = AtomicFile::private(file)?;
    unfinished.write_all(bytes)?;
    unfinished.finish()
}

/// Writes a file that is either whole or as it was.
pub(crate) fn replace(file: &Path, bytes: &[u8]) -> io::Result<()> {
    let mut unfinished = AtomicFile::new(file)?;
    unfinished.write_all(bytes)?;
    unfinished.finish()
}

/// The root of the workspace that holds `start`: the nearest folder upward with a configuration, else
/// `start` itself.
pub(crate) fn root_of(start: &Path) -> PathBuf {
    // A relative path has no folders above it.
    let start = std::path::absolute(start).unwrap_or_else(|_| start.to_owned());
    let found = start.ancestors().find(|folder| folder.join(CONFIG_FILE).is_file());
    found.unwrap_or(&start).to_owned()
}

/// The request files below a folder.
pub(crate) struct RequestFiles {
    /// Their paths from the root, sorted.
    pub(crate) files: Vec<PathBuf>,
    /// Folders that could not be looked through: nothing in them is among the files.
    pub(crate) passed_over: Vec<Problem>,
}

/// The request files below `folder`, sorted by path, relative to `root`; with `inherited`, the `_common.http`
/// files too. What git ignores is passed over, and so are hidden folders.
pub(crate) fn request_files(root: &Path, folder: &Path, with_common: bool) -> Result<RequestFiles, CommandError> {
    // A link is resolved before it is walked: it may lead out of the workspace.
    let shown = escape_line(&folder.display().to_string()).into_owned();
    let folder = folder.canonicalize().with_context(|| format!("cannot open `{shown}`"))?;
    let root = root.canonicalize().with_context(|| format!("cannot open `{}`", root.display()))?;
    if !folder.starts_with(&root) {
        let message =
            format!("`{shown}` points outside the workspace, to `{}`", escape_line(&folder.display().to_string()));
        return Err(CommandError::refused_with(message, "pass paths of one workspace"));
    }
    let (mut files, mut passed_over) = (Vec::new(), Vec::new());
    for entry in WalkBuilder::new(&folder).require_git(false).sort_by_file_name(Ord::cmp).build() {
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) => {
                passed_over.push(cannot_look_through(&root, &error));
                continue;
            }
        };
        let path = entry.path();
        let is_request = path.extension().is_some_and(|extension| extension == "http")
            && path.file_name().is_some_and(|name| with_common || name != COMMON_FILE);
        if is_request && path.is_file() {
            files.push(path.strip_prefix(&root).unwrap_or(path).to_owned());
        }
    }
    files.sort();
    Ok(RequestFiles { files, passed_over })
}

/// An unreadable folder does not stop the others.
fn cannot_look_through(root: &Path, error: &ignore::Error) -> Problem {
    let (path, why) = match error {
        ignore::Error::WithPath { path, err } => (Some(path), err.to_string()),
        ignore::Error::WithDepth { err, .. } => match &**err {
            ignore::Error::WithPath { path, err } => (Some(path), err.to_string()),
            other => (None, other.to_string()),
        },
        other => (None, other.to_string()),
    };
    let shown =
        path.map(|path| escape_line(&path.strip_prefix(root).unwrap_or(path).display().to_string()).into_owned());
    let message = match shown {
        Some(shown) => format!("cannot read directory `{shown}`, skipped: {why}"),
        None => format!("cannot read a directory, skipped: {why}"),
    };
    Problem::warning(Code::UnreadableFile, Span::default(), message)
}

/// A file that another one refers to: below its `folder`, links followed, and nothing hidden.
pub(crate) fn read_beside(folder: &Path, path: &str, most: u64) -> io::Result<Vec<u8>> {
    let refused = |why: &str| io::Error::new(io::ErrorKind::PermissionDenied, why);
    let folder = folder.canonicalize()?;
    let file = folder.join(path).canonicalize().map_err(plain)?;
    let inside = file.strip_prefix(&folder).map_err(|_| refused("it is outside the directory of the description"))?;
    check_readable(inside)?;
    read_regular(&file, most)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_read_from_the_text_it_is_written_as() {
        for path in ["/a b/c", "/a\\b\\x41", "/new\nline", "/ä"] {
            assert_eq!(path_from_text(&path_to_text(Path::new(path))).as_deref(), Some(Path::new(path)), "{path}");
        }
        #[cfg(unix)]
        {
            let odd = <std::ffi::OsStr as std::os::unix::ffi::OsStrExt>::from_bytes(b"/a\xff\\");
            assert_eq!(path_to_text(Path::new(odd)), "/a\\xff\\\\");
            assert_eq!(path_from_text("/a\\xff\\\\").as_deref(), Some(Path::new(odd)));
        }
        assert_eq!(path_from_text("/a\\q"), None);
    }

    #[cfg(unix)]
    #[test]
    fn what_is_no_regular_file_is_refused() {
        let folder = tempfile::tempdir().expect("a folder");
        let pipe = folder.path().join("pipe");
        let made = std::process::Command::new("mkfifo").arg(&pipe).status();
        assert!(made.expect("mkfifo runs").success());
        for file in [pipe.as_path(), Path::new("/dev/zero"), folder.path()] {
            assert!(read_regular(file, 10).is_err(), "{}", file.display());
        }
        std::fs::write(folder.path().join("a"), "12345678901").expect("a file");
        assert!(read_regular(&folder.path().join("a"), 10).is_err());
    }
}
