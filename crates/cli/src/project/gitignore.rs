//! The rules that keep private files out of git.

use crate::error::CommandError;
use crate::files;
use anyhow::Context;
use std::path::Path;

/// Files that git must ignore: private values, and the tool's state.
const IGNORED: &[&str] = &["yieldtray.local.toml", ".yieldtray/"];

/// Adds what is missing to the folder's `.gitignore`.
pub(crate) fn ensure_gitignore(folder: &Path) -> Result<(), CommandError> {
    let path = folder.join(".gitignore");
    let mut text = std::fs::read_to_string(&path).unwrap_or_default();
    let missing: Vec<&str> =
        IGNORED.iter().copied().filter(|rule| !text.lines().any(|line| line.trim() == *rule)).collect();
    if missing.is_empty() {
        return Ok(());
    }
    if !text.is_empty() && !text.ends_with('\n') {
        text.push('\n');
    }
    for rule in missing {
        text.push_str(rule);
        text.push('\n');
    }
    Ok(files::replace(&path, text.as_bytes()).with_context(|| format!("cannot write `{}`", path.display()))?)
}
