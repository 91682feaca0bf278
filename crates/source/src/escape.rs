//! Text from outside on its way to a terminal or a page. What would drive a terminal, or turn what is written
//! around, is shown, not obeyed.

use std::borrow::Cow;
use std::fmt::Write;

/// `text` with control characters, and those that turn the direction of writing, made visible. Line
/// ends and tabs stay; a carriage return before a line end is dropped.
pub fn escape_terminal(text: &str) -> Cow<'_, str> {
    // Fast path for plain letters, digits and punctuation, which most texts are.
    if is_plain(text.as_bytes()) || !text.contains(is_control_or_bidi) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 16);
    let mut rest = text.chars().peekable();
    while let Some(c) = rest.next() {
        if c == '\r' && rest.peek() == Some(&'\n') {
            continue;
        }
        if is_control_or_bidi(c) {
            let _ = write!(shown, "\\u{{{:x}}}", c as u32);
        } else {
            shown.push(c);
        }
    }
    Cow::Owned(shown)
}

/// Whether there are only plain letters, digits and signs. Each piece is looked through to its end, so that many
/// bytes are compared at once.
fn is_plain(text: &[u8]) -> bool {
    let fine = |byte: &u8| matches!(byte, b' '..=b'~' | b'\n' | b'\t');
    text.chunks(64).all(|piece| piece.iter().fold(true, |all, byte| all & fine(byte)))
}

/// One line of text from outside: line ends and tabs are made visible too.
pub fn escape_line(text: &str) -> Cow<'_, str> {
    let shown = escape_terminal(text);
    if shown.contains(['\n', '\t']) { Cow::Owned(shown.replace('\n', "\\n").replace('\t', "\\t")) } else { shown }
}

/// Whether a character drives a terminal, turns the direction of writing, or cannot be seen.
pub fn is_control_or_bidi(c: char) -> bool {
    (c.is_control() && c != '\n' && c != '\t')
        // Direction marks (Unicode UAX 9) and invisible separators.
        // Nor what no text may hold, and XML refuses.
        || matches!(c, '\u{fffe}' | '\u{ffff}')
        || matches!(c, '\u{061c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_drives_a_terminal_passes() {
        assert_eq!(
            escape_terminal("a\x1b[2Jb\rc\u{9b}d\u{202e}e\r\nf\tg"),
            "a\\u{1b}[2Jb\\u{d}c\\u{9b}d\\u{202e}e\nf\tg"
        );
        assert_eq!(escape_line("a\nb"), "a\\nb");
        assert!(matches!(escape_terminal("Käthe Olsen\n"), Cow::Borrowed(_)));
    }
}
