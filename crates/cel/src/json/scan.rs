//! Finds the parts of a text that is known to be JSON.

use std::borrow::Cow;

/// The first byte from a place on that is not white space.
pub(super) fn skip_blank(text: &[u8], mut at: usize) -> usize {
    while let Some(b' ' | b'\n' | b'\t' | b'\r') = text.get(at) {
        at += 1;
    }
    at
}

/// The end of the value that begins at a place.
pub(super) fn skip_value(text: &[u8], at: usize) -> usize {
    match text.get(at) {
        Some(b'"') => skip_string(text, at),
        Some(b'{' | b'[') => skip_nested(text, at),
        _ => {
            let rest = text.get(at..).unwrap_or_default();
            let is_end = |byte: &u8| matches!(byte, b',' | b']' | b'}' | b' ' | b'\n' | b'\t' | b'\r');
            at + rest.iter().position(is_end).unwrap_or(rest.len())
        }
    }
}

/// The end of the string that begins at a place, its quotes included.
pub(super) fn skip_string(text: &[u8], at: usize) -> usize {
    let mut at = at + 1;
    // Most strings are short: a loop is as fast as a search.
    while let Some(byte) = text.get(at) {
        match byte {
            b'"' => return at + 1,
            b'\\' => at += 2,
            _ => at += 1,
        }
    }
    text.len()
}

fn skip_nested(text: &[u8], mut at: usize) -> usize {
    let mut depth = 0_usize;
    while let Some(byte) = text.get(at) {
        match byte {
            b'"' => {
                at = skip_string(text, at);
                continue;
            }
            b'{' | b'[' => depth += 1,
            b'}' | b']' => {
                depth -= 1;
                if depth == 0 {
                    return at + 1;
                }
            }
            _ => {}
        }
        at += 1;
    }
    text.len()
}

/// The text of the string that begins at a place.
pub(super) fn string(text: &[u8], at: usize) -> Cow<'_, str> {
    let end = skip_string(text, at);
    let inner = text.get(at + 1..end.saturating_sub(1)).unwrap_or_default();
    match memchr::memchr(b'\\', inner) {
        None => String::from_utf8_lossy(inner),
        Some(first) => Cow::Owned(unescape(inner, first)),
    }
}

/// The code unit of an escape `\uXXXX` at the start of a text.
pub(super) fn unit(text: &[u8]) -> Option<u32> {
    let digits = text.strip_prefix(b"\\u")?.get(..4)?;
    digits.iter().try_fold(0, |unit, digit| Some(unit << 4 | char::from(*digit).to_digit(16)?))
}

fn unescape(inner: &[u8], first: usize) -> String {
    let mut out = inner[..first].to_vec();
    let mut at = first;
    while let Some(byte) = inner.get(at) {
        if *byte != b'\\' {
            out.push(*byte);
            at += 1;
            continue;
        }
        let plain = match inner.get(at + 1) {
            Some(b'b') => 0x8,
            Some(b'f') => 0xc,
            Some(b'n') => b'\n',
            Some(b'r') => b'\r',
            Some(b't') => b'\t',
            Some(b'u') => {
                let high = unit(&inner[at..]).unwrap_or(0xfffd);
                at += 6;
                let code = match high {
                    0xd800..=0xdbff => {
                        let low = unit(inner.get(at..).unwrap_or_default()).unwrap_or(0xdc00);
                        at += 6;
                        0x10000 + ((high - 0xd800) << 10) + low.saturating_sub(0xdc00)
                    }
                    code => code,
                };
                let c = char::from_u32(code).unwrap_or(char::REPLACEMENT_CHARACTER);
                out.extend(c.encode_utf8(&mut [0; 4]).bytes());
                continue;
            }
            Some(other) => *other,
            None => break,
        };
        out.push(plain);
        at += 2;
    }
    String::from_utf8(out).unwrap_or_else(|error| String::from_utf8_lossy(error.as_bytes()).into_owned())
}
