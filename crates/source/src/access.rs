//! Which files of a workspace its request files may read and write. A workspace may come from a stranger: what
//! controls this tool, git or an editor, and what holds private values, is out of their reach.

use std::io;
use std::path::Path;

/// The name of the configuration at a workspace's root.
pub const CONFIG_FILE: &str = "yieldtray.toml";

/// The name of the private configuration beside it, which no repository keeps.
pub const LOCAL_FILE: &str = "yieldtray.local.toml";

/// Refuses to read `path`, which is relative to the root and has no `..`, if a request file must not.
///
/// # Errors
/// For hidden files and folders and for configurations; the error says why.
pub fn check_readable(path: &Path) -> io::Result<()> {
    match hidden_part(path) {
        Some(part) => Err(refused(format!("`{part}` is hidden: request files cannot read hidden files"))),
        None if is_configuration(path) => Err(refused("request files cannot read configuration files".to_owned())),
        None => Ok(()),
    }
}

/// Refuses to write `path` if what a request file saves must not go there.
///
/// # Errors
/// For hidden files and folders, configurations and request files; the error says why.
pub fn check_writable(path: &Path) -> io::Result<()> {
    match hidden_part(path) {
        Some(part) => Err(refused(format!("`{part}` is hidden: hidden files cannot be written"))),
        None if is_configuration(path) => Err(refused("configuration files cannot be overwritten".to_owned())),
        None if has_extension(path, "http") => Err(refused("request files cannot be overwritten".to_owned())),
        None => Ok(()),
    }
}

/// The part of a path that begins with a dot.
fn hidden_part(path: &Path) -> Option<String> {
    let parts = path.components().map(|part| part.as_os_str().to_string_lossy());
    parts.into_iter().find(|part| part.starts_with('.')).map(|part| part.into_owned())
}

/// True if a file has the name of a configuration of this tool, of this version or of one to come. Compared without
/// regard to case, since some file systems have none.
fn is_configuration(path: &Path) -> bool {
    let name = path.file_name().map(|name| name.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
    name == CONFIG_FILE || name == LOCAL_FILE || (name.starts_with("yieldtray") && name.ends_with(".toml"))
}

fn has_extension(path: &Path, extension: &str) -> bool {
    path.extension().is_some_and(|own| own.eq_ignore_ascii_case(extension))
}

fn refused(message: String) -> io::Error {
    io::Error::new(io::ErrorKind::PermissionDenied, message)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hidden_files_and_configurations_are_out_of_reach() {
        let refused = [
            ".env",
            "a/.git/config",
            ".yieldtray/state.db",
            "yieldtray.toml",
            "sub/Yieldtray.LOCAL.toml",
            "yieldtray.ci.toml",
        ];
        for path in refused {
            assert!(check_readable(Path::new(path)).is_err(), "{path}");
            assert!(check_writable(Path::new(path)).is_err(), "{path}");
        }
        for path in ["stock.csv", "a/b.json", "requests/a.http", "notes.toml"] {
            assert!(check_readable(Path::new(path)).is_ok(), "{path}");
        }
        assert!(check_writable(Path::new("saved/label.png")).is_ok());
        assert!(check_writable(Path::new("saved/a.HTTP")).is_err());
    }
}
