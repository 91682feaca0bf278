//! HTTP Archive 1.2: what somebody's browser or another tool recorded, read entry by entry.

mod choice;
mod common;
mod entry;
mod read;

#[cfg(test)]
mod tests;

pub use choice::EntryFilter;
pub use common::factor_out_common;
pub use entry::EntryError;
pub use read::{ArchiveError, ImportedArchive, read};
