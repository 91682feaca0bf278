//! How long a server asks to wait (`Retry-After`, RFC 9110 10.2.3).

use std::time::Duration;
use yieldtray_http::Exchange;

/// How often a request is sent again at most.
pub(crate) const MAX_RETRIES: usize = 5;

/// The wait that a response asks for: of a server that has too many requests (RFC 6585 4), or that is not ready. `now` in seconds since 1970.
pub(crate) fn wait_of(exchange: &Exchange, now: i64) -> Option<Duration> {
    if !matches!(exchange.status, 429 | 503) {
        return None;
    }
    let value = exchange.header("retry-after")?;
    let value = value.trim();
    if let Ok(seconds) = value.parse::<u32>() {
        return Some(Duration::from_secs(seconds.into()));
    }
    let date = chrono::DateTime::parse_from_rfc2822(value).ok()?;
    Some(Duration::from_secs(u64::try_from(date.timestamp() - now).unwrap_or(0)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use yieldtray_http::PreparedRequest;

    #[test]
    fn the_wait_is_in_seconds_or_until_a_date() {
        let url = url::Url::parse("http://packhouse.example/").expect("it is valid");
        let sent = Arc::new(PreparedRequest::new("GET", url));
        let wait = |status: u16, value: &str| {
            let headers = vec![("Retry-After".to_owned(), value.as_bytes().to_vec())];
            wait_of(&Exchange::new(Arc::clone(&sent), status, headers, ""), 784_111_770).map(|wait| wait.as_secs())
        };
        assert_eq!((wait(429, " 3 "), wait(503, "Sun, 06 Nov 1994 08:49:37 GMT")), (Some(3), Some(7)));
        assert_eq!(wait(503, "Sun, 06 Nov 1994 08:49:00 GMT"), Some(0), "it is over");
        assert_eq!((wait(500, "3"), wait(429, "soon"), wait(429, "-1")), (None, None, None));
    }
}
