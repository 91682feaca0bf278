//! Commands of curl, a plain transfer program, as people paste them: read as a shell reads them, and written as cells
//! that send the same.

mod cell;
mod options;
mod read;
mod words;

#[cfg(test)]
mod tests;

pub use cell::cell;
pub use read::{Transfer, read};
pub use words::{extent, is_command};
