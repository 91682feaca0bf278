//! Sealing secrets: AES-256-GCM (NIST SP 800-38D) with a key in the user's own state folder.

use crate::Error;
use crate::sync::sync_folder;
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey};
use ring::rand::{SecureRandom, SystemRandom};
use std::io::Write;
use std::path::{Path, PathBuf};

/// Bytes of a key.
const KEY_LEN: usize = 32;

/// A key that seals and opens secrets. It is never printed.
pub struct Key(LessSafeKey);

impl std::fmt::Debug for Key {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Key")
    }
}

/// The path of the user's key: `$XDG_STATE_HOME/yieldtray/key`, else in `.local/state` of the home folder
/// (`%LOCALAPPDATA%` on Windows). `None` without a home folder.
pub fn user_key_file(variable: impl Fn(&str) -> Option<String>) -> Option<PathBuf> {
    user_state_folder(variable).map(|folder| folder.join("key"))
}

/// The folder of the key, and of what else is the user's own and not a workspace's.
pub fn user_state_folder(variable: impl Fn(&str) -> Option<String>) -> Option<PathBuf> {
    let set = |name: &str| variable(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let state = set("XDG_STATE_HOME")
        .or_else(|| set("LOCALAPPDATA"))
        .or_else(|| set("HOME").map(|home| home.join(".local/state")))?;
    Some(state.join("yieldtray"))
}

impl Key {
    /// The key in `file`, if it is there.
    ///
    /// # Errors
    /// If others could read or change it.
    pub fn read(file: &Path) -> Result<Option<Self>, Error> {
        let Ok(about) = file.metadata() else { return Ok(None) };
        check_private(file, &about)?;
        Ok(std::fs::read(file).ok().and_then(|bytes| Self::from_bytes(&bytes)))
    }

    /// The key in `file`, made if it is not there yet. Two processes get the same one.
    pub fn read_or_make(file: &Path) -> Result<Self, Error> {
        if let Some(key) = Self::read(file)? {
            return Ok(key);
        }
        let failed = |error| Error::file("cannot create the key that encrypts secrets", error);
        let folder = file.parent().unwrap_or(Path::new("."));
        let make = || -> std::io::Result<()> {
            std::fs::create_dir_all(folder)?;
            let mut bytes = [0; KEY_LEN];
            SystemRandom::new().fill(&mut bytes).map_err(|_| std::io::Error::other("no random bytes"))?;
            // Temporary files are for their owner alone, and stay so under their last name.
            let mut temporary = tempfile::NamedTempFile::new_in(folder)?;
            temporary.write_all(&bytes)?;
            temporary.as_file().sync_all()?;
            match temporary.persist_noclobber(file) {
                Err(error) if error.error.kind() == std::io::ErrorKind::AlreadyExists => Ok(()),
                Err(error) => Err(error.error),
                Ok(_) => sync_folder(folder),
            }
        };
        make().map_err(failed)?;
        Self::read(file)?.ok_or_else(|| failed(std::io::Error::other("it is damaged")))
    }

    fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let bytes: &[u8; KEY_LEN] = bytes.try_into().ok()?;
        UnboundKey::new(&AES_256_GCM, bytes).ok().map(|key| Self(LessSafeKey::new(key)))
    }

    /// Seals `text`; only with the same `place` does it open again.
    pub(crate) fn seal(&self, text: &str, place: impl AsRef<[u8]>) -> Result<Vec<u8>, Error> {
        let mut nonce = [0; NONCE_LEN];
        SystemRandom::new().fill(&mut nonce).map_err(|_| Error::NoRandom)?;
        let mut sealed = text.as_bytes().to_vec();
        self.0
            .seal_in_place_append_tag(Nonce::assume_unique_for_key(nonce), Aad::from(place), &mut sealed)
            .map_err(|_| Error::NoKey)?;
        sealed.splice(..0, nonce);
        Ok(sealed)
    }

    /// Opens what was sealed; `None` where the key or the place is another.
    pub(crate) fn open(&self, sealed: &[u8], place: impl AsRef<[u8]>) -> Option<String> {
        let (nonce, rest) = sealed.split_at_checked(NONCE_LEN)?;
        let nonce = Nonce::try_assume_unique_for_key(nonce).ok()?;
        let mut rest = rest.to_vec();
        let text = self.0.open_in_place(nonce, Aad::from(place), &mut rest).ok()?;
        String::from_utf8(text.to_vec()).ok()
    }
}

/// As ssh treats its keys: what others can read is not a secret any more.
#[cfg(unix)]
fn check_private(file: &Path, about: &std::fs::Metadata) -> Result<(), Error> {
    use std::os::unix::fs::MetadataExt;
    if about.mode() & 0o077 == 0 {
        return Ok(());
    }
    let shown = file.display();
    Err(Error::Untrusted(format!("the key `{shown}` can be read by other users: run `chmod 600 {shown}`")))
}

#[cfg(not(unix))]
fn check_private(_file: &Path, _about: &std::fs::Metadata) -> Result<(), Error> {
    Ok(())
}
