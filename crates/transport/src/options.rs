//! Options of a client.

use crate::client_certificate::ClientCertificate;
use crate::tls::TlsError;
use std::path::PathBuf;
use std::time::Duration;

/// Limits and ways of a [`crate::Client`].
#[derive(Clone, Debug)]
pub struct Options {
    /// How many bytes of a body are held, after content codings are taken off.
    pub body_limit: u64,
    /// How long connecting may take, TLS not included; the time limit of the exchange holds besides.
    pub connect_timeout: Option<Duration>,
    /// Whether the names of header fields are sent as they are written, and not in lower case: over HTTP/1.1 without a proxy.
    pub keep_header_case: bool,
    /// Whether connecting is timed. The library then copies its connector for every request, connected
    /// or not, which a long run need not pay for.
    pub time_connecting: bool,
    /// The proxy.
    pub proxy: Proxy,
    /// Hosts that are sent to without the proxy, separated by commas.
    pub no_proxy: Option<String>,
    /// A file of certificates (PEM) that are trusted beside the system's.
    pub ca: Option<PathBuf>,
    /// The client's certificate.
    pub certificate: Option<ClientCertificate>,
    /// A Unix socket that everything is sent to.
    pub socket: Option<PathBuf>,
}

/// Which proxy requests go through.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Proxy {
    /// The one that `http_proxy`, `https_proxy` or `all_proxy` names, unless `no_proxy` does.
    #[default]
    Surroundings,
    /// None.
    Off,
    /// This one.
    Address(String),
}

impl Options {
    /// Whether the files of certificates and keys can be read, and hold what they should.
    ///
    /// # Errors
    /// The first file that cannot be used.
    pub fn check_files(&self) -> Result<(), TlsError> {
        crate::tls::check_files(self.ca.as_deref(), self.certificate.as_ref())
    }
}

impl Default for Options {
    fn default() -> Self {
        Self {
            body_limit: 64 << 20,
            connect_timeout: None,
            keep_header_case: false,
            time_connecting: true,
            proxy: Proxy::Surroundings,
            no_proxy: None,
            ca: None,
            certificate: None,
            socket: None,
        }
    }
}
