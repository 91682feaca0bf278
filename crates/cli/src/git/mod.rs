//! Asking git. It is started only in a workspace that the user has allowed, and never runs what a repository
//! configures: a checkout may carry a folder that git takes for a repository.

mod index;

pub(crate) use index::tracks;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Git in `folder`, with these arguments and nothing to read.
pub(crate) fn command(folder: &Path, arguments: impl IntoIterator<Item = impl AsRef<OsStr>>) -> Command {
    let mut command = Command::new("git");
    command
        .args(["-c", "safe.bareRepository=explicit", "-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null"])
        .args(["--no-optional-locks"])
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::null())
        .stderr(Stdio::piped());
    command
}

/// The folder of the checkout that holds `folder`.
pub(crate) fn checkout_of(folder: &Path) -> Option<&Path> {
    folder.ancestors().find(|folder| folder.join(".git").exists())
}

/// The folder in which git keeps what it knows of a checkout.
fn repository_of(checkout: &Path) -> Option<PathBuf> {
    let git = checkout.join(".git");
    if git.is_dir() {
        return Some(git);
    }
    // A worktree or a submodule has a file that names it.
    let text = crate::files::read_regular(&git, 4096).ok()?;
    let text = String::from_utf8(text).ok()?;
    Some(checkout.join(text.strip_prefix("gitdir:")?.trim()))
}
