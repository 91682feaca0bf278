//! Text from outside on its way into a page.

use maud::Render;
use std::fmt::{self, Write};
use yieldtray_source::escape::escape_terminal;

/// Text as the content of an element, without markup. Quotes are kept, which are not allowed in an attribute: a report
/// is full of JSON.
pub(super) struct Content<T>(pub(super) T);

impl<T: AsRef<str>> Render for Content<T> {
    fn render_to(&self, page: &mut String) {
        let text = escape_terminal(self.0.as_ref());
        let mut rest = &*text;
        while let Some(at) = memchr::memchr3(b'&', b'<', b'>', rest.as_bytes()) {
            page.push_str(&rest[..at]);
            page.push_str(match rest.as_bytes()[at] {
                b'&' => "&amp;",
                b'<' => "&lt;",
                _ => "&gt;",
            });
            rest = &rest[at + 1..];
        }
        page.push_str(rest);
    }
}

/// A byte takes at most so many on the page.
const LONGEST: usize = 6;

/// How many bytes of a text take at most `limit` bytes of the page, and how many they do take: what is escaped
/// is longer there.
pub(super) fn fitting(text: &str, limit: usize) -> (usize, usize) {
    // Most bodies are short: they fit whatever they hold.
    if text.len() * LONGEST <= limit {
        return (text.len(), text.len());
    }
    let mut taken = 0;
    for (at, byte) in text.bytes().enumerate() {
        let own = match byte {
            b'<' | b'>' => 4,
            b'&' => 5,
            b'\n' | b'\t' | b' '..=b'~' => 1,
            // Some of these are written as numeric references.
            _ => 3,
        };
        if taken + own > limit {
            return (text.floor_char_boundary(at), taken);
        }
        taken += own;
    }
    (text.len(), taken)
}

/// A length of time, to be read.
pub(super) struct Time(pub(super) f64);

impl Render for Time {
    fn render_to(&self, page: &mut String) {
        let _ = write!(page, "{self}");
    }
}

impl fmt::Display for Time {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            millis if millis < 9.95 => write!(f, "{millis:.1} ms"),
            millis if millis < 1e3 => write!(f, "{millis:.0} ms"),
            millis if millis < 6e4 => write!(f, "{:.2} s", millis / 1e3),
            millis => write!(f, "{}m{}s", (millis / 6e4) as u64, (millis / 1e3) as u64 % 60),
        }
    }
}

/// `one` or `many` with the number before it.
pub(super) fn count(number: usize, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}
