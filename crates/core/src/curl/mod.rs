//! Commands of curl, a plain transfer program, as people paste them: read as a shell reads them.

mod options;
mod read;
mod words;

#[cfg(test)]
mod tests;

pub use read::{Command, ReadFile, commands, commands_with, read};
pub use words::{extent, is_command};
