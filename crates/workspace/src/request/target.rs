//! Parses request targets.

use std::cell::RefCell;
use url::Url;
use yieldtray_source::{Code, Problem, Span};

/// A URL with its credentials.
pub(super) struct Address {
    pub(super) url: Url,
    /// `user:password` of the URL, percent-decoded.
    pub(super) credentials: Option<(String, String)>,
    /// Whether its scheme is one of WebSocket (RFC 6455 3).
    pub(super) conversation: bool,
    /// The path and query as written, if parsing changes them.
    pub(super) verbatim: Option<String>,
}

/// Parses a target with its placeholders resolved; a path is already joined to `base`. `plain` if there was no
/// placeholder.
pub(super) fn address(target: &str, plain: bool, at: Span, problems: &mut Vec<Problem>) -> Option<Address> {
    let bad = |message: String, hint: &str| Problem::error(Code::BadTarget, at, message).with_hint(hint);
    if let Some(odd) = target.chars().find(|c| c.is_control() || *c == ' ') {
        let name =
            if odd == ' ' { "a space".to_owned() } else { format!("the control character U+{:04X}", odd as u32) };
        problems.push(bad(format!("the URL contains {name}"), "percent-encode it, for example `%20`"));
        return None;
    }
    // The URL parser resolves `..` and `%2e%2e`, wherever they come from.
    if !plain && has_steps(target) {
        problems.push(bad(
            "a variable inserts a `.` or `..` segment into the path".to_owned(),
            "check the value: it would change the path",
        ));
        return None;
    }
    let with_scheme = match scheme(target) {
        Some("http" | "https") => target.to_owned(),
        // The handshake is one of HTTP, and the origin that of HTTP.
        Some("ws" | "wss") => format!("http{}", &target[2..]),
        Some(other) => {
            problems.push(bad(format!("unsupported URL scheme `{other}`"), "use `http://` or `https://`"));
            return None;
        }
        None => assume_scheme(target, at, problems)?,
    };
    let mut url = match parse(&with_scheme) {
        Ok(url) => url,
        Err(error) => {
            problems.push(bad(format!("invalid URL: {error}"), "for example `http://127.0.0.1:4616/lots`"));
            return None;
        }
    };
    if url.fragment().is_some() {
        problems.push(Problem::info(Code::Assumption, at, "the fragment (`#…`) is not sent"));
        url.set_fragment(None);
    }
    let decode = |text: &str| percent_encoding::percent_decode_str(text).decode_utf8_lossy().into_owned();
    let credentials = (!url.username().is_empty() || url.password().is_some())
        .then(|| (decode(url.username()), decode(url.password().unwrap_or_default())));
    if credentials.is_some() {
        let info =
            Problem::info(Code::Assumption, at, "the user name and password in the URL are sent as basic credentials");
        problems.push(info.with_hint("keep them out of the file: use `% auth basic` with variables"));
        // A URL with a host, as every http URL is, takes both.
        let _ = (url.set_username(""), url.set_password(None));
    }
    let verbatim = written_target(&with_scheme).filter(|written| *written != url[url::Position::BeforePath..]);
    let conversation = matches!(scheme(target), Some("ws" | "wss"));
    Some(Address { url, credentials, conversation, verbatim })
}

/// The path and query of a URL as written, from `/` to before the fragment.
fn written_target(address: &str) -> Option<String> {
    let (_, rest) = address.split_once("://")?;
    let target = &rest[rest.find(['/', '?', '#']).unwrap_or(rest.len())..];
    let target = target.split('#').next().unwrap_or_default();
    Some(if target.starts_with('/') { target.to_owned() } else { format!("/{target}") })
}

/// Whether a part of the path is `.` or `..`, however it is written.
fn has_steps(target: &str) -> bool {
    let path = target.split(['?', '#']).next().unwrap_or_default();
    // Most paths have no such part, and are not looked at further.
    let may_have = path.contains("/.") || path.contains("/%2");
    may_have && path.split('/').any(|part| matches!(part.to_ascii_lowercase().replace("%2e", ".").as_str(), "." | ".."))
}

thread_local! {
    /// The last scheme and host that were parsed, and their URL.
    static LAST_HOST: RefCell<Option<(String, Url)>> = const { RefCell::new(None) };
}

/// `Url::parse`, but the host is not read anew where it is the same as last time: in a replay it nearly
/// always is, and reading it takes longer than the rest.
fn parse(address: &str) -> Result<Url, url::ParseError> {
    let path = address.find("://").and_then(|at| Some(at + 3 + address[at + 3..].find(['/', '?', '#', '\\'])?));
    // Two slashes would begin a host.
    let Some(path) = path.filter(|at| !address[*at..].starts_with("//") && !address[*at..].contains('\\')) else {
        return Url::parse(address);
    };
    let (host, path) = address.split_at(path);
    LAST_HOST.with_borrow_mut(|last| {
        if last.as_ref().is_none_or(|(known, _)| known != host) {
            *last = Url::parse(host).ok().map(|url| (host.to_owned(), url));
        }
        match last {
            Some((_, url)) => url.join(path),
            None => Url::parse(address),
        }
    })
}

/// The scheme of a URL, in lower case if it is a known one.
fn scheme(target: &str) -> Option<&str> {
    let (scheme, _) = target.split_once("://")?;
    let valid = scheme.starts_with(|c: char| c.is_ascii_alphabetic())
        && scheme.bytes().all(|b| b.is_ascii_alphanumeric() || b"+-.".contains(&b));
    let known = |name: &&str| name.eq_ignore_ascii_case(scheme);
    valid.then(|| ["http", "https"].into_iter().find(known).unwrap_or(scheme))
}

/// Adds the scheme to a URL without one: http for this machine, https for any other.
fn assume_scheme(target: &str, at: Span, problems: &mut Vec<Problem>) -> Option<String> {
    let authority = target.split(['/', '?', '#']).next().unwrap_or_default();
    let host = authority.rsplit_once('@').map_or(authority, |(_, host)| host);
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    };
    if name.eq_ignore_ascii_case("localhost") || name.starts_with("127.") || name == "[::1]" {
        return Some(format!("http://{target}"));
    }
    // `http:/lots`, `htp:/lots`: a scheme with a slash too few, not a host without a port.
    if let Some((scheme, "")) = host.split_once(':')
        && scheme.bytes().all(|b| b.is_ascii_alphabetic())
    {
        let rest = target[authority.len()..].trim_start_matches('/');
        let problem = Problem::error(Code::BadTarget, at, format!("`{target}` is not a valid URL"));
        problems.push(problem.did_you_mean(format!("http://{rest}")));
        return None;
    }
    if !host.contains(['.', ':']) {
        let problem = Problem::error(Code::BadTarget, at, format!("`{target}` is neither a URL nor a path"));
        problems
            .push(problem.with_hint(format!("a path begins with `/`, for example `/{target}`; a URL with `http://`")));
        return None;
    }
    let info = Problem::info(Code::Assumption, at, format!("`{host}` has no scheme: using https"));
    problems.push(info.with_hint(format!("write `https://{host}` or `http://{host}`")));
    Some(format!("https://{target}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_reads_the_same_with_and_without_the_last_host() {
        for address in [
            "http://local:4616/lots?a=1#b",
            "http://local:4616/",
            "http://local:4616?a",
            "http://local:4616",
            "http://local:4616//x/y",
            "http://u:p@local/a/../b",
            "http://u:p@local/%2e%2e/b",
            "http://Live/ä b",
            "http://live/\\x",
            "https://live//",
            "http:///x",
            "http://[::1]/x",
            "http://a b/x",
            "http://local:99999/x",
        ] {
            for _ in 0..2 {
                assert_eq!(parse(address), Url::parse(address), "{address}");
            }
        }
    }
}
