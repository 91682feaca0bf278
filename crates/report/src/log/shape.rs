//! The shape of a JSON value, without the values: its members, and the types in each place.

use serde_json::Value;
use std::collections::BTreeMap;

/// The shape of a value, or of several in one place.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct TextShape {
    /// The types in this place.
    pub(super) types: Vec<&'static str>,
    /// The members of the objects among them.
    pub(super) members: BTreeMap<String, TextShape>,
    /// The shape of list members; `None` if all lists are empty.
    pub(super) items: Option<Box<TextShape>>,
}

impl TextShape {
    pub(super) fn of(value: &Value) -> Self {
        let mut shape = Self::default();
        shape.add(value);
        shape
    }

    fn add(&mut self, value: &Value) {
        let kind = kind(value);
        if !self.types.contains(&kind) {
            self.types.push(kind);
            self.types.sort_unstable();
        }
        match value {
            Value::Array(items) => {
                for item in items {
                    self.items.get_or_insert_default().add(item);
                }
            }
            Value::Object(members) => {
                for (name, member) in members {
                    match self.members.get_mut(name) {
                        Some(shape) => shape.add(member),
                        None => {
                            self.members.insert(name.clone(), TextShape::of(member));
                        }
                    }
                }
            }
            _ => {}
        }
    }

    /// The types in words.
    pub(super) fn describe(&self) -> String {
        self.types.join(" or ")
    }
}

/// The type of a value, as JSON names it.
pub(super) fn kind(value: &Value) -> &'static str {
    match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(_) => "number",
        Value::String(_) => "text",
        Value::Array(_) => "list",
        Value::Object(_) => "object",
    }
}
