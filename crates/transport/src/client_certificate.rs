//! The certificate by which a client shows who it is.

use std::fmt;
use std::path::PathBuf;

/// A client's certificate and its key.
#[derive(Clone)]
pub struct ClientCertificate {
    /// The file of the certificate chain (PEM), or of chain and key (PKCS#12).
    pub chain: PathBuf,
    /// The file of the key (PEM), which may be the same.
    pub key: PathBuf,
    /// The password of an encrypted key.
    pub password: Option<String>,
}

impl fmt::Debug for ClientCertificate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ClientCertificate({})", self.chain.display())
    }
}
