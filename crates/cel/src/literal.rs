//! Literals: their text to a value.

use crate::error::SyntaxErrorKind;
use std::sync::Arc;

/// The value of a literal.
#[derive(Clone, Debug, PartialEq)]
pub enum Literal {
    /// `null`
    Null,
    /// `true` or `false`
    Bool(bool),
    /// An integer of 64 bits.
    Int(i64),
    /// An unsigned integer of 64 bits.
    Uint(u64),
    /// A floating-point number (IEEE 754, binary64).
    Double(f64),
    /// A text.
    String(Arc<str>),
    /// Bytes.
    Bytes(Arc<[u8]>),
}

/// The value of a number; `negative` if a minus sign is before it.
pub(crate) fn number(text: &str, negative: bool) -> Result<Literal, SyntaxErrorKind> {
    let sign = if negative { "-" } else { "" };
    let out_of_range = || SyntaxErrorKind::IntegerRange(format!("{sign}{text}"));
    let not_a_number = || SyntaxErrorKind::Number(text.to_owned());
    let (digits, unsigned) = match text.strip_suffix(['u', 'U']) {
        Some(digits) => (digits, true),
        None => (text, false),
    };
    let (digits, radix) = match digits.strip_prefix("0x").or_else(|| digits.strip_prefix("0X")) {
        Some(digits) => (digits, 16),
        None => (digits, 10),
    };
    if !digits.is_empty() && digits.chars().all(|c| c.is_digit(radix)) {
        return match unsigned {
            true => u64::from_str_radix(digits, radix).map(Literal::Uint).map_err(|_| out_of_range()),
            false => {
                i64::from_str_radix(&format!("{sign}{digits}"), radix).map(Literal::Int).map_err(|_| out_of_range())
            }
        };
    }
    let is_double = !unsigned && radix == 10 && is_double(digits);
    let double = if is_double { format!("{sign}{digits}").parse::<f64>().ok() } else { None };
    double.filter(|double| double.is_finite()).map(Literal::Double).ok_or_else(not_a_number)
}

/// `1.5`, `.5`, `1e10`, `1.5e-3`
fn is_double(text: &str) -> bool {
    let (mantissa, exponent) = match text.split_once(['e', 'E']) {
        Some((mantissa, exponent)) => (mantissa, Some(exponent)),
        None => (text, None),
    };
    let all_digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    let has_mantissa = match mantissa.split_once('.') {
        Some((whole, fraction)) => all_digits(whole) && all_digits(fraction) && !fraction.is_empty(),
        None => all_digits(mantissa) && !mantissa.is_empty() && exponent.is_some(),
    };
    let is_exponent = |text: &str| {
        let digits = text.strip_prefix(['+', '-']).unwrap_or(text);
        all_digits(digits) && !digits.is_empty()
    };
    has_mantissa && exponent.is_none_or(is_exponent)
}

/// The value of a string or bytes literal that is closed. An error has the part of the literal that it is about, in
/// bytes.
pub(crate) fn string(text: &str) -> Result<Literal, (usize, usize, SyntaxErrorKind)> {
    let prefix = text.find(['"', '\'']).unwrap_or_default();
    let (raw, bytes) = (text[..prefix].contains(['r', 'R']), text[..prefix].contains(['b', 'B']));
    let quotes = if text[prefix..].starts_with("\"\"\"") || text[prefix..].starts_with("'''") { 3 } else { 1 };
    let (start, end) = (prefix + quotes, text.len() - quotes);
    let mut value: Vec<u8> = Vec::with_capacity(end - start);
    let mut at = start;
    while let Some(c) = text[at..end].chars().next() {
        if raw || c != '\\' {
            value.extend(c.encode_utf8(&mut [0; 4]).bytes());
            at += c.len_utf8();
            continue;
        }
        let (escape, length) = escape(&text[at..end], bytes);
        match escape {
            Ok(Escaped::Byte(byte)) => value.push(byte),
            Ok(Escaped::Character(c)) => value.extend(c.encode_utf8(&mut [0; 4]).bytes()),
            Err(kind) => return Err((at, at + length, kind)),
        }
        at += length;
    }
    match bytes {
        true => Ok(Literal::Bytes(value.into())),
        // Characters and escapes of a string are whole characters.
        false => Ok(Literal::String(String::from_utf8_lossy(&value).into())),
    }
}

enum Escaped {
    Byte(u8),
    Character(char),
}

/// The escape sequence at the start of a text, and its length.
fn escape(text: &str, in_bytes: bool) -> (Result<Escaped, SyntaxErrorKind>, usize) {
    let Some(letter) = text[1..].chars().next() else {
        return (Err(SyntaxErrorKind::Escape(text.to_owned())), text.len());
    };
    let plain = |c| (Ok(Escaped::Character(c)), 1 + letter.len_utf8());
    let (radix, from, digits) = match letter {
        'a' => return plain('\u{7}'),
        'b' => return plain('\u{8}'),
        'f' => return plain('\u{c}'),
        'n' => return plain('\n'),
        'r' => return plain('\r'),
        't' => return plain('\t'),
        'v' => return plain('\u{b}'),
        '\\' | '?' | '"' | '\'' | '`' => return plain(letter),
        'x' | 'X' => (16, 2, 2),
        'u' if !in_bytes => (16, 2, 4),
        'U' if !in_bytes => (16, 2, 8),
        '0'..='3' => (8, 1, 3),
        _ => return (Err(SyntaxErrorKind::Escape(format!("\\{letter}"))), 1 + letter.len_utf8()),
    };
    let number: String = text[from..].chars().take(digits).take_while(|c| c.is_digit(radix)).collect();
    let length = from + number.len();
    if number.len() < digits {
        return (Err(SyntaxErrorKind::Escape(text[..length].to_owned())), length);
    }
    let code = u32::from_str_radix(&number, radix).unwrap_or(u32::MAX);
    let value = match in_bytes {
        true => u8::try_from(code).ok().map(Escaped::Byte),
        false => char::from_u32(code).map(Escaped::Character),
    };
    (value.ok_or_else(|| SyntaxErrorKind::CodePoint(text[..length].to_owned())), length)
}
