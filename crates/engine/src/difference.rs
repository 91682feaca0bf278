//! How two long values differ, line by line.

use serde_json::Value as Json;
use yieldtray_expression::Value;
use yieldtray_source::diff::{DiffLine, diff_lines};
use yieldtray_workspace::secret::Masker;

/// Values of fewer characters are shown side by side.
const LONG_VALUE_CHARS: usize = 60;

/// How the two sides of `==` differ.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// The expression of the left side.
    pub left: String,
    /// The expression of the right side.
    pub right: String,
    /// The lines, in order.
    pub lines: Vec<DiffLine>,
}

impl Difference {
    /// The difference between `left` and `right`, each with its expression; `None` if both are short enough to compare
    /// by eye.
    pub(super) fn of(left: &(String, Value), right: &(String, Value), masker: &Masker) -> Option<Self> {
        let (ours, theirs) = match (left.1.as_text(), right.1.as_text()) {
            (Some(ours), Some(theirs)) => (ours.to_owned(), theirs.to_owned()),
            _ => {
                let ours = left.1.to_json();
                let theirs = in_order_of(&ours, right.1.to_json());
                (lines_of(&left.1, &ours)?, lines_of(&right.1, &theirs)?)
            }
        };
        if ours.chars().count().max(theirs.chars().count()) <= LONG_VALUE_CHARS {
            return None;
        }
        // Masked first: a line that is cut must not leave half a secret.
        let (ours, theirs) = (masker.mask(&ours), masker.mask(&theirs));
        let lines = diff_lines(&ours, &theirs);
        let mask = |text: &str| masker.mask(text).into_owned();
        Some(Self { left: mask(&left.0), right: mask(&right.0), lines })
    }

    /// Hides secrets that became known after it was made.
    pub(super) fn mask(&mut self, masker: &Masker) {
        for line in &mut self.lines {
            if let DiffLine::Context(text) | DiffLine::Left(text) | DiffLine::Right(text) = line {
                masker.hide(text);
            }
        }
    }
}

/// Text as it is, lists and maps as JSON with one member a line. Commas are left out, so that being the last member
/// makes no difference.
fn lines_of(value: &Value, json: &Json) -> Option<String> {
    if let Some(text) = value.as_text() {
        return Some(text.to_owned());
    }
    let formatted = (json.is_array() || json.is_object()).then(|| serde_json::to_string_pretty(json))?.ok()?;
    let lines = formatted.lines().map(|line| line.strip_suffix(',').unwrap_or(line));
    Some(lines.collect::<Vec<_>>().join("\n"))
}

/// A value whose members are in the order of those of another one, as far as that has them: their order makes no
/// difference.
fn in_order_of(other: &Json, value: Json) -> Json {
    match (other, value) {
        (Json::Object(other), Json::Object(mut members)) => {
            let mut ordered = serde_json::Map::new();
            for (name, its) in other {
                if let Some(member) = members.shift_remove(name) {
                    ordered.insert(name.clone(), in_order_of(its, member));
                }
            }
            ordered.extend(members);
            Json::Object(ordered)
        }
        (Json::Array(other), Json::Array(members)) => {
            let mut others = other.iter();
            let members = members.into_iter().map(|member| match others.next() {
                Some(its) => in_order_of(its, member),
                None => member,
            });
            Json::Array(members.collect())
        }
        (_, value) => value,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yieldtray_source::diff::DiffLine::{Context, Left, Right, Skipped, Truncated};

    fn lines(left: &Value, right: &Value) -> Option<Vec<DiffLine>> {
        let side = |name: &str, value: &Value| (name.to_owned(), value.clone());
        Difference::of(&side("body", left), &side("expected", right), &Masker::default()).map(|found| found.lines)
    }

    fn json(text: &str) -> Value {
        Value::parse_json(text.as_bytes()).expect("JSON")
    }

    #[test]
    fn long_objects_are_compared_a_member_a_line() {
        let lot = |bins: u32, note: &str| {
            json(&format!(
                "{{\"id\":\"L-2041\",\"grower\":\"G-11\",\"variety\":\"gala\",\"bins\":{bins},\"tags\":[1,2,3],{note}\"zone\":\"north\"}}"
            ))
        };
        let found = lines(&lot(24, ""), &lot(23, "\"note\":\"wet\",")).expect("they are long");
        assert!(found.contains(&Left("  \"bins\": 24".to_owned())), "{found:?}");
        assert!(found.contains(&Right("  \"bins\": 23".to_owned())), "{found:?}");
        assert!(found.contains(&Right("  \"note\": \"wet\"".to_owned())), "{found:?}");
        assert!(found.iter().any(|line| matches!(line, Skipped(..))), "{found:?}");
        assert!(found.contains(&Context("  \"grower\": \"G-11\"".to_owned())), "{found:?}");
        assert_eq!(lines(&json("{\"id\":1}"), &json("{\"id\":2}")), None);
        assert_eq!(lines(&Value::from(1_i64), &lot(1, "")), None);
    }

    #[test]
    fn long_texts_are_compared_where_they_part() {
        let long = "a row of trays ".repeat(8);
        let found = lines(&Value::from(format!("{long}left of the door")), &Value::from(format!("{long}right of it")));
        let left = "…ow of trays a row of trays a row of trays left of the door".to_owned();
        let right = "…ow of trays a row of trays a row of trays right of it".to_owned();
        let shorter = |text: String| text.replacen("…ow of trays a row of trays a row of trays ", "", 1);
        match found.as_deref() {
            Some([Left(ours), Right(theirs)]) => {
                assert!(ours.starts_with('…') && ours.ends_with(&shorter(left)), "{ours}");
                assert!(theirs.starts_with('…') && theirs.ends_with(&shorter(right)), "{theirs}");
            }
            other => panic!("{other:?}"),
        }
        let page = |word: &str| Value::from((0..90).map(|row| format!("{word} {row}\n")).collect::<String>());
        let found = lines(&page("tray"), &page("bin")).expect("they are long");
        assert_eq!(found.last(), Some(&Truncated(140)));
        assert_eq!(found.len(), 41);
    }

    #[test]
    fn a_secret_is_in_neither_side() {
        let mut masker = Masker::default();
        masker.add("t-4616-early");
        let value =
            |bins: u8| json(&format!("{{\"token\":\"t-4616-early\",\"bins\":{bins},\"more\":\"{}\"}}", "x".repeat(60)));
        let found = Difference::of(&("body".to_owned(), value(1)), &("other".to_owned(), value(2)), &masker)
            .expect("they are long");
        let shown = format!("{found:?}");
        assert!(shown.contains("[secret]") && !shown.contains("4616"), "{shown}");
    }
}
