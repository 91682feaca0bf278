//! Sends prepared requests over HTTP and says how long what took. One [`Client`] keeps its
//! connections open for a whole run.

mod body;
mod client;
mod clock;
mod failure;
mod tls;

pub use client::{Client, Options};
