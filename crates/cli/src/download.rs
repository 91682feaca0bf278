//! Bodies on their way to a file: under a temporary name until they are whole.

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;
use yieldtray_transport::Sink;

/// A body below this many bytes is there before anybody could read a bar.
const WORTH_A_BAR: u64 = 4 << 20;

/// Where the body of one answer is written.
pub(crate) struct Download {
    files: Vec<(NamedTempFile, PathBuf)>,
    bar: Option<ProgressBar>,
    shown: bool,
    length: Option<u64>,
    written: u64,
}

impl Download {
    /// A download to nowhere yet; with `bar` a long one shows how far it is.
    pub(crate) fn new(bar: bool) -> Self {
        let bar = bar.then(|| ProgressBar::with_draw_target(None, ProgressDrawTarget::hidden()));
        Self { files: Vec::new(), bar, shown: false, length: None, written: 0 }
    }

    /// Writes to `file`.
    pub(crate) fn into_file(mut self, file: &Path) -> io::Result<Self> {
        let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        if !folder.is_dir() {
            return Err(io::Error::new(io::ErrorKind::NotFound, format!("there is no folder `{}`", folder.display())));
        }
        let temporary = tempfile::Builder::new().prefix(".yieldtray-").tempfile_in(folder)?;
        // A temporary file is for its owner alone; what comes from an answer is as open as any new file.
        match fs::metadata(file) {
            Ok(before) => temporary.as_file().set_permissions(before.permissions())?,
            Err(_) => open_to_all(temporary.as_file())?,
        }
        self.files.push((temporary, file.to_owned()));
        Ok(self)
    }

    /// Writes to `file`, which must lie below `root`, links followed; its folders are made.
    pub(crate) fn into_workspace(self, root: &Path, file: &Path) -> io::Result<Self> {
        let outside = || io::Error::new(io::ErrorKind::PermissionDenied, "it lies outside the workspace");
        let root = root.canonicalize()?;
        let target = root.join(file);
        let folder = target.parent().ok_or_else(outside)?;
        // What is there already must lead nowhere else, before anything is made below it.
        let there = folder.ancestors().find_map(|folder| folder.canonicalize().ok()).ok_or_else(outside)?;
        if !there.starts_with(&root) {
            return Err(outside());
        }
        fs::create_dir_all(folder)?;
        self.into_file(&target)
    }

    /// Gives the files their names, now that they are whole.
    pub(crate) fn finish(mut self) -> io::Result<()> {
        for (mut temporary, file) in std::mem::take(&mut self.files) {
            temporary.flush()?;
            temporary.persist(&file).map_err(|error| error.error)?;
        }
        Ok(())
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
        for (temporary, _) in &mut self.files {
            temporary.write_all(bytes)?;
        }
        self.written += bytes.len() as u64;
        let Some(bar) = &self.bar else { return Ok(()) };
        if !self.shown && self.length.unwrap_or(self.written) >= WORTH_A_BAR {
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

#[cfg(unix)]
fn open_to_all(file: &fs::File) -> io::Result<()> {
    use rustix::fs::Mode;
    use std::os::unix::fs::PermissionsExt;
    // The mask can only be read by setting it.
    let mask = rustix::process::umask(Mode::from_raw_mode(0o077));
    rustix::process::umask(mask);
    file.set_permissions(fs::Permissions::from_mode(0o666 & !mask.as_raw_mode()))
}

#[cfg(not(unix))]
fn open_to_all(_file: &fs::File) -> io::Result<()> {
    Ok(())
}
