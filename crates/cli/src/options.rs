//! How requests go out, from what the configuration says.

use crate::disk::anywhere;
use crate::session::Session;
use std::path::Path;
use yieldtray_transport::{Options, Proxy};

/// The options of the transport for the chosen environment; paths count from the workspace's root.
pub(crate) fn options(session: &Session) -> Options {
    let settings = session.workspace.config.send_settings(session.settings.environment.as_deref());
    let usual = Options::default();
    let path = |text: &String| anywhere(&session.root, Path::new(text));
    let certificate = settings.certificate.as_ref().map(path);
    Options {
        body_limit: settings.body_limit.unwrap_or(usual.body_limit),
        proxy: match settings.proxy.as_deref() {
            None => Proxy::Surroundings,
            Some("none") => Proxy::Off,
            Some(address) => Proxy::Address(address.to_owned()),
        },
        no_proxy: settings.no_proxy.clone(),
        ca: settings.ca.as_ref().map(path),
        certificate: certificate.map(|chain| {
            let key = settings.key.as_ref().map_or_else(|| chain.clone(), path);
            (chain, key)
        }),
        socket: settings.socket.as_ref().map(path),
        ..usual
    }
}
