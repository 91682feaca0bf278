//! Quarantines a damaged state file.

use crate::Error;
use crate::folder::STATE_FOLDER;
use crate::store::FILE;
use std::path::{Path, PathBuf};

/// Renames a damaged state file, with the files that SQLite keeps beside it, so that a new one can be created. Nothing
/// is deleted. Returns the new name relative to the workspace's root; `None` if the file is gone, since another
/// process was first.
pub fn quarantine(root: &Path) -> Result<Option<PathBuf>, Error> {
    let folder = root.join(STATE_FOLDER);
    let free = (1..).map(|number| format!("state-damaged-{number}.db")).find(|name| !folder.join(name).exists());
    let name = free.unwrap_or_default();
    let failed = |error| Error::file(format!("cannot rename the damaged `{STATE_FOLDER}/{FILE}`"), error);
    match std::fs::rename(folder.join(FILE), folder.join(&name)) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        renamed => renamed.map_err(failed)?,
    }
    for beside in ["-wal", "-shm"] {
        match std::fs::rename(folder.join(format!("{FILE}{beside}")), folder.join(format!("{name}{beside}"))) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(failed(error)),
            _ => {}
        }
    }
    Ok(Some(Path::new(STATE_FOLDER).join(name)))
}
