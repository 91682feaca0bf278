//! Descriptions of APIs (OpenAPI 3.0 and 3.1): what they say becomes request files, environments and schemas.

mod body;
mod description;
mod documents;
mod operation;
mod parameters;
mod pattern;
mod sample;
mod schema;
mod security;
mod servers;

#[cfg(test)]
mod tests;

pub use description::{DescriptionError, ImportOptions, ImportedApi, RequestFile, import};
pub use documents::{DocumentError, Documents};
pub use security::{NeededValue, OauthProfile};
