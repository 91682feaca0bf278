//! The index of a description: named records in one file, of which only those that are asked for are read. So a large
//! description opens as quickly as a small one.
//!
//! The file: eight bytes that say what it is, the number of records, a table sorted by the hashes of the names (hash,
//! offset and length, eight bytes each, little-endian), then the records. A record is its name, a zero byte, and JSON.

use serde::Serialize;
use serde::de::DeserializeOwned;
use std::fmt;
use std::io;
use thiserror::Error;

/// The beginning of a file; the last bytes are the version of the format.
const MAGIC: &[u8; 8] = b"YTAPI\0\0\x01";

/// Bytes of an entry of the table.
const ENTRY: u64 = 24;

/// Bytes before the table.
const HEAD: u64 = 16;

/// The longest record that is read, in bytes.
const MAX_RECORD: u64 = 256 << 20;

/// Where an index is kept.
pub trait Storage: Send + Sync {
    /// Reads `length` bytes at `offset`.
    ///
    /// # Errors
    /// If they cannot be read, or there are fewer.
    fn read_at(&self, offset: u64, length: usize) -> io::Result<Vec<u8>>;
}

impl Storage for Vec<u8> {
    fn read_at(&self, offset: u64, length: usize) -> io::Result<Vec<u8>> {
        let start = usize::try_from(offset).unwrap_or(usize::MAX);
        let end = start.checked_add(length).filter(|end| *end <= self.len());
        end.map(|end| self[start..end].to_vec()).ok_or_else(|| io::ErrorKind::UnexpectedEof.into())
    }
}

/// Why an index cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum IndexError {
    /// It is of another version, or no index.
    #[error("it was written by another version")]
    Version,
    /// Part of it is missing or changed.
    #[error("it is damaged")]
    Damaged,
}

/// Collects records.
#[derive(Debug, Default)]
pub(crate) struct IndexWriter {
    entries: Vec<(u64, u64, u64)>,
    data: Vec<u8>,
}

impl IndexWriter {
    /// Adds a record. The first of a name is the one that is found.
    pub(crate) fn put(&mut self, name: &str, record: &impl Serialize) {
        let start = self.data.len();
        self.data.extend_from_slice(name.as_bytes());
        self.data.push(0);
        if serde_json::to_writer(&mut self.data, record).is_err() {
            self.data.truncate(start);
            return;
        }
        self.entries.push((hash(name), start as u64, (self.data.len() - start) as u64));
    }

    /// The file.
    pub(crate) fn finish(mut self) -> Vec<u8> {
        self.entries.sort_unstable();
        let table = self.entries.len() as u64 * ENTRY;
        let mut file = Vec::with_capacity(self.data.len() + table as usize + HEAD as usize);
        file.extend_from_slice(MAGIC);
        file.extend_from_slice(&(self.entries.len() as u64).to_le_bytes());
        for (hash, offset, length) in self.entries {
            for number in [hash, HEAD + table + offset, length] {
                file.extend_from_slice(&number.to_le_bytes());
            }
        }
        file.extend_from_slice(&self.data);
        file
    }
}

/// An index that is open.
pub(crate) struct Index {
    storage: Box<dyn Storage>,
    count: u64,
}

impl fmt::Debug for Index {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Index({} records)", self.count)
    }
}

impl Index {
    pub(crate) fn open(storage: Box<dyn Storage>) -> Result<Self, IndexError> {
        let head = storage.read_at(0, HEAD as usize).map_err(|_| IndexError::Damaged)?;
        if head.get(..8) != Some(MAGIC) {
            return Err(IndexError::Version);
        }
        Ok(Self { storage, count: number(&head[8..]) })
    }

    /// The record of that name, if there is one.
    ///
    /// # Errors
    /// [`IndexError::Damaged`] if the file is shorter than it says, or a record is not what is expected.
    pub(crate) fn get<T: DeserializeOwned>(&self, name: &str) -> Result<Option<T>, IndexError> {
        let Some(record) = self.bytes(name)? else { return Ok(None) };
        serde_json::from_slice(&record).map(Some).map_err(|_| IndexError::Damaged)
    }

    /// The same, as it is written.
    pub(crate) fn bytes(&self, name: &str) -> Result<Option<Vec<u8>>, IndexError> {
        let wanted = hash(name);
        let (mut low, mut high) = (0, self.count);
        while low < high {
            let middle = low + (high - low) / 2;
            if self.entry(middle)?.0 < wanted { low = middle + 1 } else { high = middle }
        }
        // Names with the same hash are next to each other.
        while low < self.count {
            let (hash, offset, length) = self.entry(low)?;
            if hash != wanted {
                break;
            }
            let mut record = self.record(offset, length)?;
            let end = record.iter().position(|byte| *byte == 0).ok_or(IndexError::Damaged)?;
            if &record[..end] == name.as_bytes() {
                record.drain(..=end);
                return Ok(Some(record));
            }
            low += 1;
        }
        Ok(None)
    }

    fn entry(&self, at: u64) -> Result<(u64, u64, u64), IndexError> {
        let offset = at.checked_mul(ENTRY).and_then(|offset| offset.checked_add(HEAD)).ok_or(IndexError::Damaged)?;
        let bytes = self.storage.read_at(offset, ENTRY as usize).map_err(|_| IndexError::Damaged)?;
        Ok((number(&bytes), number(&bytes[8..]), number(&bytes[16..])))
    }

    fn record(&self, offset: u64, length: u64) -> Result<Vec<u8>, IndexError> {
        let length = usize::try_from(length.min(MAX_RECORD)).unwrap_or(usize::MAX);
        self.storage.read_at(offset, length).map_err(|_| IndexError::Damaged)
    }
}

fn number(bytes: &[u8]) -> u64 {
    let mut eight = [0; 8];
    eight.copy_from_slice(&bytes[..8]);
    u64::from_le_bytes(eight)
}

fn hash(name: &str) -> u64 {
    number(blake3::hash(name.as_bytes()).as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample() -> Vec<u8> {
        let mut writer = IndexWriter::default();
        for number in 0..500 {
            writer.put(&format!("lot:{number}"), &number);
        }
        writer.finish()
    }

    #[test]
    fn what_was_put_is_found_and_nothing_else() {
        let index = Index::open(Box::new(sample())).expect("an index");
        for number in 0..500 {
            assert_eq!(index.get::<u32>(&format!("lot:{number}")), Ok(Some(number)));
        }
        assert_eq!(index.get::<u32>("lot:500"), Ok(None));
        assert_eq!(index.get::<String>("lot:7"), Err(IndexError::Damaged));
    }

    #[test]
    fn a_damaged_file_is_an_error_wherever_it_is_cut() {
        let whole = sample();
        for length in (0..whole.len()).step_by(7) {
            let cut = whole[..length].to_vec();
            match Index::open(Box::new(cut)) {
                Err(error) => assert!(matches!(error, IndexError::Damaged)),
                Ok(index) => {
                    for number in [0, 250, 499] {
                        let found = index.get::<u32>(&format!("lot:{number}"));
                        assert!(matches!(found, Ok(Some(own)) if own == number) || found == Err(IndexError::Damaged));
                    }
                }
            }
        }
        let mut other = whole;
        other[7] = 9;
        assert_eq!(Index::open(Box::new(other)).err(), Some(IndexError::Version));
    }
}
