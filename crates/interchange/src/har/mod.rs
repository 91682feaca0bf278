//! HTTP Archive 1.2: what somebody's browser or another tool recorded, read entry by entry.

mod choice;
mod entry;
mod gather;
mod read;

#[cfg(test)]
mod tests;

pub use choice::EntryFilter;
pub use entry::EntryError;
pub use gather::factor_out_common;
pub use read::{ArchiveError, ImportedArchive, read};
