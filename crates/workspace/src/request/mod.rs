//! A cell and the values it sees become a [`yieldtray_http::PreparedRequest`] request, in which nothing is unresolved.

mod auth;
mod body;
mod conflicts;
mod destination;
mod encoding;
mod graphql;
mod keys;
mod message;
mod multipart;
mod oauth2;
mod prepare;
mod sending;
mod target;
mod undefined_profile;
mod write;

pub(crate) use conflicts::conflicts;
pub use encoding::{ContextTracker, SubstitutionContext};
pub use message::{message_from_file, message_text};
pub use oauth2::{TokenLookup, Tokens, find_token, token_params};
pub use prepare::{Overrides, PreparedWithSave, prepare};
pub use sending::configured;
pub(crate) use undefined_profile::{unknown_profile, unknown_signing_profile};
