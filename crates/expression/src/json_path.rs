//! JSONPath (RFC 9535), read with a limit.

use serde_json_path::JsonPath;

/// So many brackets may stand in each other: the time it takes to read them doubles with each.
const DEEPEST_BRACKETS: usize = 10;

/// So many parentheses may stand in each other: each takes a part of the stack.
const DEEPEST_PARENTHESES: usize = 64;

/// Reads a JSONPath.
///
/// # Errors
/// What is wrong with it, in words, also where brackets or parentheses nest too deep.
pub fn read_json_path(text: &str) -> Result<JsonPath, String> {
    let (mut brackets, mut parentheses) = (0_usize, 0_usize);
    let mut quoted = None;
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        match (letter, quoted) {
            ('\\', Some(_)) => drop(letters.next()),
            (letter, Some(quote)) if letter == quote => quoted = None,
            (_, Some(_)) => {}
            ('"' | '\'', None) => quoted = Some(letter),
            ('[', None) => brackets += 1,
            (']', None) => brackets = brackets.saturating_sub(1),
            ('(', None) => parentheses += 1,
            (')', None) => parentheses = parentheses.saturating_sub(1),
            _ => {}
        }
        if brackets > DEEPEST_BRACKETS {
            return Err(format!("more than {DEEPEST_BRACKETS} brackets stand in each other"));
        }
        if parentheses > DEEPEST_PARENTHESES {
            return Err(format!("more than {DEEPEST_PARENTHESES} parentheses stand in each other"));
        }
    }
    JsonPath::parse(text).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_nests_too_deep_is_refused_at_once() {
        let nested = |depth: usize| format!("$.lots{}{}", "[?@.lots".repeat(depth), "]".repeat(depth));
        assert!(read_json_path(&nested(3)).is_ok());
        let words = "more than 10 brackets stand in each other";
        assert_eq!(read_json_path(&nested(200)).map(drop), Err(words.to_owned()));
        // One behind the other, and in quotes, are as many as one likes.
        assert!(read_json_path(&format!("$.lots{}", "[?@.kg > 5]".repeat(40))).is_ok());
        assert!(read_json_path("$['[[[[[[[[[[[[[[\\'[[[[']").is_ok());
        let deep = format!("$[?{}@.kg{}]", "(".repeat(100), ")".repeat(100));
        let words = "more than 64 parentheses stand in each other";
        assert_eq!(read_json_path(&deep).map(drop), Err(words.to_owned()));
    }
}
