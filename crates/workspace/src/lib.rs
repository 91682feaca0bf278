//! Workspaces: their configuration and request files, the values that a cell sees, secrets, plans, and requests made of
//! cells.
//!
//! Text goes in, facts come out. This crate opens no socket, asks no clock and prints nothing; files are read through
//! [`yieldtray_source::files::FileSystem`].

mod apis;
mod cell_names;
pub mod config;
mod described;
mod edit;
mod file_set;
mod graphql_document;
mod key_cache;
pub mod plan;
mod queries;
pub mod request;
pub mod scope;
mod sealed_file;
pub mod secret;
mod source_file;
pub mod suggest;
mod workspace;

pub use apis::{ApiInputs, ApiLoader, LoadedApi};
pub use described::{CONTRACT_LABEL, ContractCheck, contract_checks, graphql_api_of, operation_of};
pub use file_set::COMMON_FILE;
pub use graphql_document::{GraphQlDocument, graphql_document};
pub(crate) use queries::{AuthLine, auth_of, effective_instructions, shared_labels, sign_line};
pub use queries::{says_insecure, uses_oauth2};
pub use sealed_file::{SealedFile, SealedFileError};
pub use source_file::SourceFile;
pub use workspace::{CellId, Workspace};
