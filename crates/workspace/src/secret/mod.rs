//! Data that must not be shown: secrets in every encoding in which they may occur, and header fields that carry
//! credentials.

mod encoding;
mod masker;
mod used;

pub(crate) use encoding::Encoding;
use masker::MIN_SECRET_BYTES;
pub use masker::Masker;
pub use used::{Destinations, UsedSecret};
use yieldtray_source::{Code, Problem, Span};

/// Whether a value's name says that it holds a secret.
pub fn is_secret_name(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    let telling = ["password", "passwd", "secret", "token", "api_key", "apikey", "private_key", "credential"];
    telling.iter().any(|word| name.contains(word)) || name.split('_').any(|word| word == "key" || word == "pin")
}

/// A warning about a secret that is too short to be masked inside words, where it would be found everywhere.
pub fn short_secret(name: &str, text: &str, span: Span) -> Option<Problem> {
    let length = text.chars().count();
    if length == 0 || length >= MIN_SECRET_BYTES {
        return None;
    }
    let message =
        format!("the secret `{name}` is shorter than {MIN_SECRET_BYTES} characters: it is masked only as a whole word");
    let hint = format!("use a longer secret, at least {MIN_SECRET_BYTES} characters");
    Some(Problem::warning(Code::ShortSecret, span, message).with_hint(hint))
}

#[cfg(test)]
mod tests;
