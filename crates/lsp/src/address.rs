//! Files as the client names them.

use std::path::{Path, PathBuf};

/// The file that an address names; `None` for one that is no file.
pub(crate) fn path_of(address: &str) -> Option<PathBuf> {
    let url = url::Url::parse(address).ok()?;
    let path = (url.scheme() == "file").then(|| url.to_file_path().ok()).flatten()?;
    // Links are followed as far as the file is there: the client may name it by another way than the disk does.
    let folder = path.parent().and_then(|folder| folder.canonicalize().ok());
    Some(match (folder, path.file_name()) {
        (Some(folder), Some(name)) => folder.join(name),
        _ => path,
    })
}

/// The address of a file.
pub(crate) fn address_of(path: &Path) -> String {
    url::Url::from_file_path(path).map_or_else(|()| "file:///".to_owned(), String::from)
}
