//! OAuth 2.0 (RFC 6749) without input and output: a [`TokenFlow`] says what to send, show or wait for next, and takes what came
//! back, until there is a token.

mod assertion;
mod authorization;
mod device;
mod error;
mod flow;
mod form;
mod id_token;
mod metadata;
mod params;
mod redirect_address;
mod response;
mod revocation;
mod token;

pub use authorization::{BrowserSignIn, RedirectOutcome};
pub use device::DeviceSignIn;
pub use error::TokenError;
pub use flow::{Step, TokenFlow};
pub use params::{AssertionKey, Client, ClientAuth, Endpoints, Grant, TokenParams};
pub use redirect_address::{NotLoopback, RedirectAddress};
pub use revocation::RevocationFlow;
pub use token::{Token, TokenKind};
