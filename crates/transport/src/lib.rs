//! Sends prepared requests over HTTP and says how long what took. One [`Client`] keeps its
//! connections open for a whole run.

mod body;
mod body_reader;
mod client;
mod client_certificate;
mod connect;
mod conversation;
mod digest;
mod event_stream;
mod failure;
mod head;
mod header_case;
mod incoming;
mod jar;
mod options;
mod plain_http;
mod proxy;
mod receiver;
mod redirect_listener;
mod redirects;
mod response_head;
mod sender;
mod signing;
mod timing;
mod tls;
mod upload;
mod watched;

pub use body::Sink;
pub use client::Client;
pub use client_certificate::ClientCertificate;
pub use conversation::{Conversation, NextMessage};
pub use event_stream::{EventStream, NextEvents};
pub use jar::{Jar, StoredCookie};
pub use options::{Options, Proxy};
pub use receiver::{Received, Streaming};
pub use redirect_listener::{RedirectListener, RedirectPage};
pub use tls::TlsError;
