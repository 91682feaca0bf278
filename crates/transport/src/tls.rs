//! TLS whose roots are read at the first handshake: reading them takes longer than a whole plain-http
//! request.

use crate::client_certificate::ClientCertificate;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{
    ClientSessionMemoryCache, ClientSessionStore, Resumption, Tls12ClientSessionValue, Tls13ClientSessionValue,
    VerifierBuilderError, WebPkiServerVerifier, verify_server_name,
};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::{self, PemObject};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, NamedGroup, OtherError, RootCertStore, SignatureScheme,
};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use thiserror::Error;
use yieldtray_credentials::key::{Identity, KeyError, pkcs12, private_key};

/// Why TLS cannot be set up.
#[derive(Debug, Error)]
pub enum TlsError {
    /// The library refuses the settings.
    #[error("TLS cannot be set up: {0}")]
    Setup(rustls::Error),
    /// The client's certificate does not fit its key.
    #[error("cannot use the client certificate `{file}`: {error}", file = .file.display())]
    ClientCertificate {
        /// The file of the certificate.
        file: PathBuf,
        /// Why.
        error: rustls::Error,
    },
    /// The key cannot be used.
    #[error("cannot use the key in `{file}`: {error}", file = .file.display())]
    Key {
        /// The file of the key.
        file: PathBuf,
        /// Why.
        error: KeyError,
    },
    /// The file has no certificate.
    #[error("`{file}` contains no PEM certificate", file = .file.display())]
    NoCertificate {
        /// The file.
        file: PathBuf,
    },
    /// The file cannot be read.
    #[error("cannot read `{file}`: {error}", file = .file.display())]
    Read {
        /// The file.
        file: PathBuf,
        /// Why.
        error: std::io::Error,
    },
    /// The file is not PEM (RFC 7468).
    #[error("`{file}` is not valid PEM: {error}", file = .file.display())]
    Pem {
        /// The file.
        file: PathBuf,
        /// Why.
        error: pem::Error,
    },
}

/// Why no certificate of a server can be verified.
#[derive(Debug, Error)]
enum RootsError {
    #[error("a certificate in the CA file is invalid: {0}")]
    Unusable(rustls::Error),
    #[error("this system has no root certificates: install them, or set SSL_CERT_FILE or `ca` in `[send]`")]
    NoRoots,
    #[error(transparent)]
    Verifier(#[from] VerifierBuilderError),
}

/// The inputs of a TLS configuration.
#[derive(Debug)]
pub(crate) struct Trust<'o> {
    /// Certificates that are trusted beside the system's.
    pub(crate) ca: Option<&'o Path>,
    /// The client's certificate chain and its key.
    pub(crate) certificate: Option<&'o ClientCertificate>,
    /// Whether any certificate will do.
    pub(crate) insecure: bool,
}

/// A client configuration that trusts the system's roots (`SSL_CERT_FILE` and `SSL_CERT_DIR` are
/// honoured) and offers these protocols (RFC 7301).
pub(crate) fn config(protocols: &[&[u8]], trust: &Trust<'_>) -> Result<ClientConfig, TlsError> {
    let provider = Arc::new(ring::default_provider());
    // Read at once: a file that cannot be read is reported before anything is sent.
    let named = trust.ca.map(read_certificates).transpose()?.unwrap_or_default();
    let roots = LazyRoots { provider: Arc::clone(&provider), named, insecure: trust.insecure, inner: OnceLock::new() };
    let builder = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(TlsError::Setup)?
        .dangerous() // the verifier below verifies in full; only its roots come late
        .with_custom_certificate_verifier(Arc::new(roots));
    let mut config = match trust.certificate {
        None => builder.with_no_client_auth(),
        Some(certificate) => {
            let Identity { chain, key } = read_identity(certificate)?;
            builder
                .with_client_auth_cert(chain, key)
                .map_err(|error| TlsError::ClientCertificate { file: certificate.chain.clone(), error })?
        }
    };
    config.alpn_protocols = protocols.iter().map(|protocol| protocol.to_vec()).collect();
    config.resumption = Resumption::store(Arc::new(TimedSessions(ClientSessionMemoryCache::new(256))));
    Ok(config)
}

/// Whether the files that the options name can be read, and hold what they should.
pub(crate) fn check_files(ca: Option<&Path>, certificate: Option<&ClientCertificate>) -> Result<(), TlsError> {
    ca.map(read_certificates).transpose()?;
    certificate.map(read_identity).transpose()?;
    Ok(())
}

/// The client's certificates and key: of one file in PKCS#12 (RFC 7292), or of PEM.
fn read_identity(certificate: &ClientCertificate) -> Result<Identity, TlsError> {
    let ClientCertificate { chain, key, password } = certificate;
    let bytes = read(chain)?;
    let unusable = |file: &Path| {
        let file = file.to_owned();
        move |error| TlsError::Key { file, error }
    };
    // PKCS#12 is a sequence of DER; PEM is text.
    if bytes.first() == Some(&0x30) {
        return pkcs12(&bytes, password.as_deref().unwrap_or_default()).map_err(unusable(chain));
    }
    let chain = read_certificates(chain)?;
    let key = private_key(&read(key)?, password.as_deref()).map_err(unusable(key))?;
    Ok(Identity { chain, key })
}

fn read(file: &Path) -> Result<Vec<u8>, TlsError> {
    std::fs::read(file).map_err(|error| TlsError::Read { file: file.to_owned(), error })
}

fn read_certificates(file: &Path) -> Result<Vec<CertificateDer<'static>>, TlsError> {
    let read = || CertificateDer::pem_file_iter(file)?.collect::<Result<Vec<_>, _>>();
    match read() {
        Ok(found) if found.is_empty() => Err(TlsError::NoCertificate { file: file.to_owned() }),
        Ok(found) => Ok(found),
        Err(error) => Err(unreadable(file, error)),
    }
}

fn unreadable(file: &Path, error: pem::Error) -> TlsError {
    match error {
        pem::Error::Io(error) => TlsError::Read { file: file.to_owned(), error },
        error => TlsError::Pem { file: file.to_owned(), error },
    }
}

#[derive(Debug)]
struct LazyRoots {
    provider: Arc<CryptoProvider>,
    /// The certificates of `ca`.
    named: Vec<CertificateDer<'static>>,
    insecure: bool,
    inner: OnceLock<Result<Arc<WebPkiServerVerifier>, RootsError>>,
}

impl LazyRoots {
    fn verifier(&self) -> Result<&WebPkiServerVerifier, rustls::Error> {
        let made = self.inner.get_or_init(|| {
            let loaded = rustls_native_certs::load_native_certs();
            let mut roots = RootCertStore::empty();
            let (_, unusable) = roots.add_parsable_certificates(loaded.certs);
            tracing::debug!(roots = roots.len(), unusable, errors = loaded.errors.len(), "read the system's roots");
            for certificate in &self.named {
                roots.add(certificate.clone()).map_err(RootsError::Unusable)?;
            }
            if roots.is_empty() {
                return Err(RootsError::NoRoots);
            }
            Ok(WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&self.provider)).build()?)
        });
        made.as_deref().map_err(|error| rustls::Error::General(error.to_string()))
    }
}

/// Whether a certificate was refused only since it may sign others, as one that signs itself often may.
fn is_authority_of_its_own(error: &rustls::Error) -> bool {
    let rustls::Error::InvalidCertificate(CertificateError::Other(OtherError(inner))) = error else { return false };
    inner.downcast_ref::<webpki::Error>() == Some(&webpki::Error::CaUsedAsEndEntity)
}

/// Sessions to resume, in memory. They are asked for at the start of each handshake, which is how that
/// start is known.
#[derive(Debug)]
struct TimedSessions(ClientSessionMemoryCache);

impl ClientSessionStore for TimedSessions {
    fn set_kx_hint(&self, name: ServerName<'static>, group: NamedGroup) {
        self.0.set_kx_hint(name, group);
    }

    fn kx_hint(&self, name: &ServerName<'_>) -> Option<NamedGroup> {
        crate::timing::tls_begins();
        self.0.kx_hint(name)
    }

    fn set_tls12_session(&self, name: ServerName<'static>, session: Tls12ClientSessionValue) {
        self.0.set_tls12_session(name, session);
    }

    fn tls12_session(&self, name: &ServerName<'_>) -> Option<Tls12ClientSessionValue> {
        crate::timing::tls_begins();
        self.0.tls12_session(name)
    }

    fn remove_tls12_session(&self, name: &ServerName<'static>) {
        self.0.remove_tls12_session(name);
    }

    fn insert_tls13_ticket(&self, name: ServerName<'static>, ticket: Tls13ClientSessionValue) {
        self.0.insert_tls13_ticket(name, ticket);
    }

    fn take_tls13_ticket(&self, name: &ServerName<'static>) -> Option<Tls13ClientSessionValue> {
        crate::timing::tls_begins();
        self.0.take_tls13_ticket(name)
    }
}

impl ServerCertVerifier for LazyRoots {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        // Somebody asked for it: any certificate will do. That the server has its key is still proved.
        if self.insecure {
            return Ok(ServerCertVerified::assertion());
        }
        let verified = self.verifier()?.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now);
        match verified {
            // A certificate that signs itself, as tools make it for a server of one's own, is trusted if it is named:
            // whoever names it says that it is this server's. Its dates were verified before, its name is now.
            Err(error) if is_authority_of_its_own(&error) && self.named.contains(end_entity) => {
                verify_server_name(&ParsedCertificate::try_from(end_entity)?, server_name)?;
                Ok(ServerCertVerified::assertion())
            }
            other => other,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
