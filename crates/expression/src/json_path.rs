//! JSONPath (RFC 9535), read with limits.

use serde_json::Value;
use thiserror::Error;
use yieldtray_cel as cel;

/// Nested brackets that are parsed: the time doubles with each.
const MAX_BRACKETS: usize = 10;

/// Nested parentheses that are parsed: each takes a part of the stack.
const MAX_PARENTHESES: usize = 64;

/// A JSONPath that has been read.
#[derive(Clone, Debug)]
pub struct JsonPath {
    path: serde_json_path::JsonPath,
    /// Its steps, if they are simple: then they are followed on values, of which no document is made.
    steps: Option<Vec<Step>>,
}

/// A step of a simple path, at one level or at all levels below.
#[derive(Clone, Debug)]
struct Step {
    selector: Selector,
    descends: bool,
}

#[derive(Clone, Debug)]
enum Selector {
    Name(String),
    /// Counted from the end if it is negative.
    Index(i64),
    All,
}

/// Why a text is not a JSONPath.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum JsonPathError {
    /// More brackets are nested than are read.
    #[error("more than {MAX_BRACKETS} nested brackets")]
    NestedBrackets,
    /// More parentheses are nested than are read.
    #[error("more than {MAX_PARENTHESES} nested parentheses")]
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
        let path = serde_json_path::JsonPath::parse(text).map_err(|error| JsonPathError::Syntax(error.to_string()))?;
        Ok(Self { path, steps: simple_steps(text) })
    }

    /// The values that it selects, in document order.
    pub fn select<'v>(&self, document: &'v Value) -> Vec<&'v Value> {
        self.path.query(document).into_iter().collect()
    }

    /// The JSON Pointers (RFC 6901) of the values that it selects, in document order.
    pub fn pointers(&self, document: &Value) -> Vec<String> {
        self.path.query_located(document).locations().map(|location| location.to_json_pointer()).collect()
    }
}

impl JsonPath {
    /// The values that a simple path selects, in document order; none if it is not simple: it has a filter, a slice or
    /// several selectors in one step.
    pub(crate) fn select_in(&self, value: &cel::Value) -> Option<Result<Vec<cel::Value>, TooManyMembers>> {
        self.select_within(value, MAX_VISITED)
    }

    fn select_within(&self, value: &cel::Value, limit: u32) -> Option<Result<Vec<cel::Value>, TooManyMembers>> {
        let steps = self.steps.as_ref()?;
        let mut walk = Walk { left: limit, found: vec![value.clone()] };
        Some(steps.iter().try_for_each(|step| walk.step(step)).map(|()| walk.found))
    }
}

/// Members that a path may go through: one that descends in several steps visits a deep value again and again.
const MAX_VISITED: u32 = 20_000_000;

/// A path that goes through too much.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("visits more than {MAX_VISITED} members")]
pub(crate) struct TooManyMembers;

/// The values that a path has selected so far.
struct Walk {
    left: u32,
    found: Vec<cel::Value>,
}

impl Walk {
    fn step(&mut self, step: &Step) -> Result<(), TooManyMembers> {
        let before = std::mem::take(&mut self.found);
        before.iter().try_for_each(|value| self.select(step, value))
    }

    fn select(&mut self, step: &Step, value: &cel::Value) -> Result<(), TooManyMembers> {
        self.visit()?;
        match (&step.selector, value) {
            (Selector::Name(name), cel::Value::Map(map)) => self.found.extend(map.member(name)),
            (Selector::Index(index), cel::Value::List(list)) => {
                let from_end = || (list.len() as i64).checked_add(*index);
                let index = if *index < 0 { from_end() } else { Some(*index) };
                let index = index.and_then(|index| usize::try_from(index).ok());
                self.found.extend(index.and_then(|index| list.get(index)));
            }
            (Selector::All, value) => {
                for child in children(value) {
                    self.visit()?;
                    self.found.push(child);
                }
            }
            _ => {}
        }
        if step.descends {
            for child in children(value) {
                self.select(step, &child)?;
            }
        }
        Ok(())
    }

    fn visit(&mut self) -> Result<(), TooManyMembers> {
        self.left = self.left.checked_sub(1).ok_or(TooManyMembers)?;
        Ok(())
    }
}

/// The members of a list or map, in order.
fn children(value: &cel::Value) -> impl Iterator<Item = cel::Value> + '_ {
    let list = value.as_list().into_iter().flat_map(cel::List::iter);
    list.chain(value.as_map().into_iter().flat_map(cel::Map::iter).map(|(_, value)| value))
}

/// The steps of a path, if each has one selector that is a name, an index or `*`.
fn simple_steps(text: &str) -> Option<Vec<Step>> {
    let mut rest = text.strip_prefix('$')?;
    let mut steps = Vec::new();
    while !rest.is_empty() {
        let descends = rest.starts_with("..");
        let (selector, after) = if let Some(after) = rest.strip_prefix("..").or_else(|| rest.strip_prefix('.'))
            && !after.starts_with('[')
        {
            let length = after.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(after.len());
            match after.strip_prefix('*') {
                Some(after) => (Selector::All, after),
                None if length > 0 => (Selector::Name(after[..length].to_owned()), &after[length..]),
                None => return None,
            }
        } else {
            let inner = rest.strip_prefix("..").unwrap_or(rest).strip_prefix('[')?;
            match inner.strip_prefix(['\'', '"']) {
                Some(name) => {
                    let (name, after) = name.split_once(&inner[..1])?;
                    (!name.contains('\\')).then_some((Selector::Name(name.to_owned()), after.strip_prefix(']')?))?
                }
                None => {
                    let (inner, after) = inner.split_once(']')?;
                    let selector = if inner == "*" { Selector::All } else { Selector::Index(inner.parse().ok()?) };
                    (selector, after)
                }
            }
        };
        steps.push(Step { selector, descends });
        rest = after;
    }
    Some(steps)
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
    fn simple_paths_select_the_same_without_a_document() {
        let text = r#"{"lots": [{"id": "L-1", "bins": [3, 4]}, {"id": "L-2", "a b": {"id": 7}}, [], 5], "id": null}"#;
        let document: Value = serde_json::from_str(text).expect("JSON");
        let in_place = cel::Value::parse_json(text).expect("JSON");
        for path in [
            "$",
            "$.id",
            "$.lots",
            "$.lots[0].id",
            "$.lots[-1]",
            "$.lots[-9]",
            "$.lots[9]",
            "$['lots'][1][\"a b\"].id",
            "$..id",
            "$.lots[*]",
            "$.lots.*",
            "$..*",
            "$..[0]",
            "$..['id']",
            "$.lots[1]..id",
            "$.none.id",
            "$.lots.id",
            "$.lots..bins[*]",
        ] {
            let path = JsonPath::parse(path).unwrap_or_else(|error| panic!("{path}: {error}"));
            let selected = path.select_in(&in_place).unwrap_or_else(|| panic!("{path:?} is simple"));
            let selected = selected.expect("few members");
            let expected: Vec<Value> = path.select(&document).into_iter().cloned().collect();
            assert_eq!(selected.iter().map(cel::Value::to_json).collect::<Vec<_>>(), expected, "{path:?}");
        }
        for path in ["$.lots[?@.id]", "$.lots[0:2]", "$.lots[0, 1]", "$['it\\'s']", "$.lots[ 0 ]"] {
            let path = JsonPath::parse(path).unwrap_or_else(|error| panic!("{path}: {error}"));
            assert!(path.select_in(&in_place).is_none(), "{path:?}");
        }
    }

    #[test]
    fn a_path_that_goes_through_too_much_ends() {
        let deep = format!("{}1{}", "[".repeat(100), "]".repeat(100));
        let path = JsonPath::parse(&format!("${}", "..*".repeat(20))).expect("a JSONPath");
        let in_place = cel::Value::parse_json(deep).expect("JSON");
        assert_eq!(path.select_within(&in_place, 100_000).map(|found| found.map(drop)), Some(Err(TooManyMembers)));
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
