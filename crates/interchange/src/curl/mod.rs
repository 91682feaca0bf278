//! Commands of curl, a plain transfer program, as people paste them: read as a shell reads them.

mod options;
mod read;

#[cfg(test)]
mod tests;

pub use read::{Command, ReadFile, commands, commands_with, read, why_no_request};
