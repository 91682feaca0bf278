//! Header fields that carry credentials, and what is shown in place of a secret.

/// The replacement for a secret.
pub const MASK: &str = "[secret]";

/// Header fields that most messages have, and that carry no credentials.
const COMMON: &[&str] = &[
    "accept",
    "accept-encoding",
    "cache-control",
    "content-length",
    "content-type",
    "date",
    "etag",
    "host",
    "location",
    "server",
    "user-agent",
    "vary",
];

/// Whether a header field carries credentials, so that its value is never shown.
pub fn is_secret_header(name: &str) -> bool {
    let is = |word: &&str| name.eq_ignore_ascii_case(word);
    // Fast path for the fields of every request and response.
    if COMMON.iter().any(is) {
        return false;
    }
    let has = |word: &&str| name.as_bytes().windows(word.len()).any(|part| part.eq_ignore_ascii_case(word.as_bytes()));
    ["authorization", "proxy-authorization", "cookie", "set-cookie"].iter().any(is)
        || ["api-key", "apikey", "token", "secret", "password"].iter().any(has)
}

/// The part of a credential header's value that is the credential: without the scheme's name.
pub fn credential(value: &str) -> &str {
    value.split_once(' ').map_or(value, |(_, credential)| credential.trim())
}
