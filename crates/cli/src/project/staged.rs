//! The files of a checkout as the next commit would have them. Git itself is asked.

use crate::error::CommandError;
use crate::git;
use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use yieldtray_source::access::check_readable;
use yieldtray_source::files::FileSystem;

/// The staged files below a root.
pub(crate) struct StagedFiles<F> {
    /// The files on disk, for what is not staged.
    disk: F,
    /// The files that differ on disk from what is staged, as they are staged; `None` for one that is removed.
    texts: HashMap<PathBuf, Option<Vec<u8>>>,
}

/// The paths that git knows, relative to `root` and sorted.
pub(crate) fn known_paths(root: &Path) -> Result<Vec<PathBuf>, CommandError> {
    let mut paths = names(root, &["ls-files", "--cached", "-z"])?;
    paths.sort();
    Ok(paths)
}

/// The paths that the next commit changes, relative to `root` and sorted, without those that it removes.
pub(crate) fn staged_paths(root: &Path) -> Result<Vec<PathBuf>, CommandError> {
    let mut paths = names(root, &["diff", "--cached", "--name-only", "--diff-filter=d", "--relative", "-z"])?;
    paths.sort();
    Ok(paths)
}

impl<F: FileSystem> StagedFiles<F> {
    /// The files below `root` as they are staged, and else as `disk` has them.
    pub(crate) fn over(disk: F, root: &Path) -> Result<Self, CommandError> {
        // Files that are equal on disk and staged need not be read from git.
        let differing = names(root, &["diff", "--name-only", "--relative", "-z"])?;
        let text = |path: &PathBuf| ask(root, &["show", &format!(":./{}", path.to_string_lossy())]).ok();
        let mut texts: HashMap<_, _> = differing.into_iter().map(|path| (path.clone(), text(&path))).collect();
        // Files that git does not know are not in the commit.
        let unknown = names(root, &["ls-files", "--others", "--exclude-standard", "-z"])?;
        texts.extend(unknown.into_iter().map(|path| (path, None)));
        Ok(Self { disk, texts })
    }
}

impl<F: FileSystem> FileSystem for StagedFiles<F> {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        match self.texts.get(path) {
            Some(Some(text)) => Ok(text.clone()),
            Some(None) => Err(io::Error::new(io::ErrorKind::NotFound, "git would not commit it")),
            None => self.disk.read(path),
        }
    }

    fn read_data(&self, path: &Path) -> io::Result<Vec<u8>> {
        check_readable(path)?;
        match self.texts.contains_key(path) {
            true => self.read(path),
            false => self.disk.read_data(path),
        }
    }

    fn read_private(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.disk.read_private(path)
    }
}

fn names(root: &Path, arguments: &[&str]) -> Result<Vec<PathBuf>, CommandError> {
    let said = ask(root, arguments)?;
    let said = String::from_utf8_lossy(&said).into_owned();
    Ok(said.split('\0').filter(|path| !path.is_empty()).map(PathBuf::from).collect())
}

fn ask(root: &Path, arguments: &[&str]) -> Result<Vec<u8>, CommandError> {
    if git::checkout_of(root).is_none() {
        return Err(CommandError::refused_with(
            "cannot list staged files: not a git repository",
            "run `git init` to create one",
        ));
    }
    let asked = git::command(root, arguments).output();
    let output = asked.map_err(|error| CommandError::refused(format!("cannot list staged files: {error}")))?;
    if output.status.success() {
        return Ok(output.stdout);
    }
    let said = String::from_utf8_lossy(&output.stderr);
    let said = said.lines().next().unwrap_or("it failed").trim_start_matches("fatal: ");
    Err(CommandError::refused(format!("cannot list staged files: {said}")))
}
