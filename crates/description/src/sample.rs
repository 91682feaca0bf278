//! Generates values that conform to a schema, for bodies and parameters without an example.

use crate::documents::{Documents, Node};
use crate::pattern;
use rustc_hash::FxHashMap;
use serde_json::{Map, Number, Value, json};
use std::cell::RefCell;
use yieldtray_source::entropy::high_entropy_runs;

/// How deep a made value goes.
const MAX_DEPTH: usize = 10;
/// From here on only what must be there is.
const REQUIRED_ONLY_FROM_DEPTH: usize = 2;
/// How many values one sample may be made of.
const MAX_NODES: usize = 400;

/// Makes samples, and remembers those of schemas that are referred to.
#[derive(Debug)]
pub struct Samples<'d> {
    documents: &'d Documents,
    known: RefCell<FxHashMap<(usize, usize), Option<Value>>>,
}

/// Where a sample is being made.
struct SampleState {
    /// The schemas around it, by their locations, to detect recursion.
    inside: Vec<usize>,
    depth: usize,
    nodes: usize,
    /// True if it was truncated, and is not a sample for other places.
    cut: bool,
    /// Members that must be there, as a schema beside this one says (`allOf`).
    required: Vec<String>,
}

impl<'d> Samples<'d> {
    /// Samples of schemas in these documents.
    pub fn new(documents: &'d Documents) -> Self {
        Self { documents, known: RefCell::default() }
    }

    /// A value for a schema; `name` is that of the parameter or member.
    pub fn of(&self, schema: Node<'d>, name: &str) -> Option<Value> {
        let mut making = SampleState { inside: Vec::new(), depth: 0, nodes: 0, cut: false, required: Vec::new() };
        self.make(schema, name, &mut making)
    }

    /// The example beside or in a schema of a parameter, a body or a part of one.
    pub fn example(&self, holder: Node<'d>) -> Option<Value> {
        if let Some(example) = holder.get("example") {
            return Some(plain(example.value.clone()));
        }
        let examples = holder.get("examples")?;
        let first = examples.members().map(|(_, example)| example).next().and_then(|one| self.documents.resolve(one));
        Some(plain(first?.value.get("value")?.clone()))
    }

    /// The same, or a value for its schema.
    pub fn for_holder(&self, holder: Node<'d>, name: &str) -> Option<Value> {
        self.example(holder).or_else(|| self.of(holder.get("schema")?, name))
    }

    fn make(&self, schema: Node<'d>, name: &str, making: &mut SampleState) -> Option<Value> {
        making.nodes += 1;
        if making.depth > MAX_DEPTH || making.nodes > MAX_NODES {
            making.cut = true;
            return None;
        }
        let referred = schema.text("$ref").is_some();
        let schema = self.documents.resolve(schema)?;
        let own = std::ptr::from_ref(schema.value) as usize;
        if making.inside.contains(&own) {
            making.cut = true;
            return None;
        }
        // Deeper values have fewer members.
        let key = (own, making.depth.min(REQUIRED_ONLY_FROM_DEPTH));
        let alone = making.required.is_empty();
        if let Some(known) = (referred && alone).then(|| self.known.borrow().get(&key).cloned()).flatten() {
            return known;
        }
        let was_cut = std::mem::take(&mut making.cut);
        making.inside.push(own);
        making.depth += 1;
        let value = self.made(schema, name, making);
        making.depth -= 1;
        making.inside.pop();
        if referred && alone && !making.cut {
            self.known.borrow_mut().insert(key, value.clone());
        }
        making.cut |= was_cut;
        value
    }

    fn made(&self, schema: Node<'d>, name: &str, making: &mut SampleState) -> Option<Value> {
        // Each member is looked at once: a schema has few of those that are asked for.
        let (mut given, mut first) = ([None; 3], [None; 2]);
        let (mut all, mut several, mut kind, mut has_items, mut has_properties) = (None, [None; 2], None, false, false);
        for (word, member) in schema.members() {
            match word {
                "example" => given[0] = Some(member.value),
                "const" => given[1] = Some(member.value),
                "default" => given[2] = Some(member.value),
                "examples" => first[0] = member.value.get(0),
                "enum" => first[1] = member.value.get(0),
                "allOf" => all = Some(member),
                "oneOf" => several[0] = Some(member),
                "anyOf" => several[1] = Some(member),
                "type" => kind = Some(member.value),
                "properties" => has_properties = true,
                "items" => has_items = true,
                _ => {}
            }
        }
        // An example may be somebody's secret; the only allowed value is not.
        let [example, constant, default] = given;
        let [of_examples, of_enum] = first;
        if let Some(example) = example {
            return Some(plain(example.clone()));
        }
        if let Some(given) = constant.or(default).or(of_examples.filter(|_| of_enum.is_none())).or(of_enum) {
            return Some(if Some(given) == of_examples { plain(given.clone()) } else { given.clone() });
        }
        if let Some(all) = all {
            return self.joined(schema, all, name, making);
        }
        for choices in several.into_iter().flatten() {
            let made = choices.list().filter(|one| one.text("type") != Some("null"));
            if let Some(made) = made.map(|one| self.make(one, name, making)).find(Option::is_some) {
                return made;
            }
        }
        let kind = match kind {
            Some(Value::String(kind)) => kind.as_str(),
            Some(Value::Array(kinds)) => kinds.iter().filter_map(Value::as_str).find(|kind| *kind != "null")?,
            _ if has_properties => "object",
            _ if has_items => "array",
            _ => "",
        };
        Some(match kind {
            "object" => Value::Object(self.object(schema, making)),
            "array" => Value::Array(self.list(schema, name, making)),
            "integer" => integer(schema),
            "number" => number(schema),
            "boolean" => Value::Bool(true),
            "null" => Value::Null,
            "string" => Value::String(text(schema, name)),
            // A schema that says nothing takes everything.
            _ => json!({}),
        })
    }

    fn object(&self, schema: Node<'d>, making: &mut SampleState) -> Map<String, Value> {
        let required: Vec<&str> = schema
            .value
            .get("required")
            .and_then(Value::as_array)
            .into_iter()
            .flatten()
            .filter_map(Value::as_str)
            .collect();
        // It holds of this object, and not of those inside.
        let beside = std::mem::take(&mut making.required);
        let mut object = Map::new();
        for (name, property) in schema.get("properties").into_iter().flat_map(Node::members) {
            let needed = required.contains(&name) || beside.iter().any(|own| own == name);
            if !needed && making.depth > REQUIRED_ONLY_FROM_DEPTH
                || self.documents.resolve(property).is_some_and(|shape| shape.is("readOnly"))
            {
                continue;
            }
            match self.make(property, name, making) {
                Some(value) => {
                    object.insert(name.to_owned(), value);
                }
                None if needed => {
                    object.insert(name.to_owned(), Value::Null);
                }
                None => {}
            }
        }
        self.fill(schema, &mut object, making);
        making.required = beside;
        object
    }

    /// Adds members until there are as many as must be.
    fn fill(&self, schema: Node<'d>, object: &mut Map<String, Value>, making: &mut SampleState) {
        let least = schema.get("minProperties").and_then(|bound| bound.value.as_u64()).unwrap_or_default();
        let least = usize::try_from(least).unwrap_or(usize::MAX).min(MAX_NODES);
        for (name, property) in schema.get("properties").into_iter().flat_map(Node::members) {
            if object.len() < least
                && !object.contains_key(name)
                && let Some(value) = self.make(property, name, making)
            {
                object.insert(name.to_owned(), value);
            }
        }
        let more = schema.get("additionalProperties");
        if more.is_some_and(|more| more.value == &Value::Bool(false)) {
            return;
        }
        for number in 1..=least {
            if object.len() >= least {
                break;
            }
            let name = format!("key{number}");
            let made = more.filter(|more| more.value.is_object()).and_then(|more| self.make(more, &name, making));
            object.insert(name, made.unwrap_or_else(|| Value::from("text")));
        }
    }

    fn list(&self, schema: Node<'d>, name: &str, making: &mut SampleState) -> Vec<Value> {
        let least = schema.get("minItems").and_then(|bound| bound.value.as_u64()).unwrap_or(1).clamp(1, 3);
        let Some(items) = schema.get("items") else { return Vec::new() };
        (0..least).filter_map(|_| self.make(items, name, making)).collect()
    }

    /// Several schemas merged into one.
    fn joined(&self, schema: Node<'d>, all: Node<'d>, name: &str, making: &mut SampleState) -> Option<Value> {
        let mut whole = Map::new();
        let mut other = None;
        let before = making.required.clone();
        for one in all.list().chain([schema]) {
            let required = self.documents.resolve(one).and_then(|one| one.get("required"));
            let names = required.into_iter().flat_map(Node::list).filter_map(|name| name.value.as_str());
            making.required.extend(names.map(str::to_owned));
        }
        for one in all.list() {
            match self.make(one, name, making) {
                Some(Value::Object(members)) => whole.extend(members),
                Some(value) => other = Some(value),
                None => {}
            }
        }
        whole.extend(self.object(schema, making));
        making.required = before;
        if whole.is_empty() { other.or(Some(json!({}))) } else { Some(Value::Object(whole)) }
    }
}

/// An example without texts that look like secrets: those are for a file of one's own.
fn plain(example: Value) -> Value {
    match example {
        Value::String(text) if !high_entropy_runs(&text).is_empty() => Value::String("text".to_owned()),
        Value::Array(members) => Value::Array(members.into_iter().map(plain).collect()),
        Value::Object(members) => {
            Value::Object(members.into_iter().map(|(name, value)| (name, plain(value))).collect())
        }
        other => other,
    }
}

/// The least number that is allowed, else a small one.
fn integer(schema: Node<'_>) -> Value {
    let bound = |word: &str| schema.get(word).and_then(|bound| bound.value.as_i64());
    let above = match schema.get("exclusiveMinimum").map(|bound| bound.value) {
        Some(Value::Bool(true)) => bound("minimum").map(|least| least.saturating_add(1)),
        _ => bound("exclusiveMinimum").map(|least| least.saturating_add(1)),
    };
    let least = above.or_else(|| bound("minimum")).unwrap_or_else(|| bound("maximum").unwrap_or(1).min(1));
    match bound("multipleOf").filter(|step| *step > 0) {
        Some(step) => Value::from(least.saturating_add(step - 1).div_euclid(step).saturating_mul(step)),
        None => Value::from(least),
    }
}

fn number(schema: Node<'_>) -> Value {
    let bound = |word: &str| schema.get(word).and_then(|bound| bound.value.as_f64());
    let above = match schema.get("exclusiveMinimum").map(|bound| bound.value) {
        Some(Value::Bool(true)) => bound("minimum").map(|least| least + 0.5),
        _ => bound("exclusiveMinimum").map(|least| least + 0.5),
    };
    let least = above.or_else(|| bound("minimum")).unwrap_or_else(|| bound("maximum").unwrap_or(1.5).min(1.5));
    Number::from_f64(least).map_or_else(|| Value::from(1), Value::Number)
}

fn text(schema: Node<'_>, name: &str) -> String {
    let text = match schema.text("format").unwrap_or_default() {
        "date-time" => "2026-09-14T06:30:00Z",
        "date" => "2026-09-14",
        "time" => "06:30:00Z",
        "duration" => "PT1H",
        "uuid" => "0b9f4f62-2d0b-4d5e-9d8f-3f0e5c1a7b46",
        "email" => "clerk@packhouse.example",
        "hostname" => "packhouse.example",
        "ipv4" => "192.0.2.46",
        "ipv6" => "2001:db8::46",
        "uri" | "url" | "iri" => "https://packhouse.example/lots/1",
        "uri-reference" => "/lots/1",
        "byte" => "cmlwZQ==",
        "binary" => "ripe",
        _ => name,
    };
    let bound = |word: &str| schema.get(word).and_then(|bound| usize::try_from(bound.value.as_u64()?).ok());
    if let Some(pattern) = schema.text("pattern") {
        let made = pattern::sample(pattern, bound("minLength").unwrap_or(0), bound("maxLength").unwrap_or(usize::MAX));
        if let Some(text) = made {
            return text;
        }
    }
    let mut text: String = text.chars().take(bound("maxLength").unwrap_or(usize::MAX)).collect();
    let least = bound("minLength").unwrap_or_default().min(1000);
    while text.chars().count() < least {
        text.push('x');
    }
    text
}
