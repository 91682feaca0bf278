//! Text to tokens. No byte is left out: the tokens joined are the text.

use yieldtray_source::Span;

/// A token with its part of the text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Token {
    /// Its part of the text, in bytes.
    pub span: Span,
    /// Its kind.
    pub kind: TokenKind,
}

/// The kind of a token.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TokenKind {
    /// White space, or a comment from `//` to the end of its line.
    Blank,
    /// A name, a keyword or a reserved word.
    Name,
    /// A name in backticks, for a member that no plain name can be.
    QuotedName,
    /// Digits, perhaps with a point, an exponent, `0x` or `u`.
    Number,
    /// A string or bytes literal with its prefix. `closed` if its last quotes are there.
    String {
        /// True if it is closed.
        closed: bool,
    },
    /// An operator or a bracket.
    Sign,
    /// A character that begins no token.
    Unknown,
}

/// Signs of one character.
const SIGNS: &[u8] = b"()[]{}.,:?+-*/%<>!";

/// The tokens of a text, in order.
pub fn tokens(text: &str) -> Vec<Token> {
    let mut tokens = Vec::with_capacity(text.len() / 2 + 1);
    let mut at = 0;
    while at < text.len() {
        let (kind, length) = first(&text[at..]);
        tokens.push(Token { span: Span::new(at, at + length), kind });
        at += length;
    }
    tokens
}

/// The first token of a text that is not empty, and its length in bytes.
fn first(text: &str) -> (TokenKind, usize) {
    let bytes = text.as_bytes();
    let length_while = |accept: fn(u8) -> bool| bytes.iter().position(|byte| !accept(*byte)).unwrap_or(bytes.len());
    let next = bytes.get(1).copied();
    match bytes[0] {
        byte if is_blank(byte) => (TokenKind::Blank, length_while(is_blank)),
        b'/' if next == Some(b'/') => (TokenKind::Blank, memchr::memchr(b'\n', bytes).unwrap_or(bytes.len())),
        b'0'..=b'9' => (TokenKind::Number, number_length(text)),
        b'.' if next.is_some_and(|byte| byte.is_ascii_digit()) => (TokenKind::Number, number_length(text)),
        b'"' | b'\'' | b'r' | b'R' | b'b' | b'B' if let Some((length, closed)) = string_length(text) => {
            (TokenKind::String { closed }, length)
        }
        byte if is_name_start(byte) => (TokenKind::Name, length_while(is_name_part)),
        b'`' => quoted_name(text),
        b'&' | b'|' if next == Some(bytes[0]) => (TokenKind::Sign, 2),
        b'=' | b'!' | b'<' | b'>' if next == Some(b'=') => (TokenKind::Sign, 2),
        byte if SIGNS.contains(&byte) => (TokenKind::Sign, 1),
        _ => (TokenKind::Unknown, text.chars().next().map_or(1, char::len_utf8)),
    }
}

/// A name in backticks at the start of a text.
fn quoted_name(text: &str) -> (TokenKind, usize) {
    let is_part = |byte: &u8| is_name_part(*byte) || matches!(byte, b'-' | b'.' | b'/' | b' ');
    let length = text.bytes().skip(1).take_while(is_part).count();
    match length > 0 && text[1 + length..].starts_with('`') {
        true => (TokenKind::QuotedName, length + 2),
        false => (TokenKind::Unknown, 1),
    }
}

/// White space as the specification lists it.
fn is_blank(byte: u8) -> bool {
    matches!(byte, b' ' | b'\t' | b'\n' | b'\r' | 0xc)
}

fn is_name_start(byte: u8) -> bool {
    byte.is_ascii_alphabetic() || byte == b'_'
}

fn is_name_part(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_'
}

/// The length of a number. Letters that directly follow belong to it, so that the error is about the whole word.
fn number_length(text: &str) -> usize {
    let bytes = text.as_bytes();
    let is_hex = text.starts_with("0x") || text.starts_with("0X");
    let mut at = 0;
    while let Some(byte) = bytes.get(at) {
        let goes_on = match byte {
            b'.' => !is_hex && !text[..at].contains('.') && bytes.get(at + 1).is_some_and(u8::is_ascii_digit),
            // The sign of an exponent.
            b'+' | b'-' => {
                !is_hex && matches!(bytes[at - 1], b'e' | b'E') && bytes.get(at + 1).is_some_and(u8::is_ascii_digit)
            }
            other => is_name_part(*other),
        };
        if !goes_on {
            break;
        }
        at += 1;
    }
    at
}

/// The length of a string or bytes literal at the start of a text, and whether it is closed. One in single quotes that
/// is not closed ends with its line.
fn string_length(text: &str) -> Option<(usize, bool)> {
    let prefix = text.find(|c: char| !matches!(c, 'r' | 'R' | 'b' | 'B')).unwrap_or(text.len());
    let (raw, quotes) = (text[..prefix].contains(['r', 'R']), &text[prefix..]);
    let is_prefix = match prefix {
        0 | 1 => true,
        2 => raw && text[..2].contains(['b', 'B']),
        _ => false,
    };
    let quote = ["\"\"\"", "'''", "\"", "'"].into_iter().find(|quote| is_prefix && quotes.starts_with(quote))?;
    let mut rest = &quotes[quote.len()..];
    let length = |rest: &str| text.len() - rest.len();
    loop {
        if let Some(after) = rest.strip_prefix(quote) {
            return Some((length(after), true));
        }
        let Some(c) = rest.chars().next() else { return Some((text.len(), false)) };
        if quote.len() == 1 && matches!(c, '\n' | '\r') {
            return Some((length(rest), false));
        }
        let skipped = if c == '\\' && !raw {
            rest[1..].chars().next().map_or(1, |next| 1 + next.len_utf8())
        } else {
            c.len_utf8()
        };
        // An escaped line end does not belong to a literal of one line either.
        if quote.len() == 1 && rest[..skipped].ends_with(['\n', '\r']) {
            return Some((length(&rest[1..]), false));
        }
        rest = &rest[skipped..];
    }
}
