//! The folder `.yieldtray/` at a workspace's root. It counts only if this user created it here: one that is part of a
//! repository, an archive or a copy of another workspace is never read.

use crate::sync::sync_folder;
use crate::{Error, Key};
use ring::rand::{SecureRandom, SystemRandom};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

/// The folder at a workspace's root that holds its state.
pub const STATE_FOLDER: &str = ".yieldtray";

/// The file with the environment chosen for this checkout. A file of its own: every command asks for it, and most
/// need nothing else of the state.
const CHOSEN: &str = "environment";

/// The file that proves who made the folder, and where: a random id, sealed with the user's key and the root's
/// path, under the path itself.
const ID: &str = "id";

/// Bytes of an id.
const ID_LEN: usize = 16;

/// The longest file of the folder that is read as text, in bytes.
const MAX_ID_FILE_BYTES: u64 = 16 << 10;

/// The state folder of one workspace, which this user made for it.
#[derive(Debug)]
pub struct StateFolder {
    path: PathBuf,
    id: String,
}

impl StateFolder {
    /// The state folder of the workspace at `root`, if there is one.
    ///
    /// # Errors
    /// [`Error::Untrusted`] for a folder that is a link, belongs to someone else, or was not made here by this user.
    pub fn open(root: &Path, key_file: Option<&Path>) -> Result<Option<Self>, Error> {
        let root = root.canonicalize().map_err(|error| Error::file("cannot open the workspace", error))?;
        let path = root.join(STATE_FOLDER);
        match path.symlink_metadata() {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(Error::file(format!("cannot read `{STATE_FOLDER}`"), error)),
            Ok(about) if !about.is_dir() => {
                return Err(Error::Untrusted(format!("`{STATE_FOLDER}` is not a directory")));
            }
            Ok(about) => check_owner(&about)?,
        }
        let found = match proof(&path)? {
            // A process that was killed just after it made the folder leaves it without anything to trust.
            None if is_empty(&path) => return Ok(None),
            // Another process may have written it since.
            None => proof(&path)?,
            found => found,
        };
        match found {
            None => Err(Error::Untrusted(format!("`{STATE_FOLDER}` was not created by this user"))),
            Some(proof) => {
                let id = proof.id_at(&root, key_file)?;
                let id =
                    id.ok_or_else(|| Error::Untrusted(format!("`{STATE_FOLDER}` was not created here by this user")))?;
                Ok(Some(Self { path, id }))
            }
        }
    }

    /// The same, made if there is none: for its owner alone, with a rule that keeps it out of every repository.
    pub fn open_or_make(root: &Path, key_file: Option<&Path>) -> Result<Self, Error> {
        if let Some(folder) = Self::open(root, key_file)? {
            return Ok(folder);
        }
        let failed = |error| Error::file(format!("cannot create `{STATE_FOLDER}`"), error);
        let root = root.canonicalize().map_err(failed)?;
        let path = root.join(STATE_FOLDER);
        let mut builder = std::fs::DirBuilder::new();
        #[cfg(unix)]
        std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
        match builder.create(&path) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => make_private(&path).map_err(failed)?,
            made => made.map_err(failed)?,
        }
        seal_id(&path, &root, key_file)?;
        write_whole(&path, ".gitignore", b"*\n").map_err(failed)?;
        // Another process may have been first: the id that is there now counts.
        Self::open(&root, key_file)?.ok_or_else(|| failed(io::Error::other("it is gone again")))
    }

    /// Makes a folder that this user made elsewhere, or with an older version, the one of the workspace at `root`.
    /// Whether there was anything to take over.
    ///
    /// # Errors
    /// [`Error::Untrusted`] if nothing proves that this user made it.
    pub fn adopt(root: &Path, key_file: Option<&Path>) -> Result<bool, Error> {
        match Self::open(root, key_file) {
            Ok(_) => return Ok(false),
            Err(Error::Untrusted(_)) => {}
            Err(error) => return Err(error),
        }
        let root = root.canonicalize().map_err(|error| Error::file("cannot open the workspace", error))?;
        let path = root.join(STATE_FOLDER);
        let about = path.symlink_metadata().map_err(|error| Error::file("cannot read the state", error))?;
        let foreign = || Error::Untrusted(format!("`{STATE_FOLDER}` was not created by this user: delete it"));
        if !about.is_dir() {
            return Err(foreign());
        }
        check_owner(&about)?;
        let proof = proof(&path)?.ok_or_else(foreign)?;
        let id = proof.id_at(Path::new(&proof.root), key_file)?.ok_or_else(foreign)?;
        write_proof(&path, &root, &id, key_file, true)?;
        Ok(true)
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The random id of this state; secrets are sealed with it.
    pub(crate) fn id(&self) -> &str {
        &self.id
    }

    /// The environment that was chosen for this checkout, if one was.
    pub fn chosen_environment(&self) -> Option<String> {
        let text = read_text(&self.path.join(CHOSEN)).ok()?;
        let name = text.trim();
        (!name.is_empty()).then(|| name.to_owned())
    }

    /// What is in a file of this folder, if that is not longer than `most` bytes.
    pub fn read_file(&self, name: &str, most: u64) -> io::Result<Vec<u8>> {
        let mut bytes = Vec::new();
        std::fs::File::open(self.path.join(name))?.take(most.saturating_add(1)).read_to_end(&mut bytes)?;
        if bytes.len() as u64 > most {
            return Err(io::ErrorKind::FileTooLarge.into());
        }
        Ok(bytes)
    }

    /// Writes a file of this folder as a whole.
    pub fn write_file(&self, name: &str, bytes: &[u8]) -> Result<(), Error> {
        let written = write_whole(&self.path, name, bytes);
        written.map_err(|error| Error::file(format!("cannot write `{STATE_FOLDER}/{name}`"), error))
    }

    /// Chooses an environment for this checkout.
    pub fn choose_environment(&self, name: &str) -> Result<(), Error> {
        let written = write_whole(&self.path, CHOSEN, format!("{name}\n").as_bytes());
        written.map_err(|error| Error::file(format!("cannot write `{STATE_FOLDER}/{CHOSEN}`"), error))
    }
}

/// The content of the id file.
struct OwnershipProof {
    /// The root it was made for, as text.
    root: String,
    /// The id, sealed.
    sealed: Vec<u8>,
}

impl OwnershipProof {
    fn id_at(&self, root: &Path, key_file: Option<&Path>) -> Result<Option<String>, Error> {
        let Some(key) = Key::read(key_file.ok_or(Error::NoKey)?)? else { return Ok(None) };
        Ok(key.open(&self.sealed, place_of(root)))
    }
}

fn proof(folder: &Path) -> Result<Option<OwnershipProof>, Error> {
    let text = match read_text(&folder.join(ID)) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(Error::Untrusted(format!("cannot read `{STATE_FOLDER}/{ID}`: {error}"))),
    };
    let mut lines = text.lines();
    let (root, sealed) = (lines.next().unwrap_or_default(), lines.next().and_then(bytes_of));
    let sealed = sealed.ok_or_else(|| Error::Untrusted(format!("`{STATE_FOLDER}/{ID}` is damaged")))?;
    Ok(Some(OwnershipProof { root: root.to_owned(), sealed }))
}

fn seal_id(folder: &Path, root: &Path, key_file: Option<&Path>) -> Result<(), Error> {
    let mut id = [0; ID_LEN];
    SystemRandom::new().fill(&mut id).map_err(|_| Error::NoRandom)?;
    write_proof(folder, root, &digits_of(&id), key_file, false)
}

/// Writes the id file; one that is there already stays, unless it is to be replaced.
fn write_proof(folder: &Path, root: &Path, id: &str, key_file: Option<&Path>, replace: bool) -> Result<(), Error> {
    let key = Key::read_or_make(key_file.ok_or(Error::NoKey)?)?;
    let sealed = digits_of(&key.seal(id, place_of(root))?);
    let shown = root.to_string_lossy().replace(['\n', '\r'], "?");
    let text = format!("{shown}\n{sealed}\n");
    let written = match replace {
        true => write_whole(folder, ID, text.as_bytes()),
        false => write_new(folder, ID, text.as_bytes()),
    };
    written.map_err(|error| Error::file(format!("cannot write `{STATE_FOLDER}/{ID}`"), error))
}

/// The path that an id is bound to: at another root, it does not open.
fn place_of(root: &Path) -> Vec<u8> {
    [b"state\0", root.as_os_str().as_encoded_bytes()].concat()
}

fn is_empty(folder: &Path) -> bool {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    // Another process may be writing its first file under a temporary name.
    let counts = |name: &std::ffi::OsStr| name != ".gitignore" && !name.as_encoded_bytes().starts_with(b".tmp");
    !entries.into_iter().any(|entry| counts(&entry.file_name()))
}

#[cfg(unix)]
fn make_private(folder: &Path) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o700))
}

#[cfg(not(unix))]
fn make_private(_folder: &Path) -> io::Result<()> {
    Ok(())
}

#[cfg(unix)]
fn check_owner(about: &std::fs::Metadata) -> Result<(), Error> {
    use std::os::unix::fs::MetadataExt;
    if about.uid() != rustix::process::geteuid().as_raw() {
        return Err(Error::Untrusted(format!("`{STATE_FOLDER}` belongs to another user")));
    }
    if about.mode() & 0o022 != 0 {
        let message = format!("`{STATE_FOLDER}` can be written by others: run `chmod 700 {STATE_FOLDER}`");
        return Err(Error::Untrusted(message));
    }
    Ok(())
}

#[cfg(not(unix))]
fn check_owner(_about: &std::fs::Metadata) -> Result<(), Error> {
    Ok(())
}

/// A small text file, which may not be a link, a device or a pipe.
fn read_text(file: &Path) -> io::Result<String> {
    let about = file.symlink_metadata()?;
    if !about.is_file() || about.len() > MAX_ID_FILE_BYTES {
        return Err(io::Error::other("it is not a small file"));
    }
    let mut text = String::new();
    std::fs::File::open(file)?.take(MAX_ID_FILE_BYTES).read_to_string(&mut text)?;
    Ok(text)
}

/// Writes a file that is whole or as it was, after power loss too.
pub(crate) fn write_whole(folder: &Path, name: &str, bytes: &[u8]) -> io::Result<()> {
    let mut temporary = tempfile::NamedTempFile::new_in(folder)?;
    temporary.write_all(bytes)?;
    temporary.as_file().sync_all()?;
    temporary.persist(folder.join(name)).map_err(|error| error.error)?;
    sync_folder(folder)
}

/// The same, unless there is such a file already.
fn write_new(folder: &Path, name: &str, bytes: &[u8]) -> io::Result<()> {
    let mut temporary = tempfile::NamedTempFile::new_in(folder)?;
    temporary.write_all(bytes)?;
    temporary.as_file().sync_all()?;
    match temporary.persist_noclobber(folder.join(name)) {
        Err(error) if error.error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        Err(error) => Err(error.error),
        Ok(_) => sync_folder(folder),
    }
}

pub(crate) fn digits_of(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn bytes_of(digits: &str) -> Option<Vec<u8>> {
    let pairs = digits.as_bytes().chunks(2);
    pairs.map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()).collect()
}
