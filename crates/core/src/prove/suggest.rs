use super::change::{Change, Field};
use super::outline::{FieldAt, FieldPath, Outline, Segment};
use crate::response::Exchange;
use crate::syntax::is_value_name;
use serde_json::Value;
use std::time::Duration;

/// Expressions that may notice a change, the best first. Whether they hold for the answer, and notice it, is for
/// whoever can judge to say.
pub(crate) fn candidates(
    exchange: &Exchange,
    outline: &Outline<'_>,
    fields: &[FieldAt<'_>],
    change: &Change,
) -> Vec<String> {
    match change {
        Change::Status(_) => vec![format!("status == {}", exchange.status)],
        Change::EmptyBody | Change::NotJson | Change::OtherBody => match outline {
            Outline::Object(_) => vec!["type(body) == map".to_owned()],
            Outline::List(_) => vec!["type(body) == list".to_owned()],
            Outline::Json => vec!["type(body) != string".to_owned()],
            Outline::Other | Outline::Nothing => vec!["size(text) > 0".to_owned()],
        },
        Change::EmptyList => vec!["size(body) > 0".to_owned()],
        Change::Field { path, how } => {
            let value = fields.iter().find(|field| field.path == *path).map(|field| field.value.get());
            let value = value.unwrap_or_default();
            let place = Named::of(path);
            let (field, there) = (place.field.clone(), place.there());
            let of_each = place.loops > 0;
            let for_each = |test: String| place.test(&test);
            let mut tests = Vec::new();
            match how {
                Field::Missing | Field::Null | Field::OtherType => {
                    tests.extend(type_of(value).map(|kind| format!("type({field}) == {kind}")));
                    tests.push(there);
                }
                Field::Empty => tests.push(format!("size({field}) > 0")),
                // What is short and plain may be promised; the rest is made anew for each answer.
                Field::OtherValue if !of_each && value.len() <= 24 && !value.starts_with(['{', '[']) => {
                    tests.push(format!("{field} == {value}"));
                }
                Field::OtherValue => {}
            }
            tests.into_iter().map(for_each).collect()
        }
        Change::ContentType => {
            vec![format!("headers[\"content-type\"].startsWith({})", Value::from(exchange.media_type()))]
        }
        Change::Header(name) => vec![format!("{} in headers", Value::from(name.as_str()))],
        Change::Slow(_) => {
            // Ten times what it took this time, in whole seconds.
            let bound = (exchange.timings.total * 10).max(Duration::from_secs(1)).as_secs() + 1;
            vec![format!("elapsed < duration(\"{bound}s\")")]
        }
    }
}

/// Checks that hold for an answer and would notice if it lost its shape: its status, its media type, the fields
/// that are there with their types.
pub(crate) fn checks_for(status: u16, media: &str, outline: &Outline<'_>) -> Vec<String> {
    let mut checks = vec![format!("status == {status}")];
    if !media.is_empty() {
        checks.push(format!("headers[\"content-type\"].startsWith({})", Value::from(media)));
    }
    for field in outline.outer_fields() {
        let place = Named::of(&field.path);
        let test = match type_of(field.value.get()) {
            Some(kind) => format!("type({}) == {kind}", place.field),
            None => place.there(),
        };
        checks.push(place.test(&test));
    }
    checks
}

/// A field as an expression names it.
struct Named {
    /// What stands before a test of the field: loops over the lists it is in.
    before: String,
    /// How many loops these are.
    loops: usize,
    /// The object that the field is in.
    whole: String,
    /// The field's name.
    name: String,
    /// The field.
    field: String,
}

impl Named {
    fn of(path: &FieldPath) -> Self {
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

    fn there(&self) -> String {
        format!("{} in {}", Value::from(self.name.as_str()), self.whole)
    }

    /// A test of the field in the loops that it needs.
    fn test(&self, test: &str) -> String {
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
fn type_of(json: &str) -> Option<&'static str> {
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
