//! TLS whose roots are read at the first handshake: reading them takes longer than a whole plain-http
//! request.

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{
    ClientSessionMemoryCache, ClientSessionStore, Resumption, Tls12ClientSessionValue, Tls13ClientSessionValue,
};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::{self, PemObject};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, Error, NamedGroup, RootCertStore, SignatureScheme};
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

/// What a TLS configuration is made from.
#[derive(Debug)]
pub(crate) struct Trust<'o> {
    /// Certificates that are trusted beside the system's.
    pub(crate) ca: Option<&'o Path>,
    /// The client's certificate chain and its key.
    pub(crate) certificate: Option<&'o (PathBuf, PathBuf)>,
    /// Whether any certificate will do.
    pub(crate) insecure: bool,
}

/// A client configuration that trusts the system's roots (`SSL_CERT_FILE` and `SSL_CERT_DIR` are
/// honoured) and offers these protocols (RFC 7301).
pub(crate) fn config(protocols: &[&[u8]], trust: &Trust<'_>) -> Result<ClientConfig, String> {
    let words = |error: Error| format!("TLS cannot be set up: {error}");
    let provider = Arc::new(ring::default_provider());
    let ca = trust.ca.map(Path::to_owned);
    let roots = LazyRoots { provider: Arc::clone(&provider), ca, insecure: trust.insecure, inner: OnceLock::new() };
    let builder = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(words)?
        .dangerous() // the verifier below verifies in full; only its roots come late
        .with_custom_certificate_verifier(Arc::new(roots));
    let mut config = match trust.certificate {
        None => builder.with_no_client_auth(),
        Some((chain, key)) => {
            let certificates = read_certificates(chain)?;
            let key = PrivateKeyDer::from_pem_file(key).map_err(|error| unreadable(key, &error))?;
            builder
                .with_client_auth_cert(certificates, key)
                .map_err(|error| format!("the client certificate `{}` cannot be used: {error}", chain.display()))?
        }
    };
    config.alpn_protocols = protocols.iter().map(|protocol| protocol.to_vec()).collect();
    config.resumption = Resumption::store(Arc::new(TimedSessions(ClientSessionMemoryCache::new(256))));
    Ok(config)
}

fn read_certificates(file: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let read = || CertificateDer::pem_file_iter(file)?.collect::<Result<Vec<_>, _>>();
    match read() {
        Ok(found) if found.is_empty() => Err(format!("`{}` holds no certificate in PEM", file.display())),
        Ok(found) => Ok(found),
        Err(error) => Err(unreadable(file, &error)),
    }
}

fn unreadable(file: &Path, error: &pem::Error) -> String {
    match error {
        pem::Error::Io(error) => format!("cannot read `{}`: {error}", file.display()),
        _ => format!("`{}` holds no such thing in PEM: {error}", file.display()),
    }
}

#[derive(Debug)]
struct LazyRoots {
    provider: Arc<CryptoProvider>,
    ca: Option<PathBuf>,
    insecure: bool,
    inner: OnceLock<Result<Arc<WebPkiServerVerifier>, String>>,
}

impl LazyRoots {
    fn verifier(&self) -> Result<&WebPkiServerVerifier, Error> {
        let made = self.inner.get_or_init(|| {
            let loaded = rustls_native_certs::load_native_certs();
            let mut roots = RootCertStore::empty();
            let (_, unusable) = roots.add_parsable_certificates(loaded.certs);
            tracing::debug!(roots = roots.len(), unusable, errors = loaded.errors.len(), "read the system's roots");
            for certificate in self.ca.as_deref().map(read_certificates).transpose()?.unwrap_or_default() {
                roots
                    .add(certificate)
                    .map_err(|error| format!("a certificate of the CA file is not usable: {error}"))?;
            }
            if roots.is_empty() {
                return Err("this system has no root certificates: install them, or name a file in SSL_CERT_FILE \
                            or as `ca` in `[send]`"
                    .to_owned());
            }
            WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&self.provider))
                .build()
                .map_err(|error| error.to_string())
        });
        made.as_deref().map_err(|message| Error::General(message.clone()))
    }
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
        crate::clock::tls_begins();
        self.0.kx_hint(name)
    }

    fn set_tls12_session(&self, name: ServerName<'static>, session: Tls12ClientSessionValue) {
        self.0.set_tls12_session(name, session);
    }

    fn tls12_session(&self, name: &ServerName<'_>) -> Option<Tls12ClientSessionValue> {
        crate::clock::tls_begins();
        self.0.tls12_session(name)
    }

    fn remove_tls12_session(&self, name: &ServerName<'static>) {
        self.0.remove_tls12_session(name);
    }

    fn insert_tls13_ticket(&self, name: ServerName<'static>, ticket: Tls13ClientSessionValue) {
        self.0.insert_tls13_ticket(name, ticket);
    }

    fn take_tls13_ticket(&self, name: &ServerName<'static>) -> Option<Tls13ClientSessionValue> {
        crate::clock::tls_begins();
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
    ) -> Result<ServerCertVerified, Error> {
        // Somebody asked for it: any certificate will do. That the server has its key is still proved.
        if self.insecure {
            return Ok(ServerCertVerified::assertion());
        }
        self.verifier()?.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now)
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
