//! Cookies (RFC 6265), with the name prefixes of its successor and public suffixes: which a response may set, and
//! which a request carries.

use cookie_store::{
    Cookie, CookieDomain, CookieError, CookieExpiration, CookieStore, RawCookie, RawCookieParseError, StoreAction,
};
use thiserror::Error;
use url::{Host, Url};
use yieldtray_http::{CookieNote, CookieStatus};

/// Why a cookie of a response is not stored.
#[derive(Debug, Error)]
enum RefusedCookie {
    #[error("it cannot be read: {0}")]
    Unreadable(RawCookieParseError),
    #[error("it is longer than {MAX_COOKIE_BYTES} bytes")]
    TooLong,
    #[error("it contains a control character")]
    ControlCharacter,
    #[error("it is `Secure` but was received over plain HTTP")]
    Insecure,
    #[error("its name prefix requires `Secure` over HTTPS")]
    SecurePrefix,
    #[error("its name prefix requires `Path=/` and no `Domain`")]
    HostPrefix,
    /// A domain that many share (RFC 6265 5.3, step 5).
    #[error("`{0}` is a public suffix")]
    PublicSuffix(String),
    #[error("`{domain}` does not cover `{host}`")]
    Domain { domain: String, host: String },
    #[error("it was already expired")]
    Expired,
    #[error(transparent)]
    Store(CookieError),
}

/// The longest cookie that is taken, name and value together, in bytes.
const MAX_COOKIE_BYTES: usize = 4096;

/// The cookies of one environment or run.
#[derive(Clone, Default)]
pub struct Jar(CookieStore);

impl std::fmt::Debug for Jar {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Jar({} cookies)", self.0.iter_any().count())
    }
}

/// A cookie as it can be kept and looked at.
#[derive(Clone, PartialEq, Eq)]
pub struct StoredCookie {
    /// The host or domain it holds for.
    pub domain: String,
    /// The path it holds below.
    pub path: String,
    /// Its name.
    pub name: String,
    /// Its value: a secret.
    pub value: String,
    /// When it ends, in seconds since 1970; `None` where nobody says.
    pub ends: Option<i64>,
    /// Its other attributes: `Secure`, `HttpOnly`, `SameSite=…`, or `hosts below too`.
    pub attributes: Vec<String>,
    /// All of it, for [`Jar::load`].
    pub whole: String,
}

impl Jar {
    /// The jar of cookies that were kept before; what cannot be read is left out.
    pub fn load<'k>(kept: impl IntoIterator<Item = &'k str>) -> Self {
        let cookies = kept.into_iter().filter_map(|whole| serde_json::from_str::<Cookie<'static>>(whole).ok());
        Self(CookieStore::from_cookies(cookies.map(Ok::<_, std::convert::Infallible>), false).unwrap_or_default())
    }

    /// Takes the cookies of another jar; of the same cookie, that one's.
    pub fn add(&mut self, other: &Jar) {
        let all = self.0.iter_any().chain(other.0.iter_any()).cloned().map(Ok::<_, std::convert::Infallible>);
        self.0 = CookieStore::from_cookies(all.collect::<Vec<_>>(), false).unwrap_or_default();
    }

    /// The cookies that have not ended.
    pub fn stored(&self) -> Vec<StoredCookie> {
        let row = |cookie: &Cookie<'static>| {
            Some(StoredCookie {
                domain: String::from(&cookie.domain),
                path: String::from(&cookie.path),
                name: cookie.name().to_owned(),
                value: cookie.value().to_owned(),
                ends: match &cookie.expires {
                    CookieExpiration::AtUtc(time) => Some(time.unix_timestamp()),
                    CookieExpiration::SessionEnd => None,
                },
                attributes: attributes(cookie),
                whole: serde_json::to_string(cookie).ok()?,
            })
        };
        self.0.iter_unexpired().filter_map(row).collect()
    }

    /// The `Cookie` field for a request to `url` (RFC 6265 5.4): longer paths first.
    pub(crate) fn header_for(&self, url: &Url, notes: &mut Vec<CookieNote>) -> Option<String> {
        let mut found = self.0.matches(url);
        if found.is_empty() {
            return None;
        }
        found.sort_by(|a, b| {
            let (path, other) = (String::from(&a.path), String::from(&b.path));
            other.len().cmp(&path.len()).then_with(|| a.name().cmp(b.name()))
        });
        let host = host(url);
        for cookie in &found {
            let message = format!("for {}{}", String::from(&cookie.domain), String::from(&cookie.path));
            notes.push(CookieNote {
                host: host.clone(),
                name: cookie.name().to_owned(),
                status: CookieStatus::Sent,
                message,
            });
        }
        let pairs = found.iter().map(|cookie| format!("{}={}", cookie.name(), cookie.value()));
        Some(pairs.collect::<Vec<_>>().join("; "))
    }

    /// Processes a `Set-Cookie` field of a response from `url`, and returns the cookie's status.
    pub(crate) fn take(&mut self, line: &str, url: &Url) -> CookieNote {
        let name = line.split(['=', ';']).next().unwrap_or_default().trim().to_owned();
        let note = |status, message: String| CookieNote { host: host(url), name: name.clone(), status, message };
        match self.try_take(line, url) {
            Ok((status, message)) => note(status, message),
            Err(why) => note(CookieStatus::Refused, why.to_string()),
        }
    }

    fn try_take(&mut self, line: &str, url: &Url) -> Result<(CookieStatus, String), RefusedCookie> {
        let mut cookie = RawCookie::parse(line.to_owned()).map_err(RefusedCookie::Unreadable)?;
        if cookie.name().len() + cookie.value().len() > MAX_COOKIE_BYTES {
            return Err(RefusedCookie::TooLong);
        }
        if line.contains(|c: char| c.is_control() && c != '\t') {
            return Err(RefusedCookie::ControlCharacter);
        }
        let secure = cookie.secure() == Some(true);
        check_prefix(&cookie, secure, url)?;
        if secure && !is_trustworthy(url) {
            return Err(RefusedCookie::Insecure);
        }
        self.check_domain(&mut cookie, url)?;
        let action = self.0.insert_raw(&cookie, url).map_err(|error| refused(error, &cookie, url))?;
        if action == StoreAction::ExpiredExisting {
            return Ok((CookieStatus::Ended, "the server deleted it".to_owned()));
        }
        let held = self.0.iter_any().find(|held| held.name() == cookie.name() && held.matches(url));
        let place = held.map_or_else(
            || cookie.path().unwrap_or("/").to_owned(),
            |held| format!("{}{}", String::from(&held.domain), String::from(&held.path)),
        );
        let until = held.map_or("", |held| if held.is_persistent() { "" } else { ", for the session" });
        Ok((CookieStatus::Set, format!("for {place}{until}")))
    }

    /// A domain that many share can own no cookie (RFC 6265 5.3, step 5).
    fn check_domain(&self, cookie: &mut RawCookie<'static>, url: &Url) -> Result<(), RefusedCookie> {
        let Some(domain) = cookie.domain().map(|domain| domain.trim_start_matches('.').to_ascii_lowercase()) else {
            return Ok(());
        };
        let own = url.host_str().unwrap_or_default();
        if domain == own {
            // IP addresses, and hosts that are a public suffix themselves, have no subdomains.
            let alone = !matches!(url.host(), Some(Host::Domain(_))) || is_public_suffix(&domain);
            if alone {
                cookie.unset_domain();
            }
            return Ok(());
        }
        if is_public_suffix(&domain) {
            return Err(RefusedCookie::PublicSuffix(domain));
        }
        Ok(())
    }
}

fn attributes(cookie: &Cookie<'_>) -> Vec<String> {
    let below = matches!(cookie.domain, CookieDomain::Suffix(_)).then(|| "and subdomains".to_owned());
    let secure = (cookie.secure() == Some(true)).then(|| "Secure".to_owned());
    let http_only = (cookie.http_only() == Some(true)).then(|| "HttpOnly".to_owned());
    let same_site = cookie.same_site().map(|site| format!("SameSite={site}"));
    [below, secure, http_only, same_site].into_iter().flatten().collect()
}

/// `__Secure-` and `__Host-` promise what the cookie then must have.
fn check_prefix(cookie: &RawCookie<'static>, secure: bool, url: &Url) -> Result<(), RefusedCookie> {
    let has = |prefix: &str| cookie.name().get(..prefix.len()).is_some_and(|start| start.eq_ignore_ascii_case(prefix));
    let safe = secure && is_trustworthy(url);
    if (has("__Secure-") || has("__Host-")) && !safe {
        return Err(RefusedCookie::SecurePrefix);
    }
    if has("__Host-") && (cookie.domain().is_some() || cookie.path() != Some("/")) {
        return Err(RefusedCookie::HostPrefix);
    }
    Ok(())
}

/// Whether nobody listens on the way to a server: TLS, or this machine itself, as browsers take it too. Cookies with
/// `Secure` go there and come from there.
fn is_trustworthy(url: &Url) -> bool {
    url.scheme() == "https"
        || match url.host() {
            Some(Host::Domain(name)) => name == "localhost" || name.ends_with(".localhost"),
            Some(Host::Ipv4(address)) => address.is_loopback(),
            Some(Host::Ipv6(address)) => address.is_loopback(),
            None => false,
        }
}

fn is_public_suffix(domain: &str) -> bool {
    psl::suffix_str(domain) == Some(domain)
}

fn refused(error: CookieError, cookie: &RawCookie<'_>, url: &Url) -> RefusedCookie {
    match error {
        CookieError::DomainMismatch => {
            RefusedCookie::Domain { domain: cookie.domain().unwrap_or_default().to_owned(), host: host(url) }
        }
        CookieError::Expired => RefusedCookie::Expired,
        other => RefusedCookie::Store(other),
    }
}

fn host(url: &Url) -> String {
    url.host_str().unwrap_or_default().to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn url(text: &str) -> Url {
        text.parse().expect("an address")
    }

    /// The status of one cookie from one URL.
    fn status(from: &str, line: &str) -> (CookieStatus, String) {
        let note = Jar::default().take(line, &url(from));
        (note.status, note.message)
    }

    #[test]
    fn what_may_not_be_set_is_refused_with_the_reason() {
        for (from, line, why) in [
            ("https://local.packhouse.example/", "a=1; Domain=live.packhouse.example", "does not cover"),
            ("https://local.packhouse.example/", "a=1; Domain=house.example", "does not cover"),
            ("https://local.packhouse.example/", "a=1; Domain=example", "public suffix"),
            ("https://packhouse.co.uk/", "a=1; Domain=co.uk", "public suffix"),
            ("https://packhouse.co.uk/", "a=1; Domain=.uk", "public suffix"),
            ("http://127.0.0.1/", "a=1; Domain=0.0.1", "0.0.1"),
            ("http://local.example/", "a=1; Secure", "plain HTTP"),
            ("http://local.example/", "__Secure-a=1; Secure", "requires"),
            ("https://local.example/", "__Secure-a=1", "requires"),
            ("https://local.example/", "__Host-a=1; Secure; Path=/lots", "requires"),
            ("https://local.example/", "__host-a=1; Secure; Path=/; Domain=local.example", "requires"),
            ("https://local.example/", "no pair", "cannot be read"),
            ("https://local.example/", "=1", "cannot be read"),
            ("https://local.example/", "a=\u{1b}[2J", "control character"),
        ] {
            let (status, message) = status(from, line);
            assert!(status == CookieStatus::Refused && message.contains(why), "{from} {line}: {status:?} {message}");
        }
        let long = format!("a={}", "x".repeat(MAX_COOKIE_BYTES));
        assert_eq!(status("https://local.example/", &long).0, CookieStatus::Refused);
    }

    #[test]
    fn cookies_go_where_they_hold_and_nowhere_else() {
        for (from, line, to, goes) in [
            ("https://local.example/lots/1", "a=1", "https://local.example/lots/2", true),
            ("https://local.example/lots/1", "a=1", "https://local.example/", false),
            ("https://local.example/lots/1", "a=1; Path=/", "https://local.example/", true),
            ("https://local.example/", "a=1; Path=/lots", "https://local.example/lots", true),
            ("https://local.example/", "a=1; Path=/lots", "https://local.example/lots/1", true),
            ("https://local.example/", "a=1; Path=/lots", "https://local.example/lotsa", false),
            ("https://local.example/", "a=1; Path=no", "https://local.example/other", true),
            ("https://local.example/", "a=1", "https://local.example:8443/", true),
            ("https://local.example/", "a=1", "https://a.local.example/", false),
            ("https://local.example/", "a=1; Domain=local.example", "https://a.local.example/", true),
            ("https://local.example/", "a=1; Domain=.LOCAL.example", "https://a.local.example/", true),
            ("https://a.local.example/", "a=1; Domain=local.example", "https://local.example/", true),
            ("https://local.example/", "a=1; Domain=local.example", "https://mylocal.example/", false),
            ("https://local.example/", "a=1; Secure", "http://local.example/", false),
            ("http://127.0.0.1/", "a=1; Secure", "http://127.0.0.1/", true),
            ("http://localhost:4616/", "__Host-a=1; Secure; Path=/", "http://localhost:4616/x", true),
            ("http://[::1]/", "__Secure-a=1; Secure", "http://[::1]/", true),
            ("https://local.example/", "__Host-a=1; Secure; Path=/", "https://local.example/x", true),
            ("http://127.0.0.1/", "a=1; Domain=127.0.0.1", "http://127.0.0.1/x", true),
            ("http://localhost/", "a=1", "http://localhost:8080/x", true),
            ("https://local.example/", "a=1; HttpOnly; SameSite=Strict", "http://local.example/", true),
            ("https://local.example/", "a=1; Max-Age=60", "https://local.example/", true),
            ("https://local.example/", "a=1; Max-Age=0", "https://local.example/", false),
            ("https://local.example/", "a=1; Expires=Wed, 01 Jan 2020 00:00:00 GMT", "https://local.example/", false),
            (
                "https://local.example/",
                "a=1; Expires=Wed, 01 Jan 2020 00:00:00 GMT; Max-Age=60",
                "https://local.example/",
                true,
            ),
        ] {
            let mut jar = Jar::default();
            let note = jar.take(line, &url(from));
            // A saved cookie is sent where it would have been sent before.
            let kept = jar.stored();
            let jar = Jar::load(kept.iter().map(|kept| kept.whole.as_str()));
            let sent = jar.header_for(&url(to), &mut Vec::new());
            assert_eq!(sent.is_some(), goes, "{from} {line} to {to}: {note:?} {sent:?}");
        }
    }

    #[test]
    fn longer_paths_go_first_and_the_server_can_end_a_cookie() {
        let local = url("https://local.example/lots/1");
        let mut jar = Jar::default();
        for line in ["b=2; Path=/", "a=1; Path=/", "c=3; Path=/lots"] {
            assert_eq!(jar.take(line, &local).status, CookieStatus::Set, "{line}");
        }
        assert_eq!(jar.header_for(&local, &mut Vec::new()).as_deref(), Some("c=3; a=1; b=2"));
        assert_eq!(jar.take("a=; Max-Age=0; Path=/", &local).status, CookieStatus::Ended);
        assert_eq!(jar.take("b=9; Path=/", &local).status, CookieStatus::Set);
        assert_eq!(jar.header_for(&local, &mut Vec::new()).as_deref(), Some("c=3; b=9"));
    }

    #[test]
    fn a_jar_takes_what_another_holds_and_the_other_wins() {
        let from = url("http://desk.packhouse.example/");
        let sent = |jar: &Jar| jar.header_for(&from, &mut Vec::new()).unwrap_or_default();
        let (mut own, mut other) = (Jar::default(), Jar::default());
        own.take("shift=early", &from);
        own.take("own=1", &from);
        other.take("shift=late", &from);
        other.take("more=2", &from);
        own.add(&other);
        assert_eq!(sent(&own), "more=2; own=1; shift=late");
        assert_eq!(sent(&other), "more=2; shift=late");
    }
}
