//! Scans expressions just far enough to find their end: strings and brackets. Parsing them is the task of the
//! expression crate.

/// The end of the string literal that opens at `at` (a quote, single or tripled; `raw` when an `r`
/// was before it). `None` if it is never closed.
fn string_end(bytes: &[u8], at: usize, raw: bool) -> Option<usize> {
    let quote = bytes[at];
    let triple = bytes.get(at + 1) == Some(&quote) && bytes.get(at + 2) == Some(&quote);
    let (mut i, closing) = if triple { (at + 3, 3) } else { (at + 1, 1) };
    while i < bytes.len() {
        match bytes[i] {
            b'\\' if !raw => i += 2,
            b if b == quote && bytes[i..].iter().take(closing).filter(|&&c| c == quote).count() == closing => {
                return Some(i + closing);
            }
            _ => i += 1,
        }
    }
    None
}

/// Whether the quote at `at` belongs to a raw string: `r"…"`, `br'…'`.
fn is_raw(bytes: &[u8], at: usize) -> bool {
    let prefix = bytes[..at].iter().rev().take_while(|b| matches!(b, b'r' | b'R' | b'b' | b'B')).count();
    let word = bytes[..at - prefix].last().is_some_and(|b| b.is_ascii_alphanumeric() || *b == b'_');
    prefix > 0 && !word && bytes[at - prefix..at].iter().any(|b| matches!(b, b'r' | b'R'))
}

/// The position of the `}}` that closes the placeholder whose expression starts at `from`: outside the expression's
/// own strings, lists and maps, and on the same line.
pub fn mark_end(text: &str, from: usize) -> Option<usize> {
    let bytes = text.as_bytes();
    let mut depth = 0usize;
    let mut i = from;
    while i < bytes.len() {
        match bytes[i] {
            b'\n' => return None,
            b'"' | b'\'' => {
                i = string_end(bytes, i, is_raw(bytes, i))?;
                continue;
            }
            b'(' | b'[' | b'{' => depth += 1,
            b'}' if depth == 0 => return (bytes.get(i + 1) == Some(&b'}')).then_some(i),
            b')' | b']' | b'}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        i += 1;
    }
    None
}

/// The first position of `needle` in `expression` outside strings and brackets.
pub fn find_outside_strings(expression: &str, needle: &str) -> Option<usize> {
    let bytes = expression.as_bytes();
    // Most expressions do not have it at all.
    memchr::memmem::find(bytes, needle.as_bytes())?;
    let mut depth = 0usize;
    let mut i = 0;
    while i < bytes.len() {
        if depth == 0 && bytes[i..].starts_with(needle.as_bytes()) {
            return Some(i);
        }
        match bytes[i] {
            b'"' | b'\'' => {
                i = string_end(bytes, i, is_raw(bytes, i))?;
                continue;
            }
            b'(' | b'[' | b'{' => depth += 1,
            b')' | b']' | b'}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        i += 1;
    }
    None
}

/// The start of the string literal at the end of `expression`, if it is outside brackets.
pub fn last_string(expression: &str) -> Option<usize> {
    let bytes = expression.as_bytes();
    let (mut depth, mut i, mut last) = (0usize, 0, None);
    while i < bytes.len() {
        match bytes[i] {
            b'"' | b'\'' => {
                let end = string_end(bytes, i, is_raw(bytes, i))?;
                last = (depth == 0 && end == bytes.len()).then_some(i);
                i = end;
                continue;
            }
            b'(' | b'[' | b'{' => depth += 1,
            b')' | b']' | b'}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        i += 1;
    }
    last
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_ends_at_its_own_braces() {
        for (text, end) in [
            ("name}} tail}}", Some(4)),
            ("'}}'}}", Some(4)),
            (r#"{"a": {"b": 1}} }}"#, Some(16)),
            (r#""\"}}" }}"#, Some(7)),
            ("'''it's }}''' }}", Some(14)),
            (r"r'\' }}", Some(5)),
            ("name} }", None),
            ("name\n}}", None),
            ("'open }}", None),
        ] {
            assert_eq!(mark_end(text, 0), end, "{text:?}");
        }
    }

    #[test]
    fn words_inside_strings_and_brackets_are_passed_over() {
        assert_eq!(find_outside_strings("a == ' else ' else 'x'", " else "), Some(13));
        assert_eq!(find_outside_strings("f(a else b)", " else "), None);
    }
}
