//! The packhouse behind TLS, with a certificate made when it starts.

use crate::{Packhouse, Server, listener, router_for};
use p12_keystore::{KeyStore, KeyStoreEntry, PrivateKey, PrivateKeyChain};
use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::rustls::ServerConfig;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use tokio_rustls::server::TlsStream;
use tokio_rustls::{TlsAcceptor, rustls};

/// How long a handshake may take: nobody else is let in meanwhile.
const HANDSHAKE_TIMEOUT: Duration = Duration::from_secs(2);

/// Certificates of a test authority. All are PEM.
#[derive(Clone, Debug)]
pub struct Certificates {
    /// The authority's own certificate: whoever trusts it trusts the packhouse.
    pub authority: String,
    /// A certificate for a client, and its key.
    pub client: String,
    /// The same as DER: the certificate and the key.
    der: (Vec<u8>, Vec<u8>),
}

impl Certificates {
    /// The certificate and key of the client in one file (PKCS#12) with a password.
    ///
    /// # Errors
    /// If the file cannot be made.
    pub fn client_pkcs12(&self, password: &str) -> io::Result<Vec<u8>> {
        let (certificate, key) = &self.der;
        let certificate = p12_keystore::Certificate::from_der(certificate).map_err(made)?;
        let key = PrivateKey::from_der(key).map_err(made)?;
        let mut store = KeyStore::new();
        store.add_entry(
            "desk",
            KeyStoreEntry::PrivateKeyChain(PrivateKeyChain::new([1].as_slice(), key, [certificate])),
        );
        store.writer(password).write().map_err(made)
    }
}

impl Packhouse {
    /// Starts one behind TLS at `https://localhost:PORT`; with `clients`, only clients with a certificate
    /// get in.
    ///
    /// # Errors
    /// If no port, thread or certificate can be had.
    pub fn start_secure(server: Server, clients: bool) -> io::Result<(Self, Certificates)> {
        let (papers, config) = identity(clients)?;
        let (listener, address) = listener()?;
        let base = format!("https://localhost:{}", address.port());
        let packhouse = Self::serve(base, address, async move {
            if let Ok(listener) = TcpListener::from_std(listener) {
                let acceptor = Arc::new(config).into();
                let _ = axum::serve(Secured { listener, acceptor }, router_for(server, clients)).await;
            }
        })?;
        Ok((packhouse, papers))
    }
}

fn made(error: impl std::error::Error + Send + Sync + 'static) -> io::Error {
    io::Error::other(error)
}

/// A certificate for `localhost` from an authority of its own; with `clients`, only its clients get in.
fn identity(clients: bool) -> io::Result<(Certificates, ServerConfig)> {
    let mut authority = CertificateParams::new(Vec::new()).map_err(made)?;
    authority.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let authority = CertifiedIssuer::self_signed(authority, KeyPair::generate().map_err(made)?).map_err(made)?;
    let signed = |names: Vec<String>| {
        let key = KeyPair::generate()?;
        let certificate = CertificateParams::new(names)?.signed_by(&key, &authority)?;
        Ok::<_, rcgen::Error>((certificate, key))
    };
    let (server, server_key) = signed(vec!["localhost".to_owned()]).map_err(made)?;
    let (client, client_key) = signed(vec!["desk".to_owned()]).map_err(made)?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ServerConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .map_err(made)?;
    let builder = match clients {
        false => builder.with_no_client_auth(),
        true => {
            let mut roots = rustls::RootCertStore::empty();
            roots.add(CertificateDer::from(authority.der().to_vec())).map_err(made)?;
            let verifier = rustls::server::WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider);
            builder.with_client_cert_verifier(verifier.build().map_err(made)?)
        }
    };
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(server_key.serialize_der()));
    let mut config = builder.with_single_cert(vec![server.der().clone()], key).map_err(made)?;
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    let pem = format!("{}{}", client.pem(), client_key.serialize_pem());
    let der = (client.der().to_vec(), client_key.serialize_der());
    let papers = Certificates { authority: authority.pem(), client: pem, der };
    Ok((papers, config))
}

/// Lets connections in once their handshake is done.
struct Secured {
    listener: TcpListener,
    acceptor: TlsAcceptor,
}

impl axum::serve::Listener for Secured {
    type Io = TlsStream<TcpStream>;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        loop {
            let Ok((stream, address)) = self.listener.accept().await else { continue };
            if let Ok(Ok(stream)) = tokio::time::timeout(HANDSHAKE_TIMEOUT, self.acceptor.accept(stream)).await {
                return (stream, address);
            }
        }
    }

    fn local_addr(&self) -> io::Result<Self::Addr> {
        self.listener.local_addr()
    }
}
