//! TLS whose roots are read at the first handshake: reading them takes longer than a whole plain-http
//! request.

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use std::sync::{Arc, OnceLock};

/// A client configuration that trusts the system's roots (`SSL_CERT_FILE` and `SSL_CERT_DIR` are
/// honoured) and offers these protocols (RFC 7301).
pub(crate) fn config(protocols: &[&[u8]]) -> Result<ClientConfig, Error> {
    let provider = Arc::new(ring::default_provider());
    let verifier = LazyRoots { provider: Arc::clone(&provider), inner: OnceLock::new() };
    let mut config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .dangerous() // the verifier below verifies in full; only its roots come late
        .with_custom_certificate_verifier(Arc::new(verifier))
        .with_no_client_auth();
    config.alpn_protocols = protocols.iter().map(|protocol| protocol.to_vec()).collect();
    Ok(config)
}

#[derive(Debug)]
struct LazyRoots {
    provider: Arc<CryptoProvider>,
    inner: OnceLock<Result<Arc<WebPkiServerVerifier>, String>>,
}

impl LazyRoots {
    fn verifier(&self) -> Result<&WebPkiServerVerifier, Error> {
        let made = self.inner.get_or_init(|| {
            let loaded = rustls_native_certs::load_native_certs();
            let mut roots = RootCertStore::empty();
            let (_, unusable) = roots.add_parsable_certificates(loaded.certs);
            tracing::debug!(roots = roots.len(), unusable, errors = loaded.errors.len(), "read the system's roots");
            if roots.is_empty() {
                return Err(
                    "this system has no root certificates: install them, or name a file in SSL_CERT_FILE".to_owned()
                );
            }
            WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&self.provider))
                .build()
                .map_err(|error| error.to_string())
        });
        made.as_deref().map_err(|message| Error::General(message.clone()))
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
