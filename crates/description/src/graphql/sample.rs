//! Documents to start from: a field of a root type with its required arguments, and what it gives.

use crate::model::{FieldRecord, TypeRecord, named_type};

/// Fields that a document and its variables may have together: input types may have many of each other.
const MAX_FIELDS: usize = 500;

/// The depth to which objects are selected.
const MAX_SELECTION_DEPTH: usize = 2;

/// The depth to which inputs are written.
const MAX_INPUT_DEPTH: usize = 5;

/// A document that selects a field of a root type, with all scalar fields of its result and variables for its
/// arguments; and the variables, as JSON of the right types.
pub fn sample_document(
    root_kind: &str,
    field: &FieldRecord,
    type_named: &dyn Fn(&str) -> Option<TypeRecord>,
) -> (String, Vec<(String, String)>) {
    let mut sampler = Sampler { type_named, left: MAX_FIELDS };
    let (mut declared, mut arguments, mut variables) = (Vec::new(), Vec::new(), Vec::new());
    for argument in field.arguments.iter().filter(|own| is_required(&own.type_name, own.default.as_ref())) {
        declared.push(format!("${}: {}", argument.name, argument.type_name));
        arguments.push(format!("{0}: ${0}", argument.name));
        variables.push((argument.name.clone(), sampler.input(&argument.type_name, 0)));
    }
    let list = |all: &[String]| if all.is_empty() { String::new() } else { format!("({})", all.join(", ")) };
    let mut text = format!("{root_kind}{} {{\n  {}{}", list(&declared), field.name, list(&arguments));
    sampler.selection(&field.type_name, 1, &mut text);
    text.push_str("\n}");
    (text, variables)
}

fn is_required(type_name: &str, default: Option<&String>) -> bool {
    type_name.ends_with('!') && default.is_none()
}

struct Sampler<'t> {
    type_named: &'t dyn Fn(&str) -> Option<TypeRecord>,
    /// Fields that may still be written.
    left: usize,
}

impl Sampler<'_> {
    /// Whether one more field may be written.
    fn takes_field(&mut self) -> bool {
        let takes = self.left > 0;
        self.left = self.left.saturating_sub(1);
        takes
    }

    /// The selection of a type: its scalar fields without arguments, and those of its objects.
    fn selection(&mut self, type_name: &str, depth: usize, text: &mut String) {
        let Some(record) = (self.type_named)(named_type(type_name)) else { return };
        if !matches!(record.kind.as_str(), "object" | "interface" | "union") {
            return;
        }
        let indent = "  ".repeat(depth + 1);
        let mut lines = Vec::new();
        for field in &record.fields {
            if field.deprecated.is_some() || field.arguments.iter().any(|argument| argument.type_name.ends_with('!')) {
                continue;
            }
            let inner = (self.type_named)(named_type(&field.type_name));
            let is_leaf = inner.is_none_or(|inner| matches!(inner.kind.as_str(), "scalar" | "enum"));
            if !is_leaf && depth >= MAX_SELECTION_DEPTH {
                continue;
            }
            if !self.takes_field() {
                break;
            }
            let mut line = format!("{indent}{}", field.name);
            if !is_leaf {
                self.selection(&field.type_name, depth + 1, &mut line);
            }
            lines.push(line);
        }
        if lines.is_empty() {
            lines.push(format!("{indent}__typename"));
        }
        text.push_str(&format!(" {{\n{}\n{}}}", lines.join("\n"), "  ".repeat(depth)));
    }

    /// A value of an input type, as JSON.
    fn input(&mut self, type_name: &str, depth: usize) -> String {
        let bare = type_name.trim_end_matches('!');
        if let Some(inner) = bare.strip_prefix('[').and_then(|inner| inner.strip_suffix(']')) {
            return format!("[{}]", self.input(inner, depth));
        }
        match bare {
            "Int" => "1".to_owned(),
            "Float" => "1.5".to_owned(),
            "Boolean" => "true".to_owned(),
            "String" | "ID" => "\"text\"".to_owned(),
            other => match (self.type_named)(other) {
                Some(record) if record.kind == "enum" => {
                    format!("\"{}\"", record.values.first().map_or("", |value| value.name.as_str()))
                }
                Some(record) if record.kind == "input" && depth < MAX_INPUT_DEPTH => {
                    let mut members = Vec::new();
                    for field in record.fields.iter().filter(|own| is_required(&own.type_name, own.default.as_ref())) {
                        if !self.takes_field() {
                            break;
                        }
                        members.push(format!("\"{}\": {}", field.name, self.input(&field.type_name, depth + 1)));
                    }
                    format!("{{{}}}", members.join(", "))
                }
                _ => "\"text\"".to_owned(),
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A type of sixty required fields, each of the same type, has 60 to the power of five of them.
    #[test]
    fn inputs_of_each_other_end() {
        let field = |name: String, type_name: &str| FieldRecord {
            name,
            type_name: type_name.to_owned(),
            ..FieldRecord::default()
        };
        let tray = TypeRecord {
            name: "Tray".to_owned(),
            kind: "input".to_owned(),
            fields: (0..60).map(|number| field(format!("tray{number}"), "Tray!")).collect(),
            ..TypeRecord::default()
        };
        let arguments = vec![crate::model::ArgumentRecord {
            name: "tray".to_owned(),
            type_name: "Tray!".to_owned(),
            ..Default::default()
        }];
        let weigh = FieldRecord { arguments, ..field("weigh".to_owned(), "Int!") };
        let (text, variables) = sample_document("mutation", &weigh, &|name| (name == "Tray").then(|| tray.clone()));
        assert_eq!(text, "mutation($tray: Tray!) {\n  weigh(tray: $tray)\n}");
        assert_eq!(variables[0].1.matches(':').count(), MAX_FIELDS);
    }
}
