//! Advice for responses that look like a common error.

use yieldtray_http::{CookieStatus, Exchange, HopKind, is_secret_header};

/// Words of a path where somebody signs in or up.
const SIGN_IN: &[&str] = &["session", "sessions", "login", "signin", "sign-in", "signup", "sign-up", "register"];

/// One line of advice, if any. A response whose status is checked (`expected`) gets none about it.
pub(crate) fn advice(exchange: &Exchange, expected: bool) -> Option<String> {
    let about_status =
        || no_credentials(exchange).or_else(|| no_media_type(exchange)).or_else(|| old_session(exchange));
    turned_into_get(exchange).or_else(|| if expected { None } else { about_status() })
}

/// A redirect that made GET of another method, most often for a slash at the end of the path.
fn turned_into_get(exchange: &Exchange) -> Option<String> {
    let turned = |status| matches!(status, 301 | 302);
    let hop = exchange.hops.iter().find(|hop| {
        hop.kind == HopKind::Redirect && hop.method == "POST" && turned(hop.status) && exchange.sent.method == "GET"
    })?;
    let (from, to) = (path(&hop.url), path(&hop.location));
    let slash = from.trim_end_matches('/') == to.trim_end_matches('/') && from != to;
    Some(match slash {
        true => format!("the body was dropped: a {} redirect turned POST into GET; use the path `{to}`", hop.status),
        false => {
            format!("the body was dropped: the {} redirect from `{from}` to `{to}` turned POST into GET", hop.status)
        }
    })
}

fn no_credentials(exchange: &Exchange) -> Option<String> {
    let sent = exchange.sent.headers.iter().any(|(name, _)| is_secret_header(name));
    if exchange.status != 401 || sent {
        return None;
    }
    let left = exchange.redirects().any(|hop| origin(&hop.url) != origin(exchange.sent.url.as_str()));
    Some(match left {
        true => "no credentials were sent: they are dropped on a redirect to another origin".to_owned(),
        false => "no credentials were sent: add `% auth …` or an `Authorization` header".to_owned(),
    })
}

fn no_media_type(exchange: &Exchange) -> Option<String> {
    let lacks = exchange.status == 415 && exchange.sent.header("content-type").is_none();
    let message = match &exchange.sent.body {
        // A document of JSON gets its Content-Type by itself.
        Some(body) if body.text().trim_start().starts_with(['{', '[']) => {
            "the body is not valid JSON, so no Content-Type was sent: correct it, or add a Content-Type"
        }
        Some(_) => "no Content-Type was sent: add one below the request line",
        None => "neither a body nor a Content-Type was sent",
    };
    lacks.then(|| message.to_owned())
}

/// A session that is still open often makes a server refuse to open another.
fn old_session(exchange: &Exchange) -> Option<String> {
    let refused = (400..500).contains(&exchange.status) && exchange.sent.method == "POST";
    let signs_in = exchange.sent.url.path_segments().is_some_and(|mut parts| parts.any(|part| SIGN_IN.contains(&part)));
    let sent = exchange.cookies.iter().find(|note| note.status == CookieStatus::Sent)?;
    let name = &sent.name;
    let message = format!("the cookie `{name}` from an earlier response was sent: use `% cookies off` to send none");
    (refused && signs_in).then_some(message)
}

fn path(url: &str) -> String {
    url::Url::parse(url).map_or_else(|_| url.to_owned(), |url| url.path().to_owned())
}

fn origin(url: &str) -> Option<url::Origin> {
    url::Url::parse(url).ok().map(|url| url.origin())
}
