//! A cell and the values it sees become a [`Prepared`] request, in which nothing is unresolved.

mod auth;
mod body;
mod content;
mod contradictions;
mod destination;
mod login;
mod multipart;
mod oauth2;
mod options;
mod place;
mod prepare;
mod prepared;
mod redirect;
mod sending;
mod target;
mod version;
mod wire;
mod write;

#[cfg(test)]
mod tests;

pub use content::{Content, FilePiece, Piece};
pub(crate) use contradictions::contradictions;
pub use login::Login;
pub(crate) use oauth2::{Granted, token_request, unknown_profile};
pub use oauth2::{Token, TokenRequest, Tokens};
pub use options::Sending;
pub(crate) use place::Place;
pub use prepare::{Extras, Made, prepare};
pub use prepared::{Fields, Prepared};
pub use redirect::{Redirect, next_hop};
pub use sending::configured;
pub use version::HttpVersion;
