//! Origins (RFC 6454).

use url::Url;

/// The origin of a URL, as in `https://scale.example:8443`; the port is left out where it is the scheme's own.
pub fn origin_of(url: &Url) -> String {
    url.origin().ascii_serialization()
}

/// Reads an origin, as in `https://scale.example`; `None` for a text that is none. A path is not part of one.
pub fn parse_origin(text: &str) -> Option<String> {
    let url = Url::parse(text).ok()?;
    let bare = url.path() == "/" && url.query().is_none() && url.fragment().is_none();
    let bare = bare && url.username().is_empty() && url.password().is_none();
    (bare && url.has_host() && matches!(url.scheme(), "http" | "https")).then(|| origin_of(&url))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn origins_are_read_and_compared_without_their_default_port() {
        for (text, origin) in [
            ("https://Scale.example", Some("https://scale.example")),
            ("https://scale.example:443/", Some("https://scale.example")),
            ("http://127.0.0.1:4616", Some("http://127.0.0.1:4616")),
            ("https://scale.example/lots", None),
            ("https://clerk@scale.example", None),
            ("ftp://scale.example", None),
            ("scale.example", None),
        ] {
            assert_eq!(parse_origin(text).as_deref(), origin, "{text}");
        }
    }
}
