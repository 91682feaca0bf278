//! What must not be shown: secrets in every encoding in which they may occur, and header fields that carry
//! credentials.

mod destination;
mod encoding;
mod masker;

pub use destination::{Destinations, UsedSecret, origin_of, parse_origin};
pub(crate) use encoding::{Encoding, NOT_UNRESERVED};
pub use masker::{MASK, Masker, SHORT_SECRET};

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
    // Those that go with every request and answer are asked for most.
    if COMMON.iter().any(is) {
        return false;
    }
    let has = |word: &&str| name.as_bytes().windows(word.len()).any(|part| part.eq_ignore_ascii_case(word.as_bytes()));
    ["authorization", "proxy-authorization", "cookie", "set-cookie"].iter().any(is)
        || ["api-key", "apikey", "token", "secret", "password"].iter().any(has)
}

/// Whether a value's name says that it holds a secret.
pub fn is_secret_name(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    let telling = ["password", "passwd", "secret", "token", "api_key", "apikey", "private_key", "credential"];
    telling.iter().any(|word| name.contains(word)) || name.split('_').any(|word| word == "key" || word == "pin")
}

/// The part of a credential header's value that is the credential: without the scheme's name.
pub fn credential(value: &str) -> &str {
    value.split_once(' ').map_or(value, |(_, credential)| credential.trim())
}

#[cfg(test)]
mod tests;
