//! Files as the client names them.

use std::path::{Path, PathBuf};

/// The file that a URI names; `None` if it is not a file URI.
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

/// The URI of a file.
pub(crate) fn address_of(path: &Path) -> String {
    url::Url::from_file_path(path).map_or_else(|()| "file:///".to_owned(), String::from)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_named_there_and_back() {
        let folder = tempfile::tempdir().expect("a folder");
        let real = folder.path().canonicalize().expect("a folder");
        for name in ["intake.http", "early apples.http", "Äpfel 100%.http", "a#b?c.http"] {
            let address = address_of(&real.join(name));
            assert!(address.starts_with("file:///") && !address.contains([' ', '#', '?']), "{address}");
            assert_eq!(path_of(&address), Some(real.join(name)));
        }
        assert_eq!(path_of("untitled:Untitled-1"), None);
        assert_eq!(path_of("http://127.0.0.1/intake.http"), None);
        assert_eq!(path_of("intake.http"), None);
    }

    #[cfg(unix)]
    #[test]
    fn a_file_is_the_same_by_whichever_way_the_client_names_it() {
        let folder = tempfile::tempdir().expect("a folder");
        let real = folder.path().canonicalize().expect("a folder");
        std::fs::create_dir(real.join("house")).expect("a folder");
        std::os::unix::fs::symlink(real.join("house"), real.join("link")).expect("a link");
        let by_link = address_of(&real.join("link/not-there-yet.http"));
        assert_eq!(path_of(&by_link), Some(real.join("house/not-there-yet.http")));
    }
}
