//! A cell and the values it sees become a [`Prepared`] request, in which nothing is unresolved.

mod auth;
mod body;
mod contradictions;
mod destination;
mod multipart;
mod oauth2;
mod place;
mod prepare;
mod sending;
mod target;
mod write;

#[cfg(test)]
mod tests;

pub(crate) use contradictions::contradictions;
pub(crate) use oauth2::{Granted, token_request, unknown_profile};
pub use oauth2::{Token, TokenRequest, Tokens};
pub(crate) use place::Place;
pub use prepare::{Extras, Made, prepare};
pub use sending::configured;
