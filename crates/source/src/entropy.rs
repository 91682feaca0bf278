//! Finds long random texts, which are likely to be secrets.

use crate::Span;

/// The shortest random text that is taken for a secret.
const MIN_RUN_BYTES: usize = 24;

/// Runs of letters and digits that no person writes: long, mixed, and without repetition.
pub fn high_entropy_runs(text: &str) -> Vec<Span> {
    let mut found = Vec::new();
    let bytes = text.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        let part = |b: &&u8| b.is_ascii_alphanumeric() || matches!(**b, b'_' | b'-' | b'+');
        let run = bytes[at..].iter().take_while(part).count();
        if run >= MIN_RUN_BYTES && is_random(&bytes[at..at + run]) {
            found.push(Span::new(at, at + run));
        }
        at += run.max(1);
    }
    found
}

/// The number of letters in runs that read as words: at least four in a row, of one case except for the first, and
/// never more than four without a vowel.
fn letters_in_words(run: &[u8]) -> usize {
    let mut letters = 0;
    let mut at = 0;
    while at < run.len() {
        let first = run[at];
        let lower = run[at + 1..].iter().take_while(|b| b.is_ascii_lowercase()).count();
        let upper = run[at + 1..].iter().take_while(|b| b.is_ascii_uppercase()).count();
        let length = match first.is_ascii_alphabetic() {
            false => 0,
            true if lower > 0 => lower + 1,
            // The last one of several upper-case letters begins the next word.
            true => upper + 1 - usize::from(run.get(at + upper + 1).is_some_and(u8::is_ascii_lowercase) && upper > 0),
        };
        let word = &run[at..at + length];
        let is_vowel = |b: &u8| b"aeiouyAEIOUY".contains(b);
        if length >= 4 && word.windows(5.min(length)).all(|part| part.iter().any(is_vowel)) {
            letters += length;
        }
        at += length.max(1);
    }
    letters
}

fn is_random(run: &[u8]) -> bool {
    // Words joined by separators, and UUIDs, are not secrets.
    let longest = run.split(|b| matches!(b, b'-' | b'_' | b'+')).map(<[u8]>::len).max().unwrap_or_default();
    let digits = run.iter().filter(|b| b.is_ascii_digit()).count();
    let letters = run.iter().filter(|b| b.is_ascii_alphabetic()).count();
    if longest < 16 || digits < 3 || letters < 6 {
        return false;
    }
    // Most letters are in words and there are few digits, as in `getHistoricalStatsDefinition-200`.
    if digits * 10 < run.len() * 3 && letters_in_words(run) * 4 >= letters * 3 {
        return false;
    }
    // Shannon's measure of surprise, in bits a character: prose joined together has below three.
    let mut counts = [0u32; 256];
    run.iter().for_each(|b| counts[usize::from(*b)] += 1);
    let all = run.len() as f64;
    let bits: f64 =
        counts.iter().filter(|count| **count > 0).map(|count| f64::from(*count) / all).map(|p| -p * p.log2()).sum();
    bits > 3.2
}
