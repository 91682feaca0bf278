use crate::Error;
use std::io::Write;
use std::path::{Path, PathBuf};

/// The folder at a workspace's root that holds its state.
pub const STATE_FOLDER: &str = ".yieldtray";

/// The file with the environment chosen for this checkout. A file of its own: every command asks for
/// it, and most need nothing else of the state.
const CHOSEN: &str = "environment";

/// Makes the folder, for its owner alone, with a rule that keeps it out of every repository.
pub fn make(root: &Path) -> Result<PathBuf, Error> {
    let folder = root.join(STATE_FOLDER);
    if folder.is_dir() {
        return Ok(folder);
    }
    let mut builder = std::fs::DirBuilder::new();
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    let make = || match builder.create(&folder) {
        // Another process was first.
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Ok(()),
        Err(error) => Err(error),
        Ok(()) => std::fs::write(folder.join(".gitignore"), "*\n"),
    };
    make().map_err(|error| Error::file(format!("cannot make `{STATE_FOLDER}`"), error))?;
    Ok(folder)
}

/// The environment that was chosen for this checkout, if one was.
pub fn chosen_environment(root: &Path) -> Option<String> {
    let text = std::fs::read_to_string(root.join(STATE_FOLDER).join(CHOSEN)).ok()?;
    let name = text.trim();
    (!name.is_empty()).then(|| name.to_owned())
}

/// Chooses an environment for this checkout.
pub fn choose_environment(root: &Path, name: &str) -> Result<(), Error> {
    let folder = make(root)?;
    let write = || -> std::io::Result<()> {
        let mut temporary = tempfile::NamedTempFile::new_in(&folder)?;
        writeln!(temporary, "{name}")?;
        temporary.persist(folder.join(CHOSEN)).map_err(|error| error.error)?;
        Ok(())
    };
    write().map_err(|error| Error::file(format!("cannot write `{STATE_FOLDER}/{CHOSEN}`"), error))
}
