//! Documents: their operations, and what is wrong with them.

use super::{SchemaError, deprecated, parser, schema};
use apollo_compiler::ast::{self, Definition};
use apollo_compiler::diagnostic::{Diagnostic, ToCliReport};
use apollo_compiler::executable::{Operation, Selection, SelectionSet};
use apollo_compiler::request::coerce_variable_values;
use apollo_compiler::validation::{DiagnosticList, Valid};
use apollo_compiler::{ExecutableDocument, Node, Schema};
use serde_json::{Map, Value};
use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;
use yieldtray_cel as cel;
use yieldtray_source::closest;

/// Fields that are looked at for deprecation: fragments may be spread many times.
const MAX_FIELDS: usize = 20_000;

/// An operation of a document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DocumentOperation {
    /// Its name, if it has one.
    pub name: Option<String>,
    /// `query`, `mutation` or `subscription`.
    pub kind: &'static str,
    /// The variables it declares.
    pub variables: Vec<DocumentVariable>,
}

/// A variable that an operation declares.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DocumentVariable {
    /// Its name, without `$`.
    pub name: String,
    /// Its type, as GraphQL writes it.
    pub type_name: String,
    /// Whether a request must have a value for it.
    pub required: bool,
}

/// What is wrong at a place of a document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DocumentProblem {
    /// The place, in bytes.
    pub range: Range<usize>,
    /// The violation.
    pub message: String,
    /// What was probably meant there.
    pub meant: Option<String>,
    /// True for what works but should not be used.
    pub is_deprecation: bool,
}

/// The operations of a document, as far as it can be read.
///
/// # Errors
/// The problems of its syntax.
pub fn operations(text: &str) -> Result<Vec<DocumentOperation>, Vec<DocumentProblem>> {
    let document = parser().parse_ast(text, "document.graphql").map_err(|error| problems(&error.errors, None, text))?;
    let operations = document.definitions.iter().filter_map(|definition| match definition {
        Definition::OperationDefinition(operation) => Some(operation_of(operation)),
        _ => None,
    });
    Ok(operations.collect())
}

fn operation_of(operation: &Node<ast::OperationDefinition>) -> DocumentOperation {
    let variables = operation.variables.iter().map(|variable| DocumentVariable {
        name: variable.name.to_string(),
        type_name: variable.ty.to_string(),
        required: variable.ty.is_non_null() && variable.default_value.is_none(),
    });
    DocumentOperation {
        name: operation.name.as_ref().map(|name| name.to_string()),
        kind: operation.operation_type.name(),
        variables: variables.collect(),
    }
}

/// A schema that documents are validated against.
#[derive(Clone, Debug)]
pub struct GraphQlSchema {
    schema: Arc<Valid<Schema>>,
}

impl GraphQlSchema {
    /// Reads a schema in the GraphQL language.
    ///
    /// # Errors
    /// If it is not valid.
    pub fn parse(text: &str) -> Result<Self, SchemaError> {
        Ok(Self { schema: Arc::new(schema(text)?) })
    }

    fn document(&self, text: &str) -> Result<Valid<ExecutableDocument>, DiagnosticList> {
        let parsed = parser().parse_executable(&self.schema, text, "document.graphql").map_err(|error| error.errors)?;
        parsed.validate(&self.schema).map_err(|error| error.errors)
    }

    /// What is wrong with a document, and which of its fields are deprecated.
    pub fn problems(&self, text: &str) -> Vec<DocumentProblem> {
        match self.document(text) {
            Ok(document) => self.deprecations(&document),
            Err(errors) => problems(&errors, Some(&self.schema), text),
        }
    }

    /// Why the variables of an operation do not fit its declarations, in words. A document that is not valid has no
    /// problem here.
    pub fn variable_problem(
        &self,
        text: &str,
        operation: Option<&str>,
        variables: &Map<String, Value>,
    ) -> Option<String> {
        let document = self.document(text).ok()?;
        let operation = document.operations.get(operation).ok()?;
        let values = variables.iter().map(|(name, value)| (name.as_str().into(), value.clone().into()));
        let coerced = coerce_variable_values(&self.schema, operation, &values.collect());
        let message = coerced.err()?.message().to_string();
        // As the library says it: `could not coerce variable first: "three" to type Int`.
        let parts = message.strip_prefix("could not coerce variable ").and_then(|rest| rest.split_once(": "));
        let parts = parts.and_then(|(name, rest)| Some((name, rest.rsplit_once(" to type ")?)));
        Some(match parts {
            Some((name, (value, kind))) => format!("{value} is not a value of the type `{kind}` of `${name}`"),
            None => message,
        })
    }

    /// The type of `data` for the checker of expressions: just what the operation selects.
    pub fn data_type(&self, text: &str, operation: Option<&str>) -> Option<cel::Type> {
        let document = self.document(text).ok()?;
        let operation = document.operations.get(operation).ok()?;
        let selected = selected(&document, &operation.selection_set, 0);
        Some(cel::Type::Nullable(Arc::new(cel::Type::Record(Arc::new(selected)))))
    }

    fn deprecations(&self, document: &ExecutableDocument) -> Vec<DocumentProblem> {
        let mut found = Vec::new();
        let mut left = MAX_FIELDS;
        let named = document.fragments.values().map(|fragment| &fragment.selection_set);
        let sets = document.operations.iter().map(|operation: &Node<Operation>| &operation.selection_set).chain(named);
        for set in sets {
            deprecations_in(set, &mut left, &mut found);
        }
        let mut known = HashSet::new();
        found.retain(|problem: &DocumentProblem| known.insert((problem.range.start, problem.range.end)));
        found
    }
}

/// The deepest selection of which the type is told.
const MAX_SELECTION_DEPTH: usize = 40;

/// What a selection gives: each name with its type.
struct Selected(Vec<(String, cel::Type)>);

impl cel::Schema for Selected {
    fn member(&self, name: &str) -> Option<cel::Type> {
        self.0.iter().find(|(own, _)| own == name).map(|(_, kind)| kind.clone())
    }

    fn members(&self) -> Vec<String> {
        self.0.iter().map(|(name, _)| name.clone()).collect()
    }
}

fn selected(document: &ExecutableDocument, set: &SelectionSet, depth: usize) -> Selected {
    let mut fields = Vec::new();
    let mut open: Vec<&SelectionSet> = vec![set];
    let mut left = MAX_FIELDS;
    while let Some(set) = open.pop() {
        for selection in &set.selections {
            left = left.saturating_sub(1);
            if left == 0 {
                return Selected(fields);
            }
            match selection {
                Selection::Field(field) => {
                    let inner = match field.selection_set.selections.is_empty() || depth >= MAX_SELECTION_DEPTH {
                        true => leaf(field.ty().inner_named_type()),
                        false => cel::Type::Record(Arc::new(selected(document, &field.selection_set, depth + 1))),
                    };
                    fields.push((field.response_key().to_string(), wrapped(field.ty(), inner)));
                }
                Selection::InlineFragment(fragment) => open.push(&fragment.selection_set),
                Selection::FragmentSpread(spread) => {
                    open.extend(spread.fragment_def(document).map(|fragment| &fragment.selection_set));
                }
            }
        }
    }
    // A name that several fragments select may be of several types.
    let mut merged: Vec<(String, cel::Type)> = Vec::new();
    for (name, kind) in fields {
        match merged.iter_mut().find(|(own, _)| *own == name) {
            Some((_, own)) => *own = cel::Type::Dyn,
            None => merged.push((name, kind)),
        }
    }
    Selected(merged)
}

fn leaf(name: &str) -> cel::Type {
    match name {
        "String" | "ID" => cel::Type::String,
        "Int" => cel::Type::Int,
        "Boolean" => cel::Type::Bool,
        // A number may be written as an integer, and a scalar of a schema be anything.
        _ => cel::Type::Dyn,
    }
}

/// A type with the lists around it; what may be null may be so here too.
fn wrapped(kind: &ast::Type, inner: cel::Type) -> cel::Type {
    match kind {
        ast::Type::NonNullNamed(_) => inner,
        ast::Type::Named(_) if inner.is_dyn() => inner,
        ast::Type::Named(_) => cel::Type::Nullable(Arc::new(inner)),
        ast::Type::NonNullList(item) => cel::Type::list(wrapped(item, inner)),
        ast::Type::List(item) => cel::Type::Nullable(Arc::new(cel::Type::list(wrapped(item, inner)))),
    }
}

fn deprecations_in(set: &SelectionSet, left: &mut usize, found: &mut Vec<DocumentProblem>) {
    for selection in &set.selections {
        if *left == 0 {
            return;
        }
        *left -= 1;
        match selection {
            Selection::Field(field) => {
                if let Some(why) = deprecated(&field.definition.directives)
                    && let Some(place) = field.name.location()
                {
                    found.push(DocumentProblem {
                        range: place.offset()..place.end_offset(),
                        message: format!("`{}` is deprecated: {why}", field.name),
                        meant: None,
                        is_deprecation: true,
                    });
                }
                deprecations_in(&field.selection_set, left, found);
            }
            Selection::InlineFragment(fragment) => deprecations_in(&fragment.selection_set, left, found),
            // A named fragment is looked at by itself.
            Selection::FragmentSpread(_) => {}
        }
    }
}

const TOKENS: &[(&str, &str)] = &[
    ("R_CURLY", "`}`"),
    ("L_CURLY", "`{`"),
    ("R_PAREN", "`)`"),
    ("L_PAREN", "`(`"),
    ("R_BRACK", "`]`"),
    ("L_BRACK", "`[`"),
    ("EOF", "the end"),
    ("a valid Value", "a value"),
    ("syntax error: ", ""),
];

fn problems(errors: &DiagnosticList, schema: Option<&Schema>, text: &str) -> Vec<DocumentProblem> {
    let problem = |error: Diagnostic<'_, _>| {
        let error: &apollo_compiler::validation::DiagnosticData = error.error;
        let range = error.location().map_or(0..text.len().min(1), |place| place.offset()..place.end_offset());
        let message = error.to_string();
        let mut message = message.lines().next().unwrap_or_default().trim_end_matches('.').to_owned();
        // The names that the library has for tokens.
        for (name, token) in TOKENS {
            message = message.replace(name, token);
        }
        let meant = schema.and_then(|schema| meant(schema, &message));
        DocumentProblem { range, message, meant, is_deprecation: false }
    };
    let mut found: Vec<DocumentProblem> = errors.iter().map(problem).collect();
    found.dedup();
    found
}

/// The field or type that an unknown name is probably a misspelling of.
fn meant(schema: &Schema, message: &str) -> Option<String> {
    let mut quoted = message.split('`').skip(1).step_by(2);
    let (first, second) = (quoted.next()?, quoted.next());
    if message.starts_with("type `") && message.contains("does not have a field") {
        let fields: Vec<&str> = match schema.types.get(first)? {
            apollo_compiler::schema::ExtendedType::Object(own) => own.fields.keys().map(|name| name.as_str()).collect(),
            apollo_compiler::schema::ExtendedType::Interface(own) => {
                own.fields.keys().map(|name| name.as_str()).collect()
            }
            _ => return None,
        };
        return closest(second?, fields).map(str::to_owned);
    }
    if message.contains("cannot find type") {
        return closest(first, schema.types.keys().map(|name| name.as_str())).map(str::to_owned);
    }
    None
}
