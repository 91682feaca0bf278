//! Walks schemas by the members of the values they describe.

use crate::api::{Api, definition_name};
use crate::recent::Recent;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use yieldtray_cel::{Schema, Type};

/// How deep members are looked for.
const MAX_DEPTH: usize = 8;

/// Members that are looked at in one schema.
const MAX_MEMBERS: usize = 2_000;

/// Schemas that one may be made of (`allOf`, `anyOf`, `oneOf`, references).
const MAX_PARTS: usize = 200;

/// What a schema says about values: that of all its parts together.
#[derive(Clone, Debug, Default)]
pub(crate) struct Shape {
    /// The schemas of its members.
    pub(crate) members: BTreeMap<String, Vec<Value>>,
    /// Members that must be there.
    pub(crate) required: BTreeSet<String>,
    /// Schemas of the members of a list.
    pub(crate) items: Vec<Value>,
    /// The types that values may have; empty if nothing is said.
    pub(crate) types: BTreeSet<String>,
    /// The only values, if it lists them.
    pub(crate) choices: Vec<Value>,
    /// Whether any other member may be there.
    pub(crate) is_open: bool,
    /// What it says about itself.
    pub(crate) description: Option<String>,
    /// Whether values should no longer be used.
    pub(crate) is_deprecated: bool,
}

impl Shape {
    /// The shape of values that fit any of these schemas.
    pub(crate) fn of(api: &Api, schemas: &[Value]) -> Self {
        let mut shape = Self::default();
        let mut open: Vec<(Value, bool)> = schemas.iter().rev().map(|schema| (schema.clone(), true)).collect();
        let mut known = BTreeSet::new();
        let mut left = MAX_PARTS;
        while let Some((schema, holds)) = open.pop() {
            if left == 0 {
                break;
            }
            left -= 1;
            if let Some(name) = schema.get("$ref").and_then(Value::as_str).and_then(definition_name)
                && known.insert(name.to_owned())
                && let Ok(Some(definition)) = api.definition(name)
            {
                open.push((Value::clone(&definition), holds));
            }
            shape.add(&schema, holds);
            for (word, holds) in [("allOf", holds), ("anyOf", false), ("oneOf", false)] {
                let parts = schema.get(word).and_then(Value::as_array).into_iter().flatten();
                open.extend(parts.map(|part| (part.clone(), holds)));
            }
        }
        shape
    }

    /// Adds what one part says; `holds` if it does so for every value.
    fn add(&mut self, schema: &Value, holds: bool) {
        for (name, member) in schema.get("properties").and_then(Value::as_object).into_iter().flatten() {
            self.members.entry(name.clone()).or_default().push(member.clone());
        }
        if holds {
            let required = schema.get("required").and_then(Value::as_array).into_iter().flatten();
            self.required.extend(required.filter_map(Value::as_str).map(str::to_owned));
        }
        self.items.extend(schema.get("items").filter(|items| items.is_object()).cloned());
        self.items.extend(schema.get("prefixItems").and_then(Value::as_array).into_iter().flatten().cloned());
        match schema.get("type") {
            Some(Value::String(own)) => drop(self.types.insert(own.clone())),
            Some(Value::Array(all)) => self.types.extend(all.iter().filter_map(Value::as_str).map(str::to_owned)),
            _ => {}
        }
        self.choices.extend(schema.get("enum").and_then(Value::as_array).into_iter().flatten().cloned());
        self.choices.extend(schema.get("const").cloned());
        let more = schema.get("additionalProperties");
        self.is_open |=
            more.is_some_and(|more| more != &Value::Bool(false)) || schema.get("patternProperties").is_some();
        if self.description.is_none() {
            self.description = schema.get("description").and_then(Value::as_str).map(|text| text.trim().to_owned());
        }
        self.is_deprecated |= schema.get("deprecated") == Some(&Value::Bool(true));
    }

    /// What is known of a member of this shape.
    fn as_member(&self, path: String, required: bool) -> SchemaMember {
        let choices = self.choices.iter().map(Value::to_string).collect();
        SchemaMember { path, type_words: self.type_words(), required, choices, description: self.description.clone() }
    }

    /// `string`, `integer or null`; empty if nothing is said.
    pub(crate) fn type_words(&self) -> String {
        let (null, others): (Vec<&str>, Vec<&str>) =
            self.types.iter().map(String::as_str).partition(|own| *own == "null");
        others.into_iter().chain(null).collect::<Vec<_>>().join(" or ")
    }
}

/// A member of the values that a schema describes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SchemaMember {
    /// Where it is: `lots[].id`.
    pub path: String,
    /// Its type, `string or null`; empty if nothing is said.
    pub type_words: String,
    /// Whether it must be there, if that around it is.
    pub required: bool,
    /// The only values, as JSON.
    pub choices: Vec<String>,
    /// What it is.
    pub description: Option<String>,
}

impl Api {
    /// The members of the values that a schema describes, those inside others too.
    pub fn members(&self, schema: &Value) -> Vec<SchemaMember> {
        let mut found = Vec::new();
        let shape = Shape::of(self, std::slice::from_ref(schema));
        self.add_members(&shape, "", 0, &mut found);
        found
    }

    fn add_members(&self, shape: &Shape, path: &str, depth: usize, found: &mut Vec<SchemaMember>) {
        if depth > MAX_DEPTH {
            return;
        }
        if !shape.items.is_empty() {
            self.add_members(&Shape::of(self, &shape.items), &format!("{path}[]"), depth + 1, found);
        }
        for (name, schemas) in &shape.members {
            if found.len() >= MAX_MEMBERS {
                return;
            }
            let own = Shape::of(self, schemas);
            let inner = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
            found.push(own.as_member(inner.clone(), shape.required.contains(name)));
            self.add_members(&own, &inner, depth + 1, found);
        }
    }
}

/// The paths of the members of a value, as [`SchemaMember::path`] has them, with the type of each.
pub(crate) fn value_members(value: &Value) -> BTreeMap<String, &'static str> {
    fn add(value: &Value, path: &str, depth: usize, found: &mut BTreeMap<String, &'static str>) {
        if depth > MAX_DEPTH || found.len() > MAX_MEMBERS {
            return;
        }
        match value {
            Value::Array(list) => list.iter().for_each(|one| add(one, &format!("{path}[]"), depth + 1, found)),
            Value::Object(members) => {
                for (name, value) in members {
                    let inner = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
                    add(value, &inner, depth + 1, found);
                    found.insert(inner, json_type(value));
                }
            }
            _ => {}
        }
    }
    let mut found = BTreeMap::new();
    add(value, "", 0, &mut found);
    found
}

/// The type of a value in the words of JSON Schema.
pub(crate) fn json_type(value: &Value) -> &'static str {
    match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(number) if number.is_i64() || number.is_u64() => "integer",
        Value::Number(_) => "number",
        Value::String(_) => "string",
        Value::Array(_) => "array",
        Value::Object(_) => "object",
    }
}

/// The type of the values that any of these schemas describes, for the checker of expressions. What is not said is dynamic.
pub(crate) fn schema_type(api: &Arc<Api>, schemas: &[Value]) -> Type {
    type_of(api, schemas)
}

fn type_of(api: &Arc<Api>, schemas: &[Value]) -> Type {
    let shape = Shape::of(api, schemas);
    let mut types = shape.types.iter().filter(|own| *own != "null");
    let (only, more, nullable) = (types.next(), types.next(), shape.types.contains("null"));
    if more.is_some() {
        return Type::Dyn;
    }
    let own = match only.map(String::as_str) {
        Some("string") => Type::String,
        Some("integer") => Type::Int,
        Some("boolean") => Type::Bool,
        // 12 and 12.0 are both numbers of JSON, of two types.
        Some("number") => Type::Dyn,
        Some("array") => Type::list(if shape.items.is_empty() { Type::Dyn } else { type_of(api, &shape.items) }),
        Some("object") | None if !shape.members.is_empty() && !shape.is_open => {
            Type::Record(Arc::new(ObjectSchema { api: Arc::clone(api), shape, known: Recent::default() }))
        }
        _ => Type::Dyn,
    };
    if nullable { Type::Nullable(Arc::new(own)) } else { own }
}

/// An object of which the members are known.
struct ObjectSchema {
    api: Arc<Api>,
    shape: Shape,
    /// The types of members that were asked for.
    known: Recent<Type>,
}

impl Schema for ObjectSchema {
    fn member(&self, name: &str) -> Option<Type> {
        let find = || Ok(self.shape.members.get(name).map(|schemas| type_of(&self.api, schemas)));
        self.known.get(name, find).ok().flatten().map(|known| Type::clone(&known))
    }

    fn members(&self) -> Vec<String> {
        self.shape.members.keys().cloned().collect()
    }
}

/// A step into a value: a member, or any member of a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ValueStep {
    /// The member of this name.
    Member(String),
    /// A member of a list.
    Item,
}

impl Api {
    /// What is known of a value that a schema describes, named `path`.
    pub(crate) fn value_of(&self, path: String, schema: Option<&Value>, required: bool) -> SchemaMember {
        Shape::of(self, schema.map(std::slice::from_ref).unwrap_or_default()).as_member(path, required)
    }

    /// The members of the objects at a path in the values that any of these schemas describes.
    pub fn members_at(&self, schemas: &[Value], path: &[ValueStep]) -> Vec<SchemaMember> {
        let mut shape = Shape::of(self, schemas);
        for step in path {
            let inner = match step {
                ValueStep::Member(name) => shape.members.remove(name).unwrap_or_default(),
                ValueStep::Item => shape.items,
            };
            shape = Shape::of(self, &inner);
        }
        let members = shape
            .members
            .iter()
            .take(MAX_MEMBERS)
            .map(|(name, schemas)| Shape::of(self, schemas).as_member(name.clone(), shape.required.contains(name)));
        members.collect()
    }

    /// A schema in a few words: `integer, 1 to 400`, `string: "open", "closed"`.
    pub fn describe_schema(&self, schema: &Value) -> String {
        let shape = Shape::of(self, std::slice::from_ref(schema));
        let mut words = shape.type_words();
        if !shape.choices.is_empty() {
            let choices = shape.choices.iter().take(8).map(Value::to_string).collect::<Vec<_>>().join(", ");
            words = if words.is_empty() { choices } else { format!("{words}: {choices}") };
        }
        let own = self.resolved(schema).unwrap_or_default();
        let bound = |name: &str| own.get(name).map(Value::to_string);
        match (bound("minimum"), bound("maximum")) {
            (Some(least), Some(most)) => words.push_str(&format!(", {least} to {most}")),
            (Some(least), None) => words.push_str(&format!(", at least {least}")),
            (None, Some(most)) => words.push_str(&format!(", at most {most}")),
            (None, None) => {}
        }
        words.extend(bound("default").map(|default| format!(", default {default}")));
        words.trim_start_matches(", ").to_owned()
    }
}
