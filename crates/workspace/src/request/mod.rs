//! A cell and the values it sees become a [`yieldtray_http::Prepared`] request, in which nothing is unresolved.

mod auth;
mod body;
mod contradictions;
mod destination;
mod encoding;
mod multipart;
mod oauth2;
mod prepare;
mod sending;
mod target;
mod write;

pub(crate) use contradictions::contradictions;
pub use encoding::{Place, Surroundings};
pub(crate) use oauth2::unknown_profile;
pub use oauth2::{Granted, Token, TokenRequest, Tokens, token_request};
pub use prepare::{Extras, Made, prepare};
pub use sending::configured;
