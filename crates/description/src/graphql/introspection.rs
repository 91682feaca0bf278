//! The response to an introspection, written as a schema in the GraphQL language.

use super::SchemaError;
use serde::Deserialize;
use serde_json::Value;
use std::fmt::Write;

/// The query that asks a server for its schema.
pub const INTROSPECTION_QUERY: &str = "query Introspection {
  __schema {
    description
    queryType { name }
    mutationType { name }
    subscriptionType { name }
    types {
      kind name description
      fields(includeDeprecated: true) {
        name description isDeprecated deprecationReason
        args { name description defaultValue type { ...Type } }
        type { ...Type }
      }
      inputFields { name description defaultValue type { ...Type } }
      interfaces { name }
      enumValues(includeDeprecated: true) { name description isDeprecated deprecationReason }
      possibleTypes { name }
    }
    directives { name description locations args { name description defaultValue type { ...Type } } }
  }
}

fragment Type on __Type {
  kind name
  ofType { kind name ofType { kind name ofType { kind name ofType { kind name ofType { kind name ofType { kind name } } } } } }
}
";

/// Lists and `!` that may be around a type.
const MAX_WRAPPERS: usize = 16;

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct SchemaAnswer {
    description: Option<String>,
    query_type: Option<Named>,
    mutation_type: Option<Named>,
    subscription_type: Option<Named>,
    types: Vec<TypeAnswer>,
    #[serde(default)]
    directives: Vec<DirectiveAnswer>,
}

#[derive(Deserialize)]
struct Named {
    name: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct TypeAnswer {
    kind: String,
    name: String,
    description: Option<String>,
    fields: Option<Vec<FieldAnswer>>,
    input_fields: Option<Vec<InputAnswer>>,
    interfaces: Option<Vec<Named>>,
    enum_values: Option<Vec<EnumAnswer>>,
    possible_types: Option<Vec<Named>>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct FieldAnswer {
    name: String,
    description: Option<String>,
    #[serde(default)]
    args: Vec<InputAnswer>,
    #[serde(rename = "type")]
    of: TypeReference,
    #[serde(default)]
    is_deprecated: bool,
    deprecation_reason: Option<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct InputAnswer {
    name: String,
    description: Option<String>,
    #[serde(rename = "type")]
    of: TypeReference,
    default_value: Option<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct EnumAnswer {
    name: String,
    description: Option<String>,
    #[serde(default)]
    is_deprecated: bool,
    deprecation_reason: Option<String>,
}

#[derive(Deserialize)]
struct DirectiveAnswer {
    name: String,
    description: Option<String>,
    #[serde(default)]
    locations: Vec<String>,
    #[serde(default)]
    args: Vec<InputAnswer>,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct TypeReference {
    kind: String,
    name: Option<String>,
    of_type: Option<Box<TypeReference>>,
}

impl TypeReference {
    fn text(&self) -> String {
        let (mut outer, mut ends, mut inner) = (String::new(), Vec::new(), self);
        for _ in 0..MAX_WRAPPERS {
            match (inner.kind.as_str(), &inner.of_type) {
                ("NON_NULL", Some(of)) => {
                    ends.push("!");
                    inner = of;
                }
                ("LIST", Some(of)) => {
                    outer.push('[');
                    ends.push("]");
                    inner = of;
                }
                _ => break,
            }
        }
        ends.reverse();
        format!("{outer}{}{}", inner.name.as_deref().unwrap_or("String"), ends.concat())
    }
}

/// The schema in the response to an introspection; `None` for JSON of another kind.
pub(super) fn schema_of(text: &str) -> Result<Option<String>, SchemaError> {
    // An OpenAPI description may be large and is not looked through as a whole.
    let start: String = text.chars().filter(|c| !c.is_whitespace()).take(400).collect();
    let is_response = ["\"__schema\"", "{\"data\":", "{\"errors\":"].iter().any(|word| start.contains(word));
    if !is_response {
        return Ok(None);
    }
    let Ok(mut whole) = serde_json::from_str::<Value>(text) else { return Ok(None) };
    let mut schema = whole["data"]["__schema"].take();
    if schema.is_null() {
        schema = whole["__schema"].take();
    }
    if schema.is_null() {
        let message = whole["errors"][0]["message"].as_str().unwrap_or_default();
        return Err(SchemaError::Introspection(message.to_owned()));
    }
    let answer: SchemaAnswer =
        serde_json::from_value(schema).map_err(|error| SchemaError::Introspection(error.to_string()))?;
    Ok(Some(write(&answer)))
}

fn write(schema: &SchemaAnswer) -> String {
    let mut out = String::new();
    describe(schema.description.as_deref(), "", &mut out);
    out.push_str("schema {\n");
    let roots = [
        ("query", &schema.query_type),
        ("mutation", &schema.mutation_type),
        ("subscription", &schema.subscription_type),
    ];
    for (word, root) in roots {
        if let Some(root) = root {
            let _ = writeln!(out, "  {word}: {}", root.name);
        }
    }
    out.push_str("}\n");
    const BUILT_IN: &[&str] = &["skip", "include", "deprecated", "specifiedBy", "oneOf"];
    for directive in schema.directives.iter().filter(|directive| !BUILT_IN.contains(&directive.name.as_str())) {
        describe(directive.description.as_deref(), "", &mut out);
        let _ = write!(out, "\ndirective @{}", directive.name);
        arguments(&directive.args, &mut out);
        let _ = writeln!(out, " on {}", directive.locations.join(" | "));
    }
    const SCALARS: &[&str] = &["Int", "Float", "String", "Boolean", "ID"];
    for own in schema.types.iter().filter(|own| !own.name.starts_with("__") && !SCALARS.contains(&own.name.as_str())) {
        out.push('\n');
        describe(own.description.as_deref(), "", &mut out);
        let names = |list: &Option<Vec<Named>>, between: &str| {
            let names = list.iter().flatten().map(|one| one.name.as_str());
            names.collect::<Vec<_>>().join(between)
        };
        match own.kind.as_str() {
            "OBJECT" | "INTERFACE" => {
                let word = if own.kind == "OBJECT" { "type" } else { "interface" };
                let _ = write!(out, "{word} {}", own.name);
                let interfaces = names(&own.interfaces, " & ");
                if !interfaces.is_empty() {
                    let _ = write!(out, " implements {interfaces}");
                }
                out.push_str(" {\n");
                for field in own.fields.iter().flatten() {
                    describe(field.description.as_deref(), "  ", &mut out);
                    let _ = write!(out, "  {}", field.name);
                    arguments(&field.args, &mut out);
                    let _ = write!(out, ": {}", field.of.text());
                    deprecated(field.is_deprecated, field.deprecation_reason.as_deref(), &mut out);
                    out.push('\n');
                }
                out.push_str("}\n");
            }
            "UNION" => {
                let _ = writeln!(out, "union {} = {}", own.name, names(&own.possible_types, " | "));
            }
            "ENUM" => {
                let _ = writeln!(out, "enum {} {{", own.name);
                for value in own.enum_values.iter().flatten() {
                    describe(value.description.as_deref(), "  ", &mut out);
                    let _ = write!(out, "  {}", value.name);
                    deprecated(value.is_deprecated, value.deprecation_reason.as_deref(), &mut out);
                    out.push('\n');
                }
                out.push_str("}\n");
            }
            "INPUT_OBJECT" => {
                let _ = writeln!(out, "input {} {{", own.name);
                for field in own.input_fields.iter().flatten() {
                    describe(field.description.as_deref(), "  ", &mut out);
                    out.push_str("  ");
                    input(field, &mut out);
                    out.push('\n');
                }
                out.push_str("}\n");
            }
            _ => {
                let _ = writeln!(out, "scalar {}", own.name);
            }
        }
    }
    out
}

fn arguments(arguments: &[InputAnswer], out: &mut String) {
    if arguments.is_empty() {
        return;
    }
    out.push('(');
    for (place, argument) in arguments.iter().enumerate() {
        if place > 0 {
            out.push_str(", ");
        }
        if let Some(text) = &argument.description {
            let _ = write!(out, "{} ", quoted(text));
        }
        input(argument, out);
    }
    out.push(')');
}

fn input(field: &InputAnswer, out: &mut String) {
    let _ = write!(out, "{}: {}", field.name, field.of.text());
    if let Some(default) = &field.default_value {
        let _ = write!(out, " = {default}");
    }
}

fn deprecated(is_deprecated: bool, reason: Option<&str>, out: &mut String) {
    if is_deprecated {
        out.push_str(" @deprecated");
        if let Some(reason) = reason {
            let _ = write!(out, "(reason: {})", quoted(reason));
        }
    }
}

fn describe(text: Option<&str>, indent: &str, out: &mut String) {
    if let Some(text) = text.filter(|text| !text.is_empty()) {
        let _ = writeln!(out, "{indent}{}", quoted(text));
    }
}

/// A string of the GraphQL language; its escapes are those of JSON.
fn quoted(text: &str) -> String {
    Value::from(text).to_string()
}
