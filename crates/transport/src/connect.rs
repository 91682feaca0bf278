//! The HTTP library's clients: one a way of speaking, made when it is first needed.

use crate::options::{Options, Proxy};
use crate::timing::{TimedConnections, TimedResolver};
use crate::tls::{self, TlsError, Trust};
use std::sync::OnceLock;
use thiserror::Error;
use yieldtray_http::{HttpVersion, PreparedRequest};

/// Why a client cannot be made.
#[derive(Debug, Error)]
pub(crate) enum ClientError {
    #[error(transparent)]
    Tls(#[from] TlsError),
    #[error("cannot use the proxy: {0}")]
    Proxy(reqwest::Error),
    #[cfg(not(unix))]
    #[error("Unix sockets are not supported on this system")]
    NoUnixSockets,
    #[error("cannot create the HTTP client: {0}")]
    Build(reqwest::Error),
}

/// By version, by whether certificates are verified, and by whether the client's certificate may be shown.
#[derive(Debug, Default)]
pub(crate) struct Clients([[[OnceLock<reqwest::Client>; 2]; 2]; 3]);

impl Clients {
    /// The client that speaks as `prepared` wants.
    pub(crate) fn of(&self, prepared: &PreparedRequest, options: &Options) -> Result<&reqwest::Client, ClientError> {
        let version = match prepared.version {
            None => 0,
            Some(HttpVersion::Http11) => 1,
            Some(HttpVersion::Http2) => 2,
        };
        let insecure = prepared.sending.insecure;
        let certificate = options.certificate.as_ref().filter(|_| prepared.sending.certificate);
        let slot = &self.0[version][usize::from(insecure)][usize::from(certificate.is_some())];
        if let Some(client) = slot.get() {
            return Ok(client);
        }
        let trust = Trust { ca: options.ca.as_deref(), certificate, insecure };
        let client = make(prepared.version, &trust, options)?;
        Ok(slot.get_or_init(|| client))
    }
}

fn make(version: Option<HttpVersion>, trust: &Trust<'_>, options: &Options) -> Result<reqwest::Client, ClientError> {
    let protocols: &[&[u8]] = match version {
        None => &[b"h2", b"http/1.1"],
        Some(HttpVersion::Http11) => &[b"http/1.1"],
        Some(HttpVersion::Http2) => &[b"h2"],
    };
    let mut builder = reqwest::Client::builder()
        .tls_backend_preconfigured(tls::config(protocols, trust)?)
        .redirect(reqwest::redirect::Policy::none())
        .referer(false)
        .dns_resolver(TimedResolver);
    builder = match &options.proxy {
        Proxy::Off => builder.no_proxy(),
        Proxy::Surroundings => builder,
        Proxy::Address(address) => {
            let proxy = reqwest::Proxy::all(address).map_err(ClientError::Proxy)?;
            let except = options.no_proxy.as_deref().and_then(reqwest::NoProxy::from_string);
            builder.proxy(proxy.no_proxy(except))
        }
    };
    #[cfg(unix)]
    if let Some(socket) = &options.socket {
        builder = builder.unix_socket(socket.as_path());
    }
    #[cfg(not(unix))]
    if options.socket.is_some() {
        return Err(ClientError::NoUnixSockets);
    }
    if let Some(limit) = options.connect_timeout {
        builder = builder.connect_timeout(limit);
    }
    if options.time_connecting {
        builder = builder.connector_layer(TimedConnections);
    }
    builder = match version {
        None => builder,
        Some(HttpVersion::Http11) => builder.http1_only(),
        Some(HttpVersion::Http2) => builder.http2_prior_knowledge(),
    };
    builder.build().map_err(ClientError::Build)
}
