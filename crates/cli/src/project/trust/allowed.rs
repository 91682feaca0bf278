//! The workspaces that the user has allowed: a small file for each in the user's state folder.

use crate::error::CommandError;
use crate::files;
use anyhow::Context;
use std::path::{Path, PathBuf};

/// The longest of these files, in bytes.
const MAX_RECORD_BYTES: u64 = 16 << 10;

/// A workspace that is allowed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Allowance {
    /// Its root, without links.
    pub(crate) root: PathBuf,
    /// The digest of what was allowed.
    pub(crate) digest: String,
}

/// All of them.
pub(crate) struct Allowed(PathBuf);

impl Allowed {
    /// The records of this user; `None` without a home folder.
    pub(crate) fn of_user() -> Option<Self> {
        Some(Self(super::user_folder()?.join("allowed")))
    }

    /// The same, where there must be a home.
    pub(crate) fn expected() -> Result<Self, CommandError> {
        let hint = "set HOME or XDG_STATE_HOME, or pass `--allow` each time";
        Self::of_user().ok_or_else(|| CommandError::refused_with("no home directory to store this in", hint))
    }

    /// The allowed digest of the workspace at `root`.
    pub(crate) fn find(&self, root: &Path) -> Option<Allowance> {
        read(&self.file(root)).filter(|found| found.root == root)
    }

    /// Remembers an allowance in place of one of the same root.
    pub(crate) fn put(&self, allowance: &Allowance) -> Result<(), CommandError> {
        let write = || -> std::io::Result<()> {
            make_private_folder(&self.0)?;
            let text = format!("{}\n{}\n", allowance.digest, files::path_to_text(&allowance.root));
            files::replace_private(&self.file(&allowance.root), text.as_bytes())
        };
        Ok(write().with_context(|| format!("cannot write to `{}`", self.0.display()))?)
    }

    /// Forgets the allowance of a root; whether there was one.
    pub(crate) fn remove(&self, root: &Path) -> Result<bool, CommandError> {
        match std::fs::remove_file(self.file(root)) {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(CommandError::refused(format!("cannot remove the permission: {error}"))),
        }
    }

    /// Every allowance, by root.
    pub(crate) fn all(&self) -> Vec<Allowance> {
        let entries = std::fs::read_dir(&self.0).into_iter().flatten().flatten();
        let mut all: Vec<Allowance> = entries.filter_map(|entry| read(&entry.path())).collect();
        all.sort_by(|a, b| a.root.cmp(&b.root));
        all
    }

    fn file(&self, root: &Path) -> PathBuf {
        self.0.join(&blake3::hash(root.as_os_str().as_encoded_bytes()).to_hex()[..32])
    }
}

fn read(file: &Path) -> Option<Allowance> {
    let text = String::from_utf8(files::read_regular(file, MAX_RECORD_BYTES).ok()?).ok()?;
    let (digest, root) = text.split_once('\n')?;
    Some(Allowance { root: files::path_from_text(root.trim_end_matches('\n'))?, digest: digest.to_owned() })
}

fn make_private_folder(folder: &Path) -> std::io::Result<()> {
    let mut builder = std::fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder.create(folder)
}
