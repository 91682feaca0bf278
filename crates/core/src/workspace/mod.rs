//! A workspace: its configuration, its files with the `_common.http` files above them, and the look-up
//! of values in the order the language gives.

mod config;
mod config_reader;
mod given;
mod lookup;
mod missing;
mod own_functions;
mod source;
mod tray;

#[cfg(test)]
mod tests;

pub use config::{CONFIG_FILE, Config, Environment, LOCAL_FILE, Tint, unknown_environment};
pub use given::{Absent, Entry, Given, Outside};
pub use lookup::{Answers, Found, Lookup, Memo, Reach, Settings, Stage};
pub(crate) use lookup::{compile, place_of_name};
pub use source::{COMMON_FILE, CellId, Files, Source, Workspace};
pub use tray::{Tray, Yielded};
