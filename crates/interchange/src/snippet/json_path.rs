//! Values that later requests take from a response, as far as every target can express them.

use super::quote::keyword_free;
use serde_json::{Value, json};

/// The part of a response that a value is taken from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Source {
    /// A member of the JSON body, by names and places.
    Body(Vec<PathStep>),
    /// A header field, by its name in lower case.
    Header(String),
    /// The whole body.
    Text,
    /// The status.
    Status,
}

/// One step into a JSON value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PathStep {
    /// A member of an object.
    Name(String),
    /// A member of a list.
    Place(usize),
}

impl Source {
    /// The part that an expression takes its value from; `None` if it does more than that.
    pub fn of(expression: &str) -> Option<Self> {
        let expression = expression.trim();
        match expression {
            "text" => return Some(Self::Text),
            "status" => return Some(Self::Status),
            _ => {}
        }
        if let Some(rest) = expression.strip_prefix("headers") {
            return match steps(rest)?.as_slice() {
                [PathStep::Name(name)] => Some(Self::Header(name.to_ascii_lowercase())),
                _ => None,
            };
        }
        Some(Self::Body(steps(expression.strip_prefix("body")?)?))
    }

    /// The same for a template.
    pub(super) fn data(&self) -> Value {
        match self {
            Self::Text => json!({ "kind": "text" }),
            Self::Status => json!({ "kind": "status" }),
            Self::Header(name) => json!({ "kind": "header", "name": name }),
            Self::Body(steps) => {
                let steps = steps.iter().map(|step| match step {
                    PathStep::Name(name) => json!({ "name": name, "plain": keyword_free(name) }),
                    // As a text: other languages do not have numbers of any length.
                    PathStep::Place(place) => json!({ "place": place.to_string() }),
                });
                json!({ "kind": "body", "steps": steps.collect::<Vec<_>>() })
            }
        }
    }
}

/// `.name`, `["name"]`, `[0]`, one after the other.
fn steps(mut rest: &str) -> Option<Vec<PathStep>> {
    let mut steps = Vec::new();
    while !rest.is_empty() {
        if let Some(after) = rest.strip_prefix('.') {
            let end = after.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(after.len());
            let name = &after[..end];
            if name.is_empty() || after[end..].starts_with('(') {
                return None;
            }
            steps.push(PathStep::Name(name.to_owned()));
            rest = &after[end..];
            continue;
        }
        let inside = rest.strip_prefix('[')?;
        let end = inside.find(']')?;
        let word = inside[..end].trim();
        let quoted = |mark: char| word.strip_prefix(mark).and_then(|word| word.strip_suffix(mark));
        steps.push(match quoted('"').or_else(|| quoted('\'')) {
            Some(name) if !name.contains(['\\', '"', '\'']) => PathStep::Name(name.to_owned()),
            Some(_) => return None,
            None => PathStep::Place(word.parse().ok()?),
        });
        rest = &inside[end + 1..];
    }
    Some(steps)
}
