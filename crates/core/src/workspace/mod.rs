//! A workspace: its configuration, its files with the `_common.http` files above them, and the look-up
//! of values in the order the language gives.

mod cell_names;
mod config;
mod config_edit;
mod config_reader;
mod env_settings;
mod given;
mod lint_settings;
mod log_settings;
mod lookup;
mod missing;
mod outside;
mod own_functions;
mod private;
mod profile;
mod queries;
mod response;
mod rows;
mod send_settings;
mod source;
pub(crate) mod suggest;
mod survey;
mod tray;
mod uses;
mod variables;

#[cfg(test)]
mod tests;

pub use config::{Config, Environment, Tint, unknown_environment};
pub use config_edit::{Additions, EditError, add_described, add_environment_like, add_secrets};
pub use env_settings::EnvSettings;
pub use given::{Absent, Entry, Given, Outside};
pub use lint_settings::LintSettings;
pub use log_settings::LogSettings;
pub(crate) use lookup::compile;
pub use lookup::{Answers, Found, Lookup, Memo, Reach, Settings, Stage};
pub use outside::{OutsideKind, OutsideSetting};
pub use private::{values_covered, without_values};
pub use profile::{Profile, ProfileEntry};
pub(crate) use queries::{AuthLine, auth_of, lines_over, shared_labels};
pub use queries::{says_insecure, uses_oauth2};
pub(crate) use response::Made;
pub use response::ResponseNames;
pub(crate) use rows::Rows;
pub use send_settings::{SendSettings, Setting};
pub use source::{COMMON_FILE, CellId, Source, Workspace};
pub use survey::{Across, Origin, OriginKind, Row, Value as Shown, across, survey, survey_one};
pub use tray::{Tray, Yielded};
pub(crate) use uses::PlayedWith;
pub use uses::{NameUse, Placed, yields};
pub use variables::{Variables, is_listed};
