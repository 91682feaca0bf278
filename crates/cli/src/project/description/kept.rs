//! What the state keeps of descriptions: an index of each, and where it came from.

use super::DescriptionContext;
use crate::clock::now;
use crate::error::CommandError;
use crate::project::state::key_file;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io;
use std::path::Path;
use std::time::UNIX_EPOCH;
use yieldtray_description::{Api, IndexError, Storage, index};
use yieldtray_source::files::{FileSystem, normalize};
use yieldtray_source::hex::encode;
use yieldtray_store::StateFolder;

/// The longest text about an index, in bytes.
const MAX_ABOUT: u64 = 64 << 10;

/// Where and when a description was fetched.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct FetchedFrom {
    /// The URL, or the path of the file.
    pub(crate) from: String,
    /// When, in seconds since 1970.
    pub(crate) at: i64,
    /// The validator of the response (RFC 9110 8.8.3).
    pub(crate) etag: Option<String>,
    /// How many bytes the description has.
    pub(crate) bytes: u64,
    /// When the file was changed, in nanoseconds since 1970.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) modified: Option<u128>,
}

/// An index of the state.
pub(super) struct KeptIndex {
    pub(super) api: Api,
    pub(super) from: FetchedFrom,
}

/// A file that is read where it is asked for.
struct FileStorage(File);

impl Storage for FileStorage {
    #[cfg(unix)]
    fn read_at(&self, offset: u64, length: usize) -> io::Result<Vec<u8>> {
        use std::os::unix::fs::FileExt;
        // A damaged file may ask for more than there is.
        if length as u64 > self.0.metadata()?.len() {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let mut bytes = vec![0; length];
        self.0.read_exact_at(&mut bytes, offset)?;
        Ok(bytes)
    }

    #[cfg(not(unix))]
    fn read_at(&self, offset: u64, length: usize) -> io::Result<Vec<u8>> {
        use std::io::{Read, Seek, SeekFrom};
        if length as u64 > self.0.metadata()?.len() {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let mut file = self.0.try_clone()?;
        file.seek(SeekFrom::Start(offset))?;
        let mut bytes = vec![0; length];
        file.read_exact(&mut bytes)?;
        Ok(bytes)
    }
}

impl KeptIndex {
    /// What the state has of a description in the chosen environment, if anything. One of another version counts as
    /// none: it is made again.
    pub(super) fn open(context: DescriptionContext<'_>, name: &str) -> Result<Option<Self>, CommandError> {
        let Some(folder) = StateFolder::open(context.root, key_file().as_deref())? else { return Ok(None) };
        let [index, about] = names(context, name);
        let Ok(about) = folder.read_file(&about, MAX_ABOUT) else { return Ok(None) };
        let Ok(from) = serde_json::from_slice(&about) else { return Ok(None) };
        let file = match File::open(folder.path().join(index)) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(CommandError::refused(format!("cannot read the index of the API: {error}"))),
        };
        match Api::open(Box::new(FileStorage(file))) {
            Ok(api) => Ok(Some(Self { api, from })),
            Err(IndexError::Version | IndexError::Damaged) => Ok(None),
        }
    }
}

/// The files of a description in the chosen environment: its index, and what is known about it.
fn names(context: DescriptionContext<'_>, name: &str) -> [String; 2] {
    let environment = context.environment().unwrap_or_default();
    let mark = encode(&blake3::hash(environment.as_bytes()).as_bytes()[..6]);
    [format!("api-{name}-{mark}.index"), format!("api-{name}-{mark}.json")]
}

/// Keeps the index of a description in the state.
pub(crate) fn keep(
    context: DescriptionContext<'_>,
    name: &str,
    index: &[u8],
    from: &FetchedFrom,
) -> Result<(), CommandError> {
    let folder = StateFolder::open_or_make(context.root, key_file().as_deref())?;
    let [index_name, about] = names(context, name);
    // What is known about the old one must not be taken for that of the new one.
    folder.write_file(&about, b"")?;
    folder.write_file(&index_name, index)?;
    folder.write_file(&about, serde_json::to_string(from).unwrap_or_default().as_bytes())?;
    Ok(())
}

/// Opens a file of the workspace, by the index that was made of it if the file is still the same.
pub(super) fn index_file(context: DescriptionContext<'_>, name: &str, path: &str) -> Result<Api, CommandError> {
    let refused =
        |error: &dyn std::fmt::Display| CommandError::refused(format!("cannot read the description `{path}`: {error}"));
    let files = context.inputs.files;
    let inside = normalize(Path::new(path)).ok_or_else(|| refused(&"it is outside the workspace"))?;
    let (place, size) = files.locate_data(&inside).map_err(|error| refused(&error))?;
    let modified = place.metadata().and_then(|about| about.modified()).ok();
    let modified = modified.and_then(|time| time.duration_since(UNIX_EPOCH).ok()).map(|time| time.as_nanos());
    let from = FetchedFrom { from: path.to_owned(), at: now(), etag: None, bytes: size, modified };
    let same = |kept: &FetchedFrom| kept.from == from.from && kept.bytes == size && kept.modified == modified;
    if let Ok(Some(kept)) = KeptIndex::open(context, name)
        && modified.is_some()
        && same(&kept.from)
    {
        return Ok(kept.api);
    }
    let bytes = files.read_data(&inside).map_err(|error| refused(&error))?;
    let made = index(&bytes, |other| read_beside(files, &inside, other)).map_err(|error| refused(&error))?;
    // Without a state folder it is made again the next time.
    let _ = keep(context, name, &made, &from);
    Api::open(Box::new(made)).map_err(|error| refused(&error))
}

/// A file that the description refers to, inside the workspace.
fn read_beside(files: &dyn FileSystem, description: &Path, other: &str) -> io::Result<Vec<u8>> {
    let folder = description.parent().map(Path::to_owned).unwrap_or_default();
    let inside = normalize(&folder.join(other)).ok_or_else(|| io::Error::other("it is outside the workspace"))?;
    files.read_data(&inside)
}

/// Notes when a description was found to be unchanged.
pub(crate) fn touch(context: DescriptionContext<'_>, name: &str, from: &FetchedFrom) -> Result<(), CommandError> {
    let folder = StateFolder::open_or_make(context.root, key_file().as_deref())?;
    let [_, about] = names(context, name);
    Ok(folder.write_file(&about, serde_json::to_string(from).unwrap_or_default().as_bytes())?)
}
