//! Descriptions of APIs (OpenAPI 3.0 and 3.1): what they say becomes request files, environments and schemas.

mod body;
mod description;
mod operation;
mod parameters;
mod schema;
mod security;
mod servers;

#[cfg(test)]
mod tests;

pub use yieldtray_description::{DocumentError, Documents};

pub use description::{DescriptionError, ImportOptions, ImportedApi, RequestFile, import};
pub use security::{NeededValue, OauthProfile};
