//! Where the browser comes back to after a sign-in (RFC 8252 7.3).

use thiserror::Error;
use url::{Host, Url};

/// Where the browser comes back to: a loopback address, by default with whatever port is free.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RedirectAddress {
    host: String,
    port: Option<u16>,
    path: String,
}

impl Default for RedirectAddress {
    fn default() -> Self {
        Self { host: "127.0.0.1".to_owned(), port: None, path: "/callback".to_owned() }
    }
}

/// A redirect URL that this program cannot receive.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error(
    "must be an http URL of this machine, for example `http://127.0.0.1/callback` or `http://localhost:4617/callback`"
)]
pub struct NotLoopback;

impl RedirectAddress {
    /// The address of a URL. Without a port any free one is used (RFC 8252 7.3).
    ///
    /// # Errors
    /// If it is not an http URL with a loopback host.
    pub fn parse(text: &str) -> Result<Self, NotLoopback> {
        let url = Url::parse(text).map_err(|_| NotLoopback)?;
        let host = match url.host().ok_or(NotLoopback)? {
            Host::Ipv4(address) if address.is_loopback() => address.to_string(),
            Host::Ipv6(address) if address.is_loopback() => format!("[{address}]"),
            Host::Domain("localhost") => "localhost".to_owned(),
            _ => return Err(NotLoopback),
        };
        let plain =
            url.scheme() == "http" && url.query().is_none() && url.fragment().is_none() && url.username().is_empty();
        let path = url.path().to_owned();
        if plain { Ok(Self { host, port: url.port(), path }) } else { Err(NotLoopback) }
    }

    /// The addresses to listen at, as `HOST:PORT` with port 0 for any: `localhost` may be either of two.
    pub fn listen_at(&self) -> Vec<String> {
        let port = self.port.unwrap_or(0);
        match self.host.as_str() {
            "localhost" => vec![format!("127.0.0.1:{port}"), format!("[::1]:{port}")],
            host => vec![format!("{host}:{port}")],
        }
    }

    /// The redirect URI, once the port is known.
    pub fn uri(&self, port: u16) -> String {
        format!("http://{}:{port}{}", self.host, self.path)
    }

    /// The path that the browser comes back to.
    pub fn path(&self) -> &str {
        &self.path
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_this_machine_receives_a_redirect() {
        let parsed = |text: &str| RedirectAddress::parse(text).map(|address| (address.listen_at(), address.uri(9)));
        let one = |listen: &str, uri: &str| Ok((vec![listen.to_owned()], uri.to_owned()));
        assert_eq!(parsed("http://127.0.0.1/in"), one("127.0.0.1:0", "http://127.0.0.1:9/in"));
        assert_eq!(parsed("http://[::1]:4617/"), one("[::1]:4617", "http://[::1]:9/"));
        let both = vec!["127.0.0.1:0".to_owned(), "[::1]:0".to_owned()];
        assert_eq!(parsed("http://localhost/in"), Ok((both, "http://localhost:9/in".to_owned())));
        for text in
            ["http://packhouse.example/in", "https://127.0.0.1/in", "http://10.0.0.1/", "in", "http://127.0.0.1/?a"]
        {
            assert_eq!(RedirectAddress::parse(text), Err(NotLoopback), "{text}");
        }
    }
}
