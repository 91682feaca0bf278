//! The configuration: `yieldtray.toml` and `yieldtray.local.toml`, read, checked and edited.

mod api_settings;
mod edit;
mod env_settings;
mod examine;
mod lint_settings;
mod log_settings;
mod model;
mod outside;
mod private;
mod profile;
mod read;
mod reader;
mod send_settings;
mod signing;
mod user_functions;
mod value_source;
mod variables;

pub use api_settings::{ApiOrigin, ApiSettings, DEFAULT_API};
pub use edit::{ConfigAdditions, EditError, add_environment_like, add_imported, add_secrets};
pub use env_settings::EnvSettings;
pub use lint_settings::LintSettings;
pub use log_settings::LogSettings;
pub use model::{Config, Environment, EnvironmentColor, unknown_environment};
pub use outside::{OutsideKind, OutsideSetting};
pub use private::{redact_keeping_offsets, redact_values};
pub use profile::{Profile, ProfileEntry};
pub use send_settings::{SendSettings, Setting};
pub use signing::SigningProfile;
pub use value_source::{ExternalSources, SourceCache, SourceError, ValueEntry, ValueSource};
pub(crate) use variables::how_to_read;
pub use variables::{Variables, is_listed};
