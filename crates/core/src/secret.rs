//! What must not be shown: secrets in every form they are likely to take, and header fields that
//! carry credentials.

use crate::expression::Value;
use crate::hex;
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};
use memchr::memmem::Finder;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use std::borrow::Cow;
use std::fmt;
use std::ops::Range;

/// What stands where a secret stood.
pub const MASK: &str = "[secret]";

/// A text of fewer bytes inside a secret list or map, or of a cookie, is no secret by itself.
const SHORT: usize = 8;

/// Hides secrets in texts. It knows each as it is, JSON-escaped, percent-encoded, form-encoded, as a
/// name in a multipart body, in hex, and in base64, also as a part of a longer text that was encoded.
#[derive(Clone, Default)]
pub struct Masker {
    /// The forms to look for, the longest first, each ready to be searched for.
    forms: Vec<Finder<'static>>,
    /// Whether nothing is hidden, since whoever looks asked to see it.
    revealing: bool,
}

impl fmt::Debug for Masker {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Masker({} forms)", self.forms.len())
    }
}

/// Characters that stay as they are in a path or query value (RFC 3986 2.3).
pub(crate) const NOT_UNRESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

impl Masker {
    /// One that hides nothing, for a person who asked to see secrets.
    pub fn revealing() -> Self {
        Self::default().reveal()
    }

    /// The same secrets, shown.
    #[must_use]
    pub fn reveal(self) -> Self {
        Self { revealing: true, ..self }
    }

    /// The same secrets, hidden whoever asked to see them: for what is written down.
    pub fn hiding(&self) -> Cow<'_, Masker> {
        match self.revealing {
            true => Cow::Owned(Self { revealing: false, ..self.clone() }),
            false => Cow::Borrowed(self),
        }
    }

    /// Whether it hides nothing.
    pub fn reveals(&self) -> bool {
        self.revealing
    }

    /// How many forms are hidden; it only grows.
    pub(crate) fn forms(&self) -> usize {
        self.forms.len()
    }

    /// Hides these values from now on, as texts or as they are shown; of a list or a map also the
    /// texts in it, but for short ones: those are words that stand everywhere.
    pub fn learn(&mut self, secrets: impl IntoIterator<Item = Value>) {
        for value in secrets {
            match value.to_text() {
                Ok(text) => self.add(&text),
                Err(_) => {
                    self.add(&value.show());
                    self.learn_texts(&value.to_json());
                }
            }
        }
    }

    fn learn_texts(&mut self, value: &serde_json::Value) {
        match value {
            serde_json::Value::String(text) => self.add_unless_short(text),
            serde_json::Value::Array(members) => members.iter().for_each(|member| self.learn_texts(member)),
            serde_json::Value::Object(members) => members.values().for_each(|member| self.learn_texts(member)),
            _ => {}
        }
    }

    /// Hides a text from now on that may be a secret, unless it is so short that it stands everywhere.
    pub fn add_unless_short(&mut self, text: &str) {
        if text.len() >= SHORT {
            self.add(text);
        }
    }

    /// Hides `secret` from now on. Empty text is no secret.
    pub fn add(&mut self, secret: &str) {
        if secret.is_empty() || self.knows(secret) {
            return;
        }
        let percent = utf8_percent_encode(secret, NOT_UNRESERVED).to_string();
        let json = serde_json::Value::from(secret).to_string();
        let hex = hex::encode(secret.as_bytes());
        self.insert(secret.to_owned());
        // As a name in a multipart body (RFC 7578 2).
        self.insert(secret.replace('"', "%22").replace('\r', "%0D").replace('\n', "%0A"));
        self.insert(json[1..json.len() - 1].to_owned());
        self.insert(percent.to_ascii_lowercase());
        self.insert(percent.replace("%20", "+"));
        self.insert(percent);
        self.insert(hex.to_ascii_uppercase());
        self.insert(hex);
        for offset in 0..3 {
            self.insert(base64_within(secret, offset, |bytes| STANDARD_NO_PAD.encode(bytes)));
            self.insert(base64_within(secret, offset, |bytes| URL_SAFE_NO_PAD.encode(bytes)));
        }
        self.forms.sort_by_key(|form| std::cmp::Reverse(form.needle().len()));
    }

    fn knows(&self, form: &str) -> bool {
        self.forms.iter().any(|known| known.needle() == form.as_bytes())
    }

    fn insert(&mut self, form: String) {
        if !form.is_empty() && !self.knows(&form) {
            self.forms.push(Finder::new(form.as_bytes()).into_owned());
        }
    }

    /// `text` with every secret replaced by [`MASK`].
    pub fn mask<'t>(&self, text: &'t str) -> Cow<'t, str> {
        match self.mask_bytes(text.as_bytes()) {
            Cow::Borrowed(_) => Cow::Borrowed(text),
            // The forms are text, and text without some of its text is text.
            Cow::Owned(masked) => Cow::Owned(String::from_utf8_lossy(&masked).into_owned()),
        }
    }

    /// The same, of text that may be shared.
    pub(crate) fn mask_cow<'t>(&self, text: Cow<'t, str>) -> Cow<'t, str> {
        match text {
            Cow::Borrowed(text) => self.mask(text),
            Cow::Owned(mut text) => {
                self.hide(&mut text);
                Cow::Owned(text)
            }
        }
    }

    /// The same, in place.
    pub(crate) fn hide(&self, text: &mut String) {
        if let Cow::Owned(masked) = self.mask(text) {
            *text = masked;
        }
    }

    /// Whether a secret stands in `text`, shown or not: then it may not be written down.
    pub fn finds_in(&self, text: &str) -> bool {
        self.forms.iter().any(|form| form.find(text.as_bytes()).is_some())
    }

    /// Where secrets stand in `text`, in order; those that [`Self::mask`] replaces.
    pub(crate) fn secrets_in(&self, text: &str) -> Vec<Range<usize>> {
        let mut found: Vec<Range<usize>> = Vec::new();
        for form in &self.forms {
            for at in form.find_iter(text.as_bytes()) {
                let own = at..at + form.needle().len();
                // The longest forms come first: a shorter one in one of them is not looked at.
                if !found.iter().any(|known| known.start < own.end && own.start < known.end) {
                    found.push(own);
                }
            }
        }
        found.sort_by_key(|range| range.start);
        found
    }

    /// `bytes` with every secret replaced, whatever else they hold.
    pub fn mask_bytes<'t>(&self, bytes: &'t [u8]) -> Cow<'t, [u8]> {
        if self.revealing {
            return Cow::Borrowed(bytes);
        }
        let mut masked = Cow::Borrowed(bytes);
        for form in &self.forms {
            if form.find(&masked).is_none() {
                continue;
            }
            let (mut out, mut at) = (Vec::with_capacity(masked.len()), 0);
            for found in form.find_iter(&masked) {
                out.extend_from_slice(&masked[at..found]);
                out.extend_from_slice(MASK.as_bytes());
                at = found + form.needle().len();
            }
            out.extend_from_slice(&masked[at..]);
            masked = Cow::Owned(out);
        }
        masked
    }
}

/// The letters of base64 that `secret` alone decides when `offset` bytes stand before it in the
/// encoded text; empty where they are too few to tell anything.
fn base64_within(secret: &str, offset: usize, encode: impl Fn(&[u8]) -> String) -> String {
    let mut padded = vec![0; offset];
    padded.extend_from_slice(secret.as_bytes());
    let encoded = encode(&padded);
    // A letter holds six bits: leave out those that the bytes before or after share.
    let first = (offset * 8).div_ceil(6);
    let last = padded.len() * 8 / 6;
    let own = encoded.get(first..last).unwrap_or_default();
    if own.len() < 4 { String::new() } else { own.to_owned() }
}

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
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_hidden_in_each_of_its_forms() {
        let secret = "p/q r\"s+t✓";
        let mut masker = Masker::default();
        masker.add(secret);
        let hex: String = secret.bytes().map(|byte| format!("{byte:02X}")).collect();
        for (form, text) in [
            ("plain", secret.to_owned()),
            ("JSON", serde_json::Value::from(secret).to_string()),
            ("percent", utf8_percent_encode(secret, NON_ALPHANUMERIC).to_string().replace("%2D", "-")),
            ("form", "p%2Fq+r%22s%2Bt%E2%9C%93".to_owned()),
            ("multipart", "p/q r%22s+t✓".to_owned()),
            ("hex", hex.clone()),
            ("hex, lower case", hex.to_lowercase()),
            ("base64", STANDARD_NO_PAD.encode(secret)),
            ("base64 after one byte", STANDARD_NO_PAD.encode(format!("x{secret}"))),
            ("base64 of user:pass", STANDARD_NO_PAD.encode(format!("clerk:{secret}!"))),
            ("base64 for addresses", URL_SAFE_NO_PAD.encode(format!("ab{secret}zz"))),
        ] {
            let line = format!("before {text} after");
            let masked = masker.mask(&line);
            assert!(masked.contains(MASK), "{form}: {masked}");
            assert_eq!(masker.mask_bytes(line.as_bytes()), masked.as_bytes(), "{form}");
        }
        assert_eq!(masker.mask("nothing here"), "nothing here");
        let session = Value::parse_json(br#"{"token": "t-4616-abcd", "kind": "clerk", "more": [["shift-early"]]}"#);
        let mut structured = Masker::default();
        structured.learn(session);
        assert_eq!(structured.mask("clerk t-4616-abcd shift-early"), "clerk [secret] [secret]");
        assert!(masker.finds_in(&hex) && !masker.finds_in("nothing"));
        let shown = masker.reveal();
        assert_eq!((shown.mask(secret).as_ref(), shown.finds_in(secret)), (secret, true));
        assert!(!format!("{shown:?}").contains("p/q"));
    }
}
