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
        Some(io::ErrorKind::NotFound) => "file not found".to_owned(),
        _ => innermost(&causes),
    };
    match via {
        Via::Nothing => {}
        Via::Proxy(proxy) => {
            failure.message = format!("cannot reach {} through the proxy {proxy}: {why}", authority(url));
            let hint = "check `proxy` in `[send]` or `http_proxy`/`https_proxy`; exclude hosts with `no_proxy`";
            failure.hint = Some(hint.to_owned());
        }
        Via::Socket(socket) => {
            failure.message = format!("cannot connect to the socket `{}`: {why}", socket.display());
            failure.hint = Some("is the server running? check `socket` in `[send]`".to_owned());
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
        let hint = "check the host name and your network connection".to_owned();
        return (
            FailureKind::NoSuchHost,
            format!("cannot resolve host `{}`: {}", unknown.name, unknown.reason),
            Some(hint),
        );
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
                format!("connection refused by {host}"),
                Some("is the server running on this port?".to_owned()),
            ),
            Some(io::ErrorKind::TimedOut) => (
                FailureKind::TimedOut,
                format!("timed out connecting to {host}"),
                Some("is the server reachable? `connect_timeout` in `[send]` limits connecting".to_owned()),
            ),
            _ => (FailureKind::Refused, format!("cannot connect to {host}: {}", innermost(&causes)), None),
        };
    }
    if http.is_some_and(|error| error.is_parse() && error.to_string().contains("too large")) {
        let message = format!("{host} sent too many headers (limit {MAX_FIELDS}, or 400 KiB in total)");
        return (FailureKind::TooLarge, message, None);
    }
    if http.is_some_and(hyper::Error::is_parse) {
        match head::what_is_wrong(&error.head) {
            Some(Wrong::Line(line)) => {
                let hint = "the server must be fixed: such a response is ambiguous".to_owned();
                let message = format!("invalid HTTP response from {host}: {line}");
                return (FailureKind::NotHttp, message, Some(hint));
            }
            // A record of TLS, most often an alert (RFC 8446 5.1).
            _ if matches!(error.head.as_slice(), [0x14..=0x17, 0x03, ..]) => {
                let hint = "the server expects TLS: use `https://`".to_owned();
                return (FailureKind::NotHttp, format!("{host} responded with TLS, not HTTP"), Some(hint));
            }
            Some(Wrong::NotHttp(line)) => {
                let hint = "is this the right port? it may serve another protocol".to_owned();
                let message = format!("{host} did not respond with HTTP: the response begins with `{line}`");
                return (FailureKind::NotHttp, message, Some(hint));
            }
            None => {}
        }
        let hint = "is this the right port? it may serve another protocol".to_owned();
        return (FailureKind::NotHttp, format!("{host} did not respond with HTTP: {}", innermost(&causes)), Some(hint));
    }
    if http.is_some_and(|error| error.is_incomplete_message() || error.is_closed())
        || io_kind.is_some_and(|kind| LOST.contains(&kind))
    {
        return (
            FailureKind::BrokenOff,
            format!("{host} closed the connection before the response was complete"),
            None,
        );
    }
    if error.stage == ErrorPhase::Body {
        return (
            FailureKind::BrokenOff,
            format!("the response body from {host} is corrupt: {}", innermost(&causes)),
            None,
        );
    }
    (FailureKind::Other, format!("the exchange with {host} failed: {}", innermost(&causes)), None)
}

fn describe_tls(error: &rustls::Error, host: &str, url: &Url) -> (FailureKind, String, Option<String>) {
    use rustls::{AlertDescription, CertificateError, Error as Tls, OtherError};
    let name = url.host_str().unwrap_or_default();
    let (message, hint) = match error {
        Tls::InvalidCertificate(CertificateError::UnknownIssuer) => (
            format!("the certificate of {host} is not valid: it is not signed by a trusted authority"),
            Some("if this is your server, set `ca` in `[send]` to its certificate or its authority".to_owned()),
        ),
        Tls::InvalidCertificate(CertificateError::Other(OtherError(inner)))
            if inner.downcast_ref::<webpki::Error>() == Some(&webpki::Error::CaUsedAsEndEntity) =>
        {
            (
                format!("the certificate of {host} is not valid: it is self-signed and not trusted"),
                Some("if this is your server, set `ca` in `[send]` to its certificate".to_owned()),
            )
        }
        Tls::AlertReceived(AlertDescription::CertificateRequired) => (
            format!("{host} requires a client certificate"),
            Some("set `certificate` and `key` in `[send]`: they are sent to the origin of `base`".to_owned()),
        ),
        Tls::InvalidCertificate(certificate) => {
            let why = match certificate {
                CertificateError::Expired | CertificateError::ExpiredContext { .. } => "it has expired".to_owned(),
                CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
                    "it is not valid yet".to_owned()
                }
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
                    format!("it is not valid for `{name}`")
                }
                CertificateError::Revoked => "it was revoked".to_owned(),
                other => format!("{other}"),
            };
            (format!("the certificate of {host} is not valid: {why}"), None)
        }
        Tls::InvalidMessage(_) => (
            format!("{host} does not respond with TLS"),
            Some("the server may expect plain HTTP: use `http://`".to_owned()),
        ),
        other => (format!("TLS with {host} failed: {other}"), None),
    };
    (FailureKind::Tls, message, hint)
}

fn find<'e, E: Error + 'static>(causes: &[&'e (dyn Error + 'static)]) -> Option<&'e E> {
    causes.iter().find_map(|cause| cause.downcast_ref::<E>())
}

fn innermost(causes: &[&(dyn Error + 'static)]) -> String {
    causes.last().map_or_else(|| "no reason given".to_owned(), ToString::to_string)
}
