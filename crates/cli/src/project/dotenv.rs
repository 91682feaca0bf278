//! Variables: those of the `.env` file, and those of the process that a workspace may read.

use super::disk;
use super::trust::Trust;
use crate::args::Common;
use crate::error::CommandError;
use std::path::Path;
use yieldtray_workspace::Workspace;
use yieldtray_workspace::config::{Variables, is_listed};

/// The variables of the `.env` file at the root, and over them those of the process that the workspace may read:
/// which the command line names, or the private configuration of an allowed workspace.
pub(crate) fn variables(
    root: &Path,
    workspace: &Workspace,
    trust: &Trust,
    common: &Common,
) -> Result<Variables, CommandError> {
    let named = |name: &str| is_listed(name, &common.read_env);
    let may_read = |name: &str| named(name) || (trust.allows() && workspace.config.lets_read(name));
    let process = std::env::vars_os();
    let process = process.filter_map(|(name, value)| Some((name.into_string().ok()?, value.into_string().ok()?)));
    Ok(Variables::new(dot_env(root, trust)?, process, may_read))
}

/// The variables of `.env`. Its lines may contain secrets: an error is reported by its line number alone.
fn dot_env(root: &Path, trust: &Trust) -> Result<Vec<(String, String)>, CommandError> {
    let text = match disk::dot_env(root, trust) {
        Ok(Some(text)) => text,
        Ok(None) => return Ok(Vec::new()),
        Err(error) => return Err(CommandError::refused(format!("cannot read `.env`: {error}"))),
    };
    dotenvy::from_read_iter(text.as_bytes())
        .map(|line| {
            line.map_err(|error| {
                let at = match &error {
                    dotenvy::Error::LineParse(line, _) => text.find(line.as_str()),
                    _ => None,
                };
                let line = at.map(|at| format!(":{}", text[..at].matches('\n').count() + 1)).unwrap_or_default();
                CommandError::refused_with(
                    format!("invalid line in `.env{line}`"),
                    "expected lines such as `NAME=\"value\"`",
                )
            })
        })
        .collect()
}
