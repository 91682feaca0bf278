//! JSONPath (RFC 9535), read with limits.

use serde_json::Value;
use thiserror::Error;

/// Nested brackets that are parsed: the time doubles with each.
const MAX_BRACKETS: usize = 10;

/// Nested parentheses that are parsed: each takes a part of the stack.
const MAX_PARENTHESES: usize = 64;

/// A JSONPath that has been read.
#[derive(Clone, Debug)]
pub struct JsonPath(serde_json_path::JsonPath);

/// Why a text is not a JSONPath.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum JsonPathError {
    /// More brackets are nested than are read.
    #[error("more than {MAX_BRACKETS} brackets stand in each other")]
    NestedBrackets,
    /// More parentheses are nested than are read.
    #[error("more than {MAX_PARENTHESES} parentheses stand in each other")]
    NestedParentheses,
    /// RFC 9535 does not allow it; the words say what.
    #[error("{0}")]
    Syntax(String),
}

impl JsonPath {
    /// Reads a JSONPath.
    ///
    /// # Errors
    /// [`JsonPathError`], also where brackets or parentheses are nested too deep.
    pub fn parse(text: &str) -> Result<Self, JsonPathError> {
        check_depth(text)?;
        serde_json_path::JsonPath::parse(text).map(Self).map_err(|error| JsonPathError::Syntax(error.to_string()))
    }

    /// The values that it selects, in document order.
    pub fn select<'v>(&self, document: &'v Value) -> Vec<&'v Value> {
        self.0.query(document).into_iter().collect()
    }

    /// The JSON Pointers (RFC 6901) of the values that it selects, in document order.
    pub fn pointers(&self, document: &Value) -> Vec<String> {
        self.0.query_located(document).locations().map(|location| location.to_json_pointer()).collect()
    }
}

fn check_depth(text: &str) -> Result<(), JsonPathError> {
    let (mut brackets, mut parentheses) = (0_usize, 0_usize);
    let mut quoted = None;
    let mut characters = text.chars();
    while let Some(character) = characters.next() {
        match (character, quoted) {
            ('\\', Some(_)) => drop(characters.next()),
            (character, Some(quote)) if character == quote => quoted = None,
            (_, Some(_)) => {}
            ('"' | '\'', None) => quoted = Some(character),
            ('[', None) => brackets += 1,
            (']', None) => brackets = brackets.saturating_sub(1),
            ('(', None) => parentheses += 1,
            (')', None) => parentheses = parentheses.saturating_sub(1),
            _ => {}
        }
        if brackets > MAX_BRACKETS {
            return Err(JsonPathError::NestedBrackets);
        }
        if parentheses > MAX_PARENTHESES {
            return Err(JsonPathError::NestedParentheses);
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn values_and_their_pointers_come_in_document_order() {
        let path = JsonPath::parse("$.lots[?@.kg > 5].id").expect("a JSONPath");
        let lots = json!({ "lots": [{ "id": "L-1", "kg": 7 }, { "id": "L-2", "kg": 3 }, { "id": "L-3", "kg": 6 }] });
        assert_eq!(path.select(&lots), [&json!("L-1"), &json!("L-3")]);
        assert_eq!(path.pointers(&lots), ["/lots/0/id", "/lots/2/id"]);
    }

    #[test]
    fn what_is_nested_too_deep_is_refused_at_once() {
        let error = |path: &str| JsonPath::parse(path).map(drop);
        let nested = |depth: usize| format!("$.lots{}{}", "[?@.lots".repeat(depth), "]".repeat(depth));
        assert_eq!(error(&nested(3)), Ok(()));
        assert_eq!(error(&nested(200)), Err(JsonPathError::NestedBrackets));
        // One after the other, and in quotes, are as many as one likes.
        assert_eq!(error(&format!("$.lots{}", "[?@.kg > 5]".repeat(40))), Ok(()));
        assert_eq!(error("$['[[[[[[[[[[[[[[\\'[[[[']"), Ok(()));
        let deep = format!("$[?{}@.kg{}]", "(".repeat(100), ")".repeat(100));
        assert_eq!(error(&deep), Err(JsonPathError::NestedParentheses));
    }
}
