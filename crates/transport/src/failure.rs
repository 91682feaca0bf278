//! The HTTP library's errors in plain words.

use crate::head::{self, MAX_FIELDS, Wrong};
use crate::incoming::{ErrorPhase, SendError};
use crate::timing::NoSuchHost;
use std::error::Error;
use std::io;
use std::path::Path;
use std::time::Duration;
use url::Url;
use yieldtray_http::{Failure, FailureKind};

/// The failure of a request to `url`.
pub(crate) fn describe(error: &SendError, url: &Url, elapsed: Duration) -> Failure {
    let (kind, message, hint) = explain(error, &authority(url), url);
    Failure { kind, message, hint, elapsed }
}

/// The phases of a request.
#[derive(Clone, Copy)]
pub(crate) enum Via<'v> {
    /// Nothing.
    Nothing,
    /// This proxy.
    Proxy(&'v str),
    /// This Unix socket.
    Socket(&'v Path),
}

/// The same, where it goes through something that may be to blame.
pub(crate) fn describe_via(error: &SendError, url: &Url, via: Via<'_>, elapsed: Duration) -> Failure {
    let mut failure = describe(error, url, elapsed);
    if error.stage != ErrorPhase::Connecting || failure.kind != FailureKind::Refused {
        return failure;
    }
    let causes = error.causes();
    let why = match find::<io::Error>(&causes).map(io::Error::kind) {
        Some(io::ErrorKind::ConnectionRefused) => "the connection was refused".to_owned(),
        Some(io::ErrorKind::NotFound) => "there is no such file".to_owned(),
        _ => innermost(&causes),
    };
    match via {
        Via::Nothing => {}
        Via::Proxy(proxy) => {
            failure.message = format!("cannot reach {} through the proxy {proxy}: {why}", authority(url));
            let hint = "`proxy` in `[send]` names the proxy, or `http_proxy` and its like; `no_proxy` leaves hosts out";
            failure.hint = Some(hint.to_owned());
        }
        Via::Socket(socket) => {
            failure.message = format!("cannot connect to the socket `{}`: {why}", socket.display());
            failure.hint = Some("is the server running? `socket` in `[send]` names where it listens".to_owned());
        }
    }
    failure
}

/// A failure of our own making.
pub(crate) fn failure(kind: FailureKind, message: impl Into<String>, hint: Option<&str>, elapsed: Duration) -> Failure {
    Failure { kind, message: message.into(), hint: hint.map(str::to_owned), elapsed }
}

/// Host and port as one would type them.
pub(crate) fn authority(url: &Url) -> String {
    let host = url.host_str().unwrap_or_default();
    url.port_or_known_default().map_or_else(|| host.to_owned(), |port| format!("{host}:{port}"))
}

/// True if the connection was lost before a response began.
pub(crate) fn is_lost_connection(error: &SendError) -> bool {
    if error.stage != ErrorPhase::Exchange {
        return false;
    }
    let causes = error.causes();
    find::<hyper::Error>(&causes).is_some_and(|error| error.is_incomplete_message() || error.is_closed())
        || find::<io::Error>(&causes).is_some_and(|error| LOST.contains(&error.kind()))
}

/// How the system says that the other end is gone.
const LOST: [io::ErrorKind; 3] =
    [io::ErrorKind::ConnectionReset, io::ErrorKind::BrokenPipe, io::ErrorKind::UnexpectedEof];

fn explain(error: &SendError, host: &str, url: &Url) -> (FailureKind, String, Option<String>) {
    let causes = error.causes();
    if let Some(unknown) = find::<NoSuchHost>(&causes) {
        let hint = "check the address for a slip, and that the network is there".to_owned();
        return (FailureKind::NoSuchHost, format!("no host `{}`: {}", unknown.name, unknown.reason), Some(hint));
    }
    if let Some(tls) = find::<rustls::Error>(&causes) {
        return describe_tls(tls, host, url);
    }
    let io = find::<io::Error>(&causes);
    let http = find::<hyper::Error>(&causes);
    let io_kind = io.map(io::Error::kind);
    if error.stage == ErrorPhase::Connecting {
        return match io_kind {
            Some(io::ErrorKind::ConnectionRefused) => (
                FailureKind::Refused,
                format!("nothing answers at {host}: the connection was refused"),
                Some("is the server running, and on this port?".to_owned()),
            ),
            _ => (FailureKind::Refused, format!("cannot connect to {host}: {}", innermost(&causes)), None),
        };
    }
    if http.is_some_and(|error| error.is_parse() && error.to_string().contains("too large")) {
        let message = format!("the header fields {host} sent are more than is taken: {MAX_FIELDS}, or 400 KiB in all");
        return (FailureKind::TooLarge, message, None);
    }
    if http.is_some_and(hyper::Error::is_parse) {
        match head::what_is_wrong(&error.head) {
            Some(Wrong::Line(line)) => {
                let hint = "the server has to mend this: what such an answer means is not known".to_owned();
                let message = format!("the answer of {host} breaks the rules of HTTP: {line}");
                return (FailureKind::NotHttp, message, Some(hint));
            }
            // A record of TLS, most often an alert (RFC 8446 5.1).
            _ if matches!(error.head.as_slice(), [0x14..=0x17, 0x03, ..]) => {
                let hint = "the server speaks TLS there: try `https://`".to_owned();
                return (FailureKind::NotHttp, format!("what {host} sent is TLS, not HTTP"), Some(hint));
            }
            Some(Wrong::NotHttp(line)) => {
                let hint = "is this the right port? another protocol may live there".to_owned();
                let message = format!("what {host} sent is not HTTP: it begins with `{line}`");
                return (FailureKind::NotHttp, message, Some(hint));
            }
            None => {}
        }
        let hint = "is this the right port? another protocol may live there".to_owned();
        return (FailureKind::NotHttp, format!("what {host} sent is not HTTP: {}", innermost(&causes)), Some(hint));
    }
    if http.is_some_and(|error| error.is_incomplete_message() || error.is_closed())
        || io_kind.is_some_and(|kind| LOST.contains(&kind))
    {
        return (FailureKind::BrokenOff, format!("{host} broke the connection off before the answer was whole"), None);
    }
    if error.stage == ErrorPhase::Body {
        return (FailureKind::BrokenOff, format!("the body {host} sent is broken: {}", innermost(&causes)), None);
    }
    (FailureKind::Other, format!("the exchange with {host} failed: {}", innermost(&causes)), None)
}

fn describe_tls(error: &rustls::Error, host: &str, url: &Url) -> (FailureKind, String, Option<String>) {
    use rustls::{AlertDescription, CertificateError, Error as Tls, OtherError};
    let name = url.host_str().unwrap_or_default();
    let (message, hint) = match error {
        Tls::InvalidCertificate(CertificateError::UnknownIssuer) => (
            format!("the certificate of {host} is not valid: nobody this system trusts has signed it"),
            Some("if it is your server's, `ca` in `[send]` trusts its certificate, or who signed it".to_owned()),
        ),
        Tls::InvalidCertificate(CertificateError::Other(OtherError(inner)))
            if inner.downcast_ref::<webpki::Error>() == Some(&webpki::Error::CaUsedAsEndEntity) =>
        {
            (
                format!("the certificate of {host} is not valid: it signs itself, and nobody here trusts it"),
                Some("if it is your server's, name the certificate as `ca` in `[send]`".to_owned()),
            )
        }
        Tls::AlertReceived(AlertDescription::CertificateRequired) => (
            format!("{host} wants a client certificate, and got none"),
            Some("`certificate` and `key` in `[send]` name one: it is shown to the origin of `base`".to_owned()),
        ),
        Tls::InvalidCertificate(certificate) => {
            let why = match certificate {
                CertificateError::Expired | CertificateError::ExpiredContext { .. } => "it has expired".to_owned(),
                CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
                    "it is not valid yet".to_owned()
                }
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
                    format!("it is not for `{name}`")
                }
                CertificateError::Revoked => "it was revoked".to_owned(),
                other => format!("{other}"),
            };
            (format!("the certificate of {host} is not valid: {why}"), None)
        }
        Tls::InvalidMessage(_) => (
            format!("{host} does not answer with TLS"),
            Some("the server may speak plain http: try `http://`".to_owned()),
        ),
        other => (format!("TLS with {host} failed: {other}"), None),
    };
    (FailureKind::Tls, message, hint)
}

fn find<'e, E: Error + 'static>(causes: &[&'e (dyn Error + 'static)]) -> Option<&'e E> {
    causes.iter().find_map(|cause| cause.downcast_ref::<E>())
}

fn innermost(causes: &[&(dyn Error + 'static)]) -> String {
    causes.last().map_or_else(|| "no reason was given".to_owned(), ToString::to_string)
}
