//! Bodies on their way to a file: under a temporary name until they are whole.

use crate::files::AtomicFile;
use crate::{files, git};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::fs;
use std::io::{self, Write};
use std::path::Path;
use std::time::Duration;
use yieldtray_http::{Failure, FailureKind};
use yieldtray_report::log::MAX_LOGGED_BODY;
use yieldtray_source::access::check_writable;
use yieldtray_transport::Sink;

/// A body below this many bytes is there before anybody could read a bar.
const MIN_PROGRESS_BYTES: u64 = 4 << 20;

/// The destination of one response body.
pub(crate) struct Download {
    files: Vec<AtomicFile>,
    /// A stream that is written as the body arrives: standard output, a device, a pipe.
    through: Option<Box<dyn Write + Send + Sync>>,
    bar: Option<ProgressBar>,
    shown: bool,
    length: Option<u64>,
    written: u64,
    /// How many bytes may be written.
    limit: Option<u64>,
    /// The digest of the bytes written so far, by which the log identifies a large body.
    digest: blake3::Hasher,
    /// The bytes written so far, up to the limit of the log.
    start: Vec<u8>,
}

/// The result of a download.
pub(crate) struct Finished {
    /// The BLAKE3 digest, in hexadecimal digits.
    pub(crate) digest: String,
    /// All of it, if it is small enough for the log.
    pub(crate) small: Option<Vec<u8>>,
}

impl Download {
    /// A download to nowhere yet; with `bar` a long one shows how far it is.
    pub(crate) fn new(bar: bool) -> Self {
        let bar = bar.then(|| ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden()));
        Self {
            files: Vec::new(),
            through: None,
            bar,
            shown: false,
            length: None,
            written: 0,
            limit: None,
            digest: blake3::Hasher::new(),
            start: Vec::new(),
        }
    }

    /// Writes to `file`; `-` is standard output. A device or a pipe is written to, and a link leads to the file that is
    /// replaced.
    pub(crate) fn into_file(mut self, file: &Path) -> io::Result<Self> {
        if file == Path::new("-") {
            self.through = Some(Box::new(io::stdout()));
            return Ok(self);
        }
        if fs::metadata(file).is_ok_and(|about| !about.is_file() && !about.is_dir()) {
            self.through = Some(Box::new(files::open_to_write_through(file)?));
            return Ok(self);
        }
        let target = if file.is_symlink() { file.canonicalize()? } else { file.to_owned() };
        self.replacing(&target)
    }

    fn replacing(mut self, file: &Path) -> io::Result<Self> {
        self.files.push(AtomicFile::new(file)?);
        Ok(self)
    }

    /// Writes at most `limit` bytes to `file`, which must lie below `root`, links followed; its folders are made. What
    /// controls this tool, git or an editor, and what git tracks, is never written.
    pub(crate) fn into_workspace(mut self, root: &Path, file: &Path, limit: u64) -> io::Result<Self> {
        let refused = |message: &str| io::Error::new(io::ErrorKind::PermissionDenied, message);
        let outside = || refused("it is outside the workspace");
        self.limit = Some(limit);
        let root = root.canonicalize()?;
        let target = root.join(file);
        let folder = target.parent().ok_or_else(outside)?;
        // Existing folders must not lead elsewhere, before new ones are created below them.
        let there = folder.ancestors().find_map(|folder| folder.canonicalize().ok()).ok_or_else(outside)?;
        if !there.starts_with(&root) {
            return Err(outside());
        }
        // Neither is what a link in it leads to out of reach.
        let rest = there.strip_prefix(&root).unwrap_or(Path::new("")).join("file");
        check_writable(&rest)?;
        if git::tracks(&target) {
            return Err(refused("it is tracked by git, and tracked files are not overwritten"));
        }
        fs::create_dir_all(folder)?;
        self.replacing(&target)
    }

    /// Renames the complete files into place, and returns what is in them.
    pub(crate) fn finish(mut self) -> io::Result<Finished> {
        self.through.iter_mut().try_for_each(Write::flush)?;
        std::mem::take(&mut self.files).into_iter().try_for_each(AtomicFile::finish)?;
        let digest = self.digest.finalize().to_hex().to_string();
        let small = (self.written <= MAX_LOGGED_BODY).then(|| std::mem::take(&mut self.start));
        Ok(Finished { digest, small })
    }
}

impl Drop for Download {
    fn drop(&mut self) {
        if let Some(bar) = self.bar.take() {
            bar.finish_and_clear();
        }
    }
}

impl Sink for Download {
    fn begin(&mut self, length: Option<u64>) {
        self.length = length;
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.written += bytes.len() as u64;
        if let Some(limit) = self.limit.filter(|limit| self.written > *limit) {
            let message = format!("it is larger than {limit} bytes: raise `save_limit` in `[send]`");
            return Err(io::Error::other(message));
        }
        self.files.iter_mut().try_for_each(|file| file.write_all(bytes))?;
        self.through.iter_mut().try_for_each(|to| to.write_all(bytes))?;
        self.digest.update(bytes);
        if self.written <= MAX_LOGGED_BODY {
            self.start.extend_from_slice(bytes);
        }
        let Some(bar) = &self.bar else { return Ok(()) };
        if !self.shown && self.length.unwrap_or(self.written) >= MIN_PROGRESS_BYTES {
            self.shown = true;
            let template = match self.length {
                Some(length) => {
                    bar.set_length(length);
                    "{bar:32.cyan/dim} {bytes} of {total_bytes}  {bytes_per_sec}  {eta} left"
                }
                None => "{bytes}  {bytes_per_sec}",
            };
            if let Ok(style) = ProgressStyle::with_template(template) {
                bar.set_style(style.progress_chars("━╸─"));
            }
            bar.set_draw_target(ProgressDrawTarget::stderr_with_hz(8));
        }
        if self.shown {
            bar.set_position(self.written);
        }
        Ok(())
    }
}

/// The failure of a file that cannot be written.
pub(super) fn not_saved(error: io::Error) -> Failure {
    Failure {
        kind: FailureKind::NotSaved,
        message: format!("the body cannot be written: {error}"),
        hint: None,
        elapsed: Duration::ZERO,
    }
}
