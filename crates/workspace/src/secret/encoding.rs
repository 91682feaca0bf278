//! The ways in which a text is written into a message. Requests are written with some of them, servers echo
//! texts in others; a secret is looked for in all of them, so what writes and what masks share this list.

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};
use percent_encoding::{AsciiSet, utf8_percent_encode};
use std::borrow::Cow;
use std::fmt::Write;
use yieldtray_source::hex;
use yieldtray_source::percent::PERCENT_ENCODE_SET;

/// Characters that JavaScript's `encodeURIComponent` leaves as they are.
const NOT_COMPONENT: &AsciiSet = &PERCENT_ENCODE_SET.remove(b'!').remove(b'\'').remove(b'(').remove(b')').remove(b'*');

/// How a text is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Encoding {
    /// A path or query value (RFC 3986 2.1).
    Percent,
    /// A form (application/x-www-form-urlencoded, WHATWG URL 5.2).
    Form,
    /// Inside a JSON string (RFC 8259 7).
    Json,
    /// XML text or attribute (XML 1.0 2.4).
    Xml,
    /// A name in a multipart body (RFC 7578 2).
    Multipart,
    /// A percent-encoded text with lower-case digits.
    PercentLower,
    /// As `encodeURIComponent` of JavaScript writes it.
    Component,
    /// Percent-encoded twice.
    PercentTwice,
    /// JSON with `\/`, as some servers write it.
    JsonSlash,
    /// JSON in ASCII: `\u00e9`.
    JsonAscii,
    /// JSON in ASCII with `\/`.
    JsonAsciiSlash,
    /// JSON in ASCII with upper-case digits.
    JsonAsciiUpper,
    /// JSON whose `<`, `>` and `&` cannot end a script in a page.
    JsonHtml,
    /// JSON in ASCII whose quotes, `<`, `>`, `&` and `+` are `\u0022` and so on.
    JsonStrict,
    /// JSON within JSON.
    JsonTwice,
    /// ASCII JSON within JSON.
    JsonAsciiTwice,
    /// ASCII JSON within JSON, with `\/`.
    JsonSlashTwice,
    /// HTML text: `&`, `<` and `>` alone.
    HtmlText,
    /// HTML with `&#39;` and `&quot;`.
    HtmlDecimal,
    /// HTML with `&#x27;` and `&quot;`.
    HtmlHex,
    /// HTML with `&#39;` and `&#34;`.
    HtmlNumbers,
    /// Hexadecimal digits.
    Hex,
    /// Upper-case hexadecimal digits.
    HexUpper,
    /// Line ends as CRLF.
    Crlf,
    /// Line ends as CRLF, inside a JSON string.
    JsonCrlf,
}

impl Encoding {
    /// Every encoding except base64, whose letters depend on the text before it.
    pub(super) const ALL: &'static [Self] = &[
        Self::Percent,
        Self::Form,
        Self::Json,
        Self::Xml,
        Self::Multipart,
        Self::PercentLower,
        Self::Component,
        Self::PercentTwice,
        Self::JsonSlash,
        Self::JsonAscii,
        Self::JsonAsciiSlash,
        Self::JsonAsciiUpper,
        Self::JsonHtml,
        Self::JsonStrict,
        Self::JsonTwice,
        Self::JsonAsciiTwice,
        Self::JsonSlashTwice,
        Self::HtmlText,
        Self::HtmlDecimal,
        Self::HtmlHex,
        Self::HtmlNumbers,
        Self::Hex,
        Self::HexUpper,
        Self::Crlf,
        Self::JsonCrlf,
    ];

    /// `text` as it is written.
    pub(crate) fn of(self, text: &str) -> Cow<'_, str> {
        match self {
            Self::Percent => utf8_percent_encode(text, PERCENT_ENCODE_SET).into(),
            Self::Form => url::form_urlencoded::byte_serialize(text.as_bytes()).collect(),
            Self::Json => json(text),
            Self::Xml => markup(text, "&quot;", "&apos;"),
            Self::Multipart => Cow::Owned(text.replace('"', "%22").replace('\r', "%0D").replace('\n', "%0A")),
            Self::PercentLower => lower_escapes(&Self::Percent.of(text)).into(),
            Self::Component => utf8_percent_encode(text, NOT_COMPONENT).into(),
            Self::PercentTwice => Self::Percent.of(text).replace('%', "%25").into(),
            Self::JsonSlash => json(text).replace('/', "\\/").into(),
            Self::JsonAscii => ascii(&json(text), false).into(),
            Self::JsonAsciiSlash => ascii(&json(text), false).replace('/', "\\/").into(),
            Self::JsonAsciiUpper => ascii(&json(text), true).into(),
            Self::JsonHtml => escape_more(&json(text), "<>&", false).into(),
            Self::JsonStrict => {
                let plain = json(text).replace("\\\"", "\\u0022");
                ascii(&escape_more(&plain, "<>&'+`", true), true).into()
            }
            Self::JsonTwice => json(&json(text)).into_owned().into(),
            Self::JsonAsciiTwice => json(&ascii(&json(text), false)).into_owned().into(),
            Self::JsonSlashTwice => json(&json(text).replace('/', "\\/")).into_owned().into(),
            Self::HtmlText => markup(text, "\"", "'"),
            Self::HtmlDecimal => markup(text, "&quot;", "&#39;"),
            Self::HtmlHex => markup(text, "&quot;", "&#x27;"),
            Self::HtmlNumbers => markup(text, "&#34;", "&#39;"),
            Self::Hex => hex::encode(text.as_bytes()).into(),
            Self::HexUpper => hex::encode(text.as_bytes()).to_ascii_uppercase().into(),
            Self::Crlf => text.replace("\r\n", "\n").replace('\n', "\r\n").into(),
            Self::JsonCrlf => json(&Self::Crlf.of(text)).into_owned().into(),
        }
    }
}

/// The letters of base64, in both alphabets (RFC 4648 4 and 5), that `text` alone decides when 0, 1 or 2 bytes
/// precede it in the encoded text. Ones that are too short to identify it are left out.
pub(super) fn base64_forms(text: &str) -> impl Iterator<Item = String> + '_ {
    (0..3)
        .flat_map(move |offset| {
            let standard = base64_within(text, offset, |bytes| STANDARD_NO_PAD.encode(bytes));
            let for_urls = base64_within(text, offset, |bytes| URL_SAFE_NO_PAD.encode(bytes));
            [standard, for_urls]
        })
        .filter(|form| form.len() >= 4)
}

fn base64_within(text: &str, offset: usize, encode: impl Fn(&[u8]) -> String) -> String {
    let mut padded = vec![0; offset];
    padded.extend_from_slice(text.as_bytes());
    let encoded = encode(&padded);
    // A letter holds six bits: leave out those that the bytes before or after share.
    let first = (offset * 8).div_ceil(6);
    let last = padded.len() * 8 / 6;
    encoded.get(first..last).unwrap_or_default().to_owned()
}

fn json(text: &str) -> Cow<'_, str> {
    let quoted = serde_json::Value::from(text).to_string();
    Cow::Owned(quoted[1..quoted.len() - 1].to_owned())
}

/// All that is not ASCII as `\u` and four digits, a character beyond U+FFFF as two of them.
fn ascii(text: &str, upper: bool) -> String {
    let mut out = String::with_capacity(text.len());
    let mut units = [0; 2];
    for c in text.chars() {
        match c.is_ascii() {
            true => out.push(c),
            false => c.encode_utf16(&mut units).iter().for_each(|unit| push_escape(&mut out, *unit, upper)),
        }
    }
    out
}

fn escape_more(text: &str, more: &str, upper: bool) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match more.contains(c) {
            true => push_escape(&mut out, c as u16, upper),
            false => out.push(c),
        }
    }
    out
}

fn push_escape(out: &mut String, unit: u16, upper: bool) {
    // Writing to a string does not fail.
    let _ = if upper { write!(out, "\\u{unit:04X}") } else { write!(out, "\\u{unit:04x}") };
}

fn lower_escapes(percent: &str) -> String {
    let mut out = String::with_capacity(percent.len());
    let mut digits = 0;
    for c in percent.chars() {
        out.push(if digits > 0 { c.to_ascii_lowercase() } else { c });
        digits = if c == '%' { 2 } else { usize::saturating_sub(digits, 1) };
    }
    out
}

fn markup<'t>(text: &'t str, double: &str, single: &str) -> Cow<'t, str> {
    if !text.contains(['&', '<', '>', '"', '\'']) {
        return Cow::Borrowed(text);
    }
    let mut escaped = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        match c {
            '&' => escaped.push_str("&amp;"),
            '<' => escaped.push_str("&lt;"),
            '>' => escaped.push_str("&gt;"),
            '"' => escaped.push_str(double),
            '\'' => escaped.push_str(single),
            other => escaped.push(other),
        }
    }
    Cow::Owned(escaped)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_encoding_is_that_of_its_standard() {
        let text = "a/b\"é'<&+ \n~*";
        let written: Vec<String> = Encoding::ALL.iter().map(|way| format!("{way:?} {}", way.of(text))).collect();
        assert_eq!(
            written,
            [
                "Percent a%2Fb%22%C3%A9%27%3C%26%2B%20%0A~%2A",
                "Form a%2Fb%22%C3%A9%27%3C%26%2B+%0A%7E*",
                "Json a/b\\\"é'<&+ \\n~*",
                "Xml a/b&quot;é&apos;&lt;&amp;+ \n~*",
                "Multipart a/b%22é'<&+ %0A~*",
                "PercentLower a%2fb%22%c3%a9%27%3c%26%2b%20%0a~%2a",
                "Component a%2Fb%22%C3%A9'%3C%26%2B%20%0A~*",
                "PercentTwice a%252Fb%2522%25C3%25A9%2527%253C%2526%252B%2520%250A~%252A",
                "JsonSlash a\\/b\\\"é'<&+ \\n~*",
                "JsonAscii a/b\\\"\\u00e9'<&+ \\n~*",
                "JsonAsciiSlash a\\/b\\\"\\u00e9'<&+ \\n~*",
                "JsonAsciiUpper a/b\\\"\\u00E9'<&+ \\n~*",
                "JsonHtml a/b\\\"é'\\u003c\\u0026+ \\n~*",
                "JsonStrict a/b\\u0022\\u00E9\\u0027\\u003C\\u0026\\u002B \\n~*",
                "JsonTwice a/b\\\\\\\"é'<&+ \\\\n~*",
                "JsonAsciiTwice a/b\\\\\\\"\\\\u00e9'<&+ \\\\n~*",
                "JsonSlashTwice a\\\\/b\\\\\\\"é'<&+ \\\\n~*",
                "HtmlText a/b\"é'&lt;&amp;+ \n~*",
                "HtmlDecimal a/b&quot;é&#39;&lt;&amp;+ \n~*",
                "HtmlHex a/b&quot;é&#x27;&lt;&amp;+ \n~*",
                "HtmlNumbers a/b&#34;é&#39;&lt;&amp;+ \n~*",
                "Hex 612f6222c3a9273c262b200a7e2a",
                "HexUpper 612F6222C3A9273C262B200A7E2A",
                "Crlf a/b\"é'<&+ \r\n~*",
                "JsonCrlf a/b\\\"é'<&+ \\r\\n~*",
            ]
        );
        assert_eq!(Encoding::JsonAscii.of("😀"), "\\ud83d\\ude00");
    }
}
