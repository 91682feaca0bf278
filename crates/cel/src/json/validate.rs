//! Checks that a text is JSON.

use super::scan::{skip_blank, unit};
use rustc_hash::FxHashMap;
use thiserror::Error;

/// Lists and objects inside each other that are read: what goes through a value needs a bounded stack therefore.
pub const MAX_JSON_DEPTH: usize = 128;

/// Why a text is not JSON.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{kind} at line {line}, column {column}")]
pub struct JsonError {
    /// The kind of error.
    pub kind: JsonErrorKind,
    /// The line, from 1.
    pub line: usize,
    /// The column in characters, from 1.
    pub column: usize,
}

/// The kind of an error in a text that is not JSON.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum JsonErrorKind {
    /// Something else is expected.
    #[error("expected {0}")]
    Expected(&'static str),
    /// The text ends too early.
    #[error("unexpected end of text, expected {0}")]
    End(&'static str),
    /// A number that does not follow the grammar.
    #[error("this is not a number")]
    Number,
    /// A control character in a text.
    #[error("a control character in a string must be escaped")]
    ControlCharacter,
    /// An escape that is not defined.
    #[error("this is not an escape sequence")]
    Escape,
    /// Bytes that are not UTF-8.
    #[error("this is not UTF-8")]
    Utf8,
    /// Too many levels.
    #[error("nesting is deeper than {MAX_JSON_DEPTH} levels")]
    Depth,
    /// A text of more than 4 GiB.
    #[error("the text is larger than 4 GiB")]
    Size,
}

/// The facts about a text that is JSON.
pub(super) struct Valid {
    /// Where its value begins.
    pub(super) start: usize,
    /// Where each large list or object ends that begins at a place.
    pub(super) ends: FxHashMap<u32, u32>,
}

/// The ends of lists and objects whose text is shorter than this are looked for when they are wanted.
const LARGE_FROM_BYTES: usize = 1024;

/// Checks a text.
pub(super) fn validate(text: &[u8]) -> Result<Valid, JsonError> {
    let error = |(at, kind): (usize, JsonErrorKind)| {
        let before = &text[..at.min(text.len())];
        let line_start = before.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
        JsonError { kind, line, column: String::from_utf8_lossy(&before[line_start..]).chars().count() + 1 }
    };
    if u32::try_from(text.len()).is_err() {
        return Err(error((0, JsonErrorKind::Size)));
    }
    if let Err(wrong) = std::str::from_utf8(text) {
        return Err(error((wrong.valid_up_to(), JsonErrorKind::Utf8)));
    }
    let mut ends = FxHashMap::default();
    check_document(text, &mut ends).map_err(error)?;
    Ok(Valid { start: skip_blank(text, 0), ends })
}

/// Where a text is not JSON, and why.
type Wrong = (usize, JsonErrorKind);

fn expected(text: &[u8], at: usize, what: &'static str) -> Wrong {
    (at, if at < text.len() { JsonErrorKind::Expected(what) } else { JsonErrorKind::End(what) })
}

/// One value and the end. Lists and objects are gone through in a loop, so that their depth takes no stack.
fn check_document(text: &[u8], ends: &mut FxHashMap<u32, u32>) -> Result<(), Wrong> {
    // Where each list or object that is open begins, and its closing bracket.
    let mut open: Vec<(usize, u8)> = Vec::with_capacity(16);
    let mut at = 0;
    loop {
        at = skip_blank(text, at);
        match text.get(at) {
            Some(b'"') => at = check_string(text, at)?,
            Some(b'-' | b'0'..=b'9') => at = check_number(text, at)?,
            Some(bracket @ (b'{' | b'[')) => {
                if open.len() == MAX_JSON_DEPTH {
                    return Err((at, JsonErrorKind::Depth));
                }
                let close = if *bracket == b'{' { b'}' } else { b']' };
                let first = skip_blank(text, at + 1);
                if text.get(first) == Some(&close) {
                    at = first + 1;
                } else {
                    open.push((at, close));
                    at = if close == b'}' { check_name(text, first)? } else { first };
                    continue;
                }
            }
            Some(b't') => at = check_word(text, at, b"true")?,
            Some(b'f') => at = check_word(text, at, b"false")?,
            Some(b'n') => at = check_word(text, at, b"null")?,
            _ => return Err(expected(text, at, "a value")),
        }
        // After a value: what closes, until something follows.
        loop {
            at = skip_blank(text, at);
            let Some((start, close)) = open.last().copied() else {
                return if at == text.len() { Ok(()) } else { Err((at, JsonErrorKind::Expected("the end"))) };
            };
            match text.get(at) {
                Some(b',') if close == b'}' => {
                    at = check_name(text, skip_blank(text, at + 1))?;
                    break;
                }
                Some(b',') => {
                    at += 1;
                    break;
                }
                Some(byte) if *byte == close => {
                    at += 1;
                    open.pop();
                    if at - start >= LARGE_FROM_BYTES {
                        ends.insert(start as u32, at as u32);
                    }
                }
                _ => return Err(expected(text, at, if close == b'}' { "`,` or `}`" } else { "`,` or `]`" })),
            }
        }
    }
}

/// The name of a member and the colon; returns what is after them.
#[inline]
fn check_name(text: &[u8], at: usize) -> Result<usize, Wrong> {
    if text.get(at) != Some(&b'"') {
        return Err(expected(text, at, "a name in double quotes"));
    }
    let colon = skip_blank(text, check_string(text, at)?);
    match text.get(colon) {
        Some(b':') => Ok(colon + 1),
        _ => Err(expected(text, colon, "`:`")),
    }
}

fn check_word(text: &[u8], at: usize, word: &[u8]) -> Result<usize, Wrong> {
    match text[at..].starts_with(word) {
        true => Ok(at + word.len()),
        false => Err((at, JsonErrorKind::Expected("a value"))),
    }
}

#[inline]
fn check_string(text: &[u8], at: usize) -> Result<usize, Wrong> {
    let mut at = at + 1;
    loop {
        at = skip_plain(text, at);
        match text.get(at) {
            Some(b'"') => return Ok(at + 1),
            Some(b'\\') => at = check_escape(text, at)?,
            Some(0..=0x1f) => return Err((at, JsonErrorKind::ControlCharacter)),
            Some(_) => at += 1,
            None => return Err((at, JsonErrorKind::End("`\"`"))),
        }
    }
}

/// Passes over characters that mean nothing in a string, eight at a time.
#[inline]
fn skip_plain(text: &[u8], mut at: usize) -> usize {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const HIGH: u64 = 0x8080_8080_8080_8080;
    while let Some(chunk) = text.get(at..).and_then(|rest| rest.first_chunk::<8>()) {
        let word = u64::from_le_bytes(*chunk);
        let zero_in = |word: u64| word.wrapping_sub(ONES) & !word & HIGH;
        let quote = zero_in(word ^ (ONES * 0x22));
        let backslash = zero_in(word ^ (ONES * 0x5c));
        let control = word.wrapping_sub(ONES * 0x20) & !word & HIGH;
        let found = quote | backslash | control;
        if found != 0 {
            // The lowest mark is a right one; those above it may come from a borrow.
            return at + (found.trailing_zeros() / 8) as usize;
        }
        at += 8;
    }
    at
}

#[cold]
fn check_escape(text: &[u8], at: usize) -> Result<usize, Wrong> {
    match text.get(at + 1) {
        Some(b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't') => Ok(at + 2),
        Some(b'u') => {
            let code = unit(&text[at..]).ok_or((at, JsonErrorKind::Escape))?;
            let second = || unit(&text[at + 6..]);
            match code {
                0xd800..=0xdbff if matches!(second(), Some(0xdc00..=0xdfff)) => Ok(at + 12),
                0xd800..=0xdfff => Err((at, JsonErrorKind::Escape)),
                _ => Ok(at + 6),
            }
        }
        _ => Err((at, JsonErrorKind::Escape)),
    }
}

fn check_number(text: &[u8], at: usize) -> Result<usize, Wrong> {
    let digits = |from: usize| from + text[from..].iter().take_while(|byte| byte.is_ascii_digit()).count();
    let first = at + usize::from(text[at] == b'-');
    let mut at = digits(first);
    if at == first {
        return Err((at, JsonErrorKind::Number));
    }
    // No digit follows a leading zero.
    if text[first] == b'0' && at > first + 1 {
        return Err((first + 1, JsonErrorKind::Number));
    }
    if text.get(at) == Some(&b'.') {
        let fraction = at + 1;
        at = digits(fraction);
        if at == fraction {
            return Err((at, JsonErrorKind::Number));
        }
    }
    if let Some(b'e' | b'E') = text.get(at) {
        let sign = usize::from(matches!(text.get(at + 1), Some(b'+' | b'-')));
        let exponent = at + 1 + sign;
        at = digits(exponent);
        if at == exponent {
            return Err((at, JsonErrorKind::Number));
        }
    }
    Ok(at)
}
