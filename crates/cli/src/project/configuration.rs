//! A workspace with nothing but its configuration.

use super::disk::Disk;
use super::trust::Trust;
use crate::error::CommandError;
use anyhow::Context;
use std::path::Path;
use yieldtray_workspace::Workspace;

/// The workspace at `root` with nothing but its configuration, to know what it would reach.
pub(crate) fn read_configuration(root: &Path) -> Result<Workspace, CommandError> {
    let disk = Disk::new(root, &Trust::default()).with_context(|| format!("cannot open `{}`", root.display()))?;
    Ok(Workspace::open(Box::new(disk)).explaining_commands(yieldtray_interchange::curl::why_no_request))
}
