//! A cell and the values it sees become a [`Prepared`] request, in which nothing is unresolved.

mod auth;
mod body;
mod content;
mod contradictions;
mod destination;
mod multipart;
mod oauth2;
mod place;
mod prepare;
mod prepared;
mod redirect;
mod sending;
mod target;
mod wire;
mod write;

#[cfg(test)]
mod tests;

pub use auth::Login;
pub use content::{Content, FilePiece, Piece};
pub(crate) use contradictions::contradictions;
pub(crate) use oauth2::{Granted, token_request, unknown_profile};
pub use oauth2::{Token, TokenRequest, Tokens};
pub(crate) use place::Place;
pub use prepare::{Extras, Made, prepare};
pub use prepared::{Fields, Prepared};
pub use redirect::{Redirect, next_hop};
pub use sending::Sending;
pub(crate) use sending::{AuthLine, auth_of};
pub use sending::{says_insecure, uses_oauth2};
