//! What an API offers, as its description says: OpenAPI 3.0 and 3.1, and GraphQL schemas, as one model.
//!
//! A description is written once into an index ([`index`]), which [`Api`] reads record by record. [`Contract`] validates
//! responses against it, [`Coverage`] says what of it is exercised, [`drift`] where responses and description differ, and
//! [`changes`] what differs between two descriptions.

mod api;
mod changes;
mod contract;
mod coverage;
mod documents;
mod drift;
mod graphql;
mod index;
mod model;
mod openapi;
mod pattern;
mod recent;
mod sample;
mod schema;
mod schema_walk;
mod validation;

#[cfg(test)]
mod tests;

pub use api::{Api, Found, Matched, ReadError, definition_name, index};
pub use changes::{Change, changes};
pub use contract::{Contract, Violation};
pub use coverage::{Coverage, Exercise, OperationCoverage, Ratio};
pub use documents::{DocumentError, Documents, Node};
pub use drift::{Drift, DriftKind, Observation, drift};
pub use graphql::{
    DocumentOperation, DocumentProblem, DocumentVariable, GraphQlSchema, INTROSPECTION_QUERY, SchemaError, operations,
    sample_document,
};
pub use index::{IndexError, Storage};
pub use model::{
    ApiInfo, ApiKind, ArgumentRecord, Content, EnumValueRecord, FieldRecord, Level, Operation, OperationSummary,
    Parameter, Place, RequestBody, Response, TypeRecord, named_type,
};
pub use openapi::{METHODS, VersionError, is_v30, parameters};
pub use sample::Samples;
pub use schema::{References, SchemaWriter};
pub use schema_walk::{SchemaMember, ValueStep};
