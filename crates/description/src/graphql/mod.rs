//! GraphQL schemas and documents (the specification of October 2021).

mod document;
mod introspection;
mod sample;

use crate::index::IndexWriter;
use crate::model::{ApiInfo, ApiKind, ArgumentRecord, EnumValueRecord, FieldRecord, Level, Place, TypeRecord};
use apollo_compiler::ast::DirectiveList;
use apollo_compiler::parser::Parser;
use apollo_compiler::schema::{ExtendedType, FieldDefinition, InputValueDefinition};
use apollo_compiler::validation::{DiagnosticList, Valid};
use apollo_compiler::{Node, Schema};
pub use document::{DocumentOperation, DocumentProblem, DocumentVariable, GraphQlSchema, operations};
pub use introspection::INTROSPECTION_QUERY;
pub use sample::sample_document;
use thiserror::Error;

/// The depth to which selections and values may be nested.
const MAX_DEPTH: usize = 200;

/// Tokens that a document may have.
const MAX_TOKENS: usize = 5_000_000;

/// Why a schema is not read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum SchemaError {
    /// The response to an introspection has no schema; what its errors say.
    #[error("the response has no schema{}", if .0.is_empty() { String::new() } else { format!(": {}", .0) })]
    Introspection(String),
    /// It is not valid: the line, and why.
    #[error("it is not a valid GraphQL schema: line {line}: {message}")]
    Invalid {
        /// The line, from 1.
        line: usize,
        /// The first problem.
        message: String,
    },
}

fn parser() -> Parser {
    Parser::new().recursion_limit(MAX_DEPTH).token_limit(MAX_TOKENS)
}

/// The schema as GraphQL writes it, if the bytes are one, or the response to an introspection. `None` for other texts.
pub(crate) fn schema_text(bytes: &[u8]) -> Result<Option<String>, SchemaError> {
    let Ok(text) = std::str::from_utf8(bytes) else { return Ok(None) };
    let text = text.trim_start_matches('\u{feff}');
    if text.trim_start().starts_with('{') {
        return introspection::schema_of(text);
    }
    const WORDS: &[&str] =
        &["type ", "schema ", "schema{", "interface ", "union ", "enum ", "input ", "scalar ", "directive ", "extend "];
    let begins = |line: &str| WORDS.iter().any(|word| line.starts_with(word));
    Ok(text.lines().any(begins).then(|| text.to_owned()))
}

/// Reads a schema.
fn schema(text: &str) -> Result<Valid<Schema>, SchemaError> {
    let parsed = parser().parse_schema(text, "schema.graphql").map_err(|error| invalid(&error.errors))?;
    parsed.validate().map_err(|error| invalid(&error.errors))
}

fn invalid(errors: &DiagnosticList) -> SchemaError {
    let first = errors.iter().next();
    let line = first.as_ref().and_then(|first| first.line_column_range()).map_or(1, |range| range.start.line);
    SchemaError::Invalid { line, message: first.map(|first| first.error.to_string()).unwrap_or_default() }
}

/// Writes the records of a schema.
pub(crate) fn write(text: &str, index: &mut IndexWriter) -> Result<(), SchemaError> {
    let schema = schema(text)?;
    let mut roots = Level::default();
    let root_types = [
        ("query", &schema.schema_definition.query),
        ("mutation", &schema.schema_definition.mutation),
        ("subscription", &schema.schema_definition.subscription),
    ];
    let mut operations = 0;
    let mut is_root: Vec<&str> = Vec::new();
    for (kind, root) in root_types {
        let Some(root) = root else { continue };
        let fields = schema.get_object(root).map_or(0, |root| root.fields.len());
        operations += fields;
        is_root.push(root.as_str());
        roots.places.push(place(root, kind, None, fields));
    }
    for (name, definition) in &schema.types {
        if definition.is_built_in() {
            continue;
        }
        let record = record(&schema, name, definition);
        index.put(&format!("type:{name}"), &record);
        if !is_root.contains(&name.as_str()) {
            let count = record.fields.len() + record.values.len();
            roots.places.push(place(name, &record.kind, record.description.as_deref(), count));
        }
    }
    let title = schema.schema_definition.description.as_ref();
    let title = title.and_then(|text| text.lines().next()).unwrap_or("GraphQL API");
    let title = title.trim().trim_end_matches('.').to_owned();
    index.put("info", &ApiInfo { kind: ApiKind::GraphQl, title, operations, ..ApiInfo::default() });
    index.put("roots", &roots);
    index.put("schema", &text);
    Ok(())
}

/// The fields of a type as places.
pub(crate) fn level(record: &TypeRecord) -> Level {
    let fields = record.fields.iter().map(|field| Place {
        deprecated: field.deprecated.is_some(),
        ..place(&format!("{}.{}", record.name, field.name), &field.type_name, field.description.as_deref(), 0)
    });
    let values = record.values.iter().map(|value| Place {
        deprecated: value.deprecated.is_some(),
        ..place(&value.name, "value", value.description.as_deref(), 0)
    });
    let types = record.possible_types.iter().map(|name| place(name, "object", None, 0));
    Level { operations: Vec::new(), places: fields.chain(values).chain(types).collect() }
}

fn place(name: &str, kind: &str, description: Option<&str>, count: usize) -> Place {
    let summary = description.and_then(|text| text.trim().lines().next()).map(str::to_owned);
    Place { name: name.to_owned(), kind: kind.to_owned(), summary, operations: Vec::new(), count, deprecated: false }
}

fn record(schema: &Schema, name: &str, definition: &ExtendedType) -> TypeRecord {
    let mut record = TypeRecord {
        name: name.to_owned(),
        description: definition.description().map(|text| text.trim().to_owned()),
        ..TypeRecord::default()
    };
    record.kind = match definition {
        ExtendedType::Scalar(_) => "scalar",
        ExtendedType::Object(object) => {
            record.fields = object.fields.values().map(|field| output_field(field)).collect();
            record.interfaces = object.implements_interfaces.iter().map(|name| name.to_string()).collect();
            "object"
        }
        ExtendedType::Interface(interface) => {
            record.fields = interface.fields.values().map(|field| output_field(field)).collect();
            let implements = |(_, other): &(&_, &ExtendedType)| match other {
                ExtendedType::Object(object) => object.implements_interfaces.iter().any(|own| own.as_str() == name),
                _ => false,
            };
            let types = schema.types.iter().filter(implements);
            record.possible_types = types.map(|(name, _)| name.to_string()).collect();
            "interface"
        }
        ExtendedType::Union(union) => {
            record.possible_types = union.members.iter().map(|name| name.to_string()).collect();
            "union"
        }
        ExtendedType::Enum(own) => {
            let values = own.values.values().map(|value| EnumValueRecord {
                name: value.value.to_string(),
                description: value.description.as_ref().map(|text| text.trim().to_owned()),
                deprecated: deprecated(&value.directives),
            });
            record.values = values.collect();
            "enum"
        }
        ExtendedType::InputObject(input) => {
            record.fields = input.fields.values().map(|field| input_field(field)).collect();
            "input"
        }
    }
    .to_owned();
    record
}

fn output_field(field: &FieldDefinition) -> FieldRecord {
    let argument = |argument: &Node<InputValueDefinition>| ArgumentRecord {
        name: argument.name.to_string(),
        type_name: argument.ty.to_string(),
        description: argument.description.as_ref().map(|text| text.trim().to_owned()),
        default: argument.default_value.as_ref().map(|value| value.serialize().no_indent().to_string()),
    };
    FieldRecord {
        name: field.name.to_string(),
        type_name: field.ty.to_string(),
        description: field.description.as_ref().map(|text| text.trim().to_owned()),
        deprecated: deprecated(&field.directives),
        arguments: field.arguments.iter().map(argument).collect(),
        default: None,
    }
}

fn input_field(field: &InputValueDefinition) -> FieldRecord {
    FieldRecord {
        name: field.name.to_string(),
        type_name: field.ty.to_string(),
        description: field.description.as_ref().map(|text| text.trim().to_owned()),
        deprecated: deprecated(&field.directives),
        arguments: Vec::new(),
        default: field.default_value.as_ref().map(|value| value.serialize().no_indent().to_string()),
    }
}

/// Why something should no longer be used, by its directive `@deprecated`.
fn deprecated(directives: &DirectiveList) -> Option<String> {
    let directive = directives.get("deprecated")?;
    let reason = directive.specified_argument_by_name("reason").and_then(|reason| reason.as_str());
    Some(reason.unwrap_or("No longer supported").to_owned())
}
