//! Texts that fit a pattern (ECMA-262, as far as it reads the same in other regular expressions).

use regex::Regex;
use regex_syntax::hir::{Class, Hir, HirKind};

/// The longest text that is made.
const MAX_SAMPLE_CHARS: usize = 1_000;

/// More repetitions than must be, where the text is too short.
const EXTRA_REPETITIONS: u32 = 64;

/// A text that fits `pattern` and has as many characters as is allowed, if one is found.
pub(crate) fn sample(pattern: &str, least: usize, most: usize) -> Option<String> {
    let parsed = regex_syntax::Parser::new().parse(pattern).ok()?;
    let fits = Regex::new(pattern).ok()?;
    (0..=EXTRA_REPETITIONS.min(u32::try_from(least).unwrap_or(EXTRA_REPETITIONS).saturating_add(2))).find_map(|more| {
        let mut text = String::new();
        write(&parsed, more, &mut text)?;
        let length = text.chars().count();
        ((least..=most).contains(&length) && fits.is_match(&text)).then_some(text)
    })
}

/// Writes a text that a part of a pattern takes; repetitions without an end are gone through `more` times beyond the
/// least. `None` where it would be too long.
fn write(part: &Hir, more: u32, text: &mut String) -> Option<()> {
    match part.kind() {
        HirKind::Empty | HirKind::Look(_) => {}
        HirKind::Literal(literal) => text.push_str(std::str::from_utf8(&literal.0).ok()?),
        HirKind::Class(class) => text.push(character(class)?),
        HirKind::Capture(capture) => write(&capture.sub, more, text)?,
        HirKind::Concat(parts) => parts.iter().try_for_each(|part| write(part, more, text))?,
        HirKind::Alternation(parts) => write(parts.first()?, more, text)?,
        HirKind::Repetition(repetition) => {
            let most = repetition.max.unwrap_or(u32::MAX);
            // Something is better than nothing if both fit.
            let least = repetition.min.max(1).min(most);
            let times = least.saturating_add(more).min(most);
            for _ in 0..times {
                write(&repetition.sub, more.min(1), text)?;
                if text.len() > MAX_SAMPLE_CHARS {
                    return None;
                }
            }
        }
    }
    (text.len() <= MAX_SAMPLE_CHARS).then_some(())
}

/// A character of a class: one that a person would write, if there is one.
fn character(class: &Class) -> Option<char> {
    let Class::Unicode(class) = class else { return None };
    let takes = |c: char| class.iter().any(|range| (range.start()..=range.end()).contains(&c));
    let usual = ('a'..='z').chain('A'..='Z').chain('1'..='9').chain(['0', '-', '_', '.', ' ', '/']);
    usual.into_iter().find(|c| takes(*c)).or_else(|| class.iter().map(|range| range.start()).next())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_made_text_fits_its_pattern() {
        for (pattern, least, most, text) in [
            ("^ZN[0-9a-fA-F]{32}$", 0, 64, "ZNaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"),
            ("^[A-Z]{2}-\\d+$", 0, 64, "AA-1"),
            ("^[A-Z]{2}-\\d+$", 8, 8, "AA-11111"),
            ("^(open|closed)$", 0, 64, "open"),
            ("^\\S+@\\S+$", 0, 64, "a@a"),
            ("lot", 0, 64, "lot"),
        ] {
            assert_eq!(sample(pattern, least, most).as_deref(), Some(text), "{pattern}");
        }
        for pattern in ["(?=x)x", "[", "^a{2000}$"] {
            assert_eq!(sample(pattern, 0, usize::MAX), None, "{pattern}");
        }
        assert_eq!(sample("^ab$", 3, 9), None, "no text of that length fits");
    }
}
