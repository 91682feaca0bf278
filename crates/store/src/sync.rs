//! Making sure that files are on disk.

use std::io;
use std::path::Path;

/// Makes a new name in a folder last.
pub(crate) fn sync_folder(folder: &Path) -> io::Result<()> {
    match cfg!(unix) {
        true => std::fs::File::open(folder)?.sync_all(),
        false => Ok(()),
    }
}
