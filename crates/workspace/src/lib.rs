//! Workspaces: their configuration and request files, the values that a cell sees, secrets, plans, and requests made of
//! cells.
//!
//! Text goes in, facts come out. This crate opens no socket, asks no clock and prints nothing; files are read through
//! [`yieldtray_source::files::FileSystem`].

mod cell_names;
pub mod config;
pub mod plan;
mod queries;
pub mod request;
pub mod scope;
pub mod secret;
pub mod suggest;
mod workspace;

pub(crate) use queries::{AuthLine, auth_of, lines_over, shared_labels};
pub use queries::{says_insecure, uses_oauth2};
pub use workspace::{COMMON_FILE, CellId, SourceFile, Workspace};
