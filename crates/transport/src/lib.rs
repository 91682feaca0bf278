//! Sends prepared requests over HTTP and says how long what took. One [`Client`] keeps its
//! connections open for a whole run.

mod body;
mod client;
mod clock;
mod connect;
mod digest;
mod failure;
mod head;
mod incoming;
mod jar;
mod options;
mod proxy;
mod straight;
mod tls;
mod upload;
mod watched;

pub use body::Sink;
pub use client::Client;
pub use jar::{Jar, StoredCookie};
pub use options::{Options, Proxy};
