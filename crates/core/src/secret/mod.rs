//! What must not be shown: secrets in every encoding in which they may occur, and header fields that carry
//! credentials.

mod destination;
mod encoding;
mod masker;

use crate::problem::{Code, Problem};
use crate::syntax::Span;
pub use destination::{Destinations, UsedSecret, origin_of, parse_origin};
pub(crate) use encoding::{Encoding, NOT_UNRESERVED};
use masker::SHORT_SECRET;
pub use masker::{MASK, Masker};

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

/// A remark on a secret that is too short to be masked inside words, where it would be found everywhere.
pub(crate) fn short_secret(name: &str, text: &str, span: Span) -> Option<Problem> {
    let length = text.chars().count();
    if length == 0 || length >= SHORT_SECRET {
        return None;
    }
    let message = format!(
        "the secret `{name}` has fewer than {SHORT_SECRET} characters: it is masked as a whole word, not inside words"
    );
    let hint = format!("use a longer secret, at least {SHORT_SECRET} characters");
    Some(Problem::remark(Code::ShortSecret, span, message).with_hint(hint))
}

#[cfg(test)]
mod tests;
