//! A workspace: its configuration, its files with the `_common.http` files above them, and the look-up
//! of values in the order the language gives.

mod config;
mod lookup;
mod missing;
mod source;
mod tray;

#[cfg(test)]
mod tests;

pub use config::{CONFIG_FILE, Config, Entry, Environment, unknown_environment};
pub(crate) use lookup::compile;
pub use lookup::{Lookup, Memo, Settings, Stage};
pub use source::{COMMON_FILE, CellId, Files, Source, Workspace};
pub use tray::{Tray, Yielded};
