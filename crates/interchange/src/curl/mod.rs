//! Commands of curl, a plain transfer program, as people paste them: read as a shell reads them.

mod encode;
mod error;
mod options;
mod read;
mod reader;

#[cfg(test)]
mod tests;

pub use error::{CurlError, ReadFileError};
pub use read::{Command, commands, commands_with, read, why_no_request};
pub use reader::ReadFile;
