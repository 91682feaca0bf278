//! Checks that are suggested for a response.

use serde_json::Value;
use yieldtray_http::body_shape::{BodyShape, FieldPath, Segment};
use yieldtray_source::names::is_value_name;

/// Checks that pass for a response and detect a change of its structure: its status, its media type, the fields
/// that are there with their types.
pub fn checks_for(status: u16, media: &str, outline: &BodyShape<'_>) -> Vec<String> {
    let mut checks = vec![format!("status == {status}")];
    if !media.is_empty() {
        checks.push(format!("headers[\"content-type\"].startsWith({})", Value::from(media)));
    }
    for field in outline.outer_fields() {
        let place = FieldExpression::of(&field.path);
        let test = match json_type(field.value.get()) {
            Some(kind) => format!("type({}) == {kind}", place.field),
            None => place.there(),
        };
        checks.push(place.test(&test));
    }
    checks
}

/// A field as an expression names it.
pub struct FieldExpression {
    /// The loops over the lists that the field is in, before the test of the field.
    before: String,
    /// How many loops these are.
    pub loops: usize,
    /// The object that the field is in.
    whole: String,
    /// The field's name.
    name: String,
    /// The field.
    pub field: String,
}

impl FieldExpression {
    /// The field at a path.
    pub fn of(path: &FieldPath) -> Self {
        let (mut before, mut loops) = (String::new(), 0);
        let (mut whole, mut field, mut name) = (String::new(), "body".to_owned(), String::new());
        for segment in &path.0 {
            match segment {
                Segment::Each => {
                    loops += 1;
                    let one = if loops == 1 { "one".to_owned() } else { format!("one{loops}") };
                    before.push_str(&format!("{field}.all({one}, "));
                    field = one;
                }
                Segment::Key(key) => {
                    whole = std::mem::take(&mut field);
                    field = member(&whole, key);
                    name = key.clone();
                }
            }
        }
        Self { before, loops, whole, name, field }
    }

    /// An expression that the field is there.
    pub fn there(&self) -> String {
        format!("{} in {}", Value::from(self.name.as_str()), self.whole)
    }

    /// A test of the field in the loops that it needs.
    pub fn test(&self, test: &str) -> String {
        format!("{}{test}{}", self.before, ")".repeat(self.loops))
    }
}

/// A member as an expression names it.
fn member(of: &str, name: &str) -> String {
    match is_value_name(name) {
        true => format!("{of}.{name}"),
        false => format!("{of}[{}]", Value::from(name)),
    }
}

/// The type of a JSON value in expressions, where it is always the same one: a number may come with a fraction
/// or without.
pub fn json_type(json: &str) -> Option<&'static str> {
    match json.as_bytes().first()? {
        b'"' => Some("string"),
        b'{' => Some("map"),
        b'[' => Some("list"),
        b't' | b'f' => Some("bool"),
        b'n' => None,
        _ if json.contains(['.', 'e', 'E']) => Some("double"),
        _ => Some("int"),
    }
}
