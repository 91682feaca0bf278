//! A fruit packhouse's API, made up: growers bring lots, lots are weighed onto trays, trays go to cold
//! rooms. It keeps everything in memory and starts with the same data each time. Demos and tests of
//! Yield Tray talk to it over loopback; it checks what it is sent and trusts none of it.

mod access;
mod answer;
mod authorization;
mod description;
mod dispatch;
mod echo;
#[cfg(feature = "faults")]
mod faulty_server;
mod gate;
mod grading;
mod grants;
mod graphql;
mod growers;
mod label;
mod lots;
mod office;
mod papers;
mod photos;
mod readings;
mod scale_socket;
#[cfg(feature = "faults")]
mod secure;
mod session;
mod state;
mod weighings;

pub use description::OPENAPI;
#[cfg(feature = "faults")]
pub use faulty_server::FaultyServer;
#[cfg(feature = "faults")]
pub use secure::Certificates;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::routing::{any, get, post};
use axum::serve::ListenerExt;
use state::Shared;
use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::thread::JoinHandle;

/// Which of two servers to be: the same API with other keys and other stock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Server {
    /// The one to try things on.
    Local,
    /// The one that counts.
    Production,
}

impl Server {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Server::Local => "local",
            Server::Production => "production",
        }
    }

    /// The `X-Api-Key` it takes.
    pub fn api_key(self) -> &'static str {
        match self {
            Server::Local => "local-key-4616",
            Server::Production => "production-key-9027",
        }
    }

    /// The one clerk who may sign in.
    pub fn clerk(self) -> &'static str {
        "clerk@packhouse.example"
    }

    /// The private key (Ed25519, PEM) of the client `packhouse-scale`, which is known by its public key alone.
    pub fn client_key(self) -> &'static str {
        authorization::assertion::CLIENT_KEY
    }

    /// The clerk's password.
    pub fn password(self) -> &'static str {
        match self {
            Server::Local => "windfall-local",
            Server::Production => "windfall-production",
        }
    }
}

/// A packhouse that runs on a thread of its own until it is dropped.
#[derive(Debug)]
pub struct Packhouse {
    base: String,
    address: SocketAddr,
    stop: Option<tokio::sync::oneshot::Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Packhouse {
    /// Starts one on a free loopback port.
    ///
    /// # Errors
    /// If no port or thread can be had.
    pub fn start(server: Server) -> io::Result<Self> {
        let (listener, address) = listener()?;
        Self::serve(format!("http://{address}"), address, async move {
            if let Ok(listener) = tokio::net::TcpListener::from_std(listener) {
                // What is written goes out at once: small messages must not wait for each other.
                let listener = listener.tap_io(|stream| {
                    let _ = stream.set_nodelay(true);
                });
                let _ = axum::serve(listener, router(server)).await;
            }
        })
    }

    /// Runs `serving` on a thread of its own.
    fn serve(
        base: String,
        address: SocketAddr,
        serving: impl Future<Output = ()> + Send + 'static,
    ) -> io::Result<Self> {
        let (stop, stopped) = tokio::sync::oneshot::channel();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        let thread = std::thread::Builder::new().name("packhouse".to_owned()).spawn(move || {
            runtime.block_on(async move {
                tokio::select! {
                    () = serving => {}
                    // A dropped sender stops it too.
                    _ = stopped => {}
                }
            });
        })?;
        Ok(Self { base, address, stop: Some(stop), thread: Some(thread) })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Its base URL: `http://127.0.0.1:PORT`.
    pub fn base(&self) -> String {
        self.base.clone()
    }
}

/// A free loopback port.
fn listener() -> io::Result<(std::net::TcpListener, SocketAddr)> {
    let listener = std::net::TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?;
    listener.set_nonblocking(true)?;
    let address = listener.local_addr()?;
    Ok((listener, address))
}

impl Drop for Packhouse {
    fn drop(&mut self) {
        drop(self.stop.take());
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// The whole API of a fresh packhouse.
pub fn router(server: Server) -> Router {
    router_for(server, false)
}

/// The same for a server that only clients with a certificate reach.
fn router_for(server: Server, wants_certificates: bool) -> Router {
    let shared = Arc::new(Shared::new(server, wants_certificates));
    Router::new()
        .route("/", get(description::start))
        .route("/openapi.json", get(description::openapi))
        .route("/.well-known/api-catalog", get(description::catalog))
        .route("/graphql", get(graphql::graphql).post(graphql::graphql))
        .route("/health", get(session::health))
        .route("/session", post(session::sign_in).delete(session::sign_out))
        .route("/growers", get(growers::list))
        .route("/growers/{id}", get(growers::one))
        .route("/cold-rooms", get(growers::cold_rooms))
        .route("/lots", get(lots::list).post(lots::create))
        .route("/lots/", any(lots::with_slash))
        .route("/lots/{id}", get(lots::one).put(lots::replace).patch(lots::change).delete(lots::remove))
        .route("/lots/{id}/weighings", get(weighings::list).post(weighings::add))
        .route("/lots/{id}/label.png", get(label::image))
        .route("/lots/{id}/photos", post(photos::add).layer(DefaultBodyLimit::disable()))
        .route("/lots/{id}/grading", post(grading::start))
        .route("/gradings/{number}", get(grading::state))
        .route("/readings", get(readings::list))
        .route("/scale/readings", get(readings::stream))
        .route("/scale/socket", get(scale_socket::open))
        .route("/scale/flaky", get(grading::flaky))
        .route("/gate/arrivals", post(gate::arrive))
        .route("/scale/reading", get(gate::reading))
        .route("/export.csv", get(gate::export))
        .route("/dispatch/orders", post(dispatch::order))
        .route("/ledger", get(office::ledger))
        .merge(authorization::routes())
        .route("/manifest.xml", get(papers::manifest))
        .route("/stock.csv", get(papers::stock))
        .route("/moved", any(papers::moved))
        .route("/echo", any(echo::echo))
        .fallback(answer::no_such_path)
        .method_not_allowed_fallback(answer::no_such_method)
        .with_state(shared)
}
