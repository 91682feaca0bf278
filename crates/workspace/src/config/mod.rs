//! The configuration: `yieldtray.toml` and `yieldtray.local.toml`, read, checked and edited.

mod edit;
mod env_settings;
mod lint_settings;
mod log_settings;
mod model;
mod outside;
mod private;
mod profile;
mod reader;
mod send_settings;
mod user_functions;
mod value_source;
mod variables;

pub use edit::{Additions, EditError, add_described, add_environment_like, add_secrets};
pub use env_settings::EnvSettings;
pub use lint_settings::LintSettings;
pub use log_settings::LogSettings;
pub use model::{Config, Environment, Tint, unknown_environment};
pub use outside::{OutsideKind, OutsideSetting};
pub use private::{values_covered, without_values};
pub use profile::{Profile, ProfileEntry};
pub use send_settings::{SendSettings, Setting};
pub use value_source::{Absent, Entry, Given, Outside};
pub(crate) use variables::how_to_read;
pub use variables::{Variables, is_listed};
