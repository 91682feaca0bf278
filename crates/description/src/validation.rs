//! Validates values against the schemas of a description.
//!
//! A schema is compiled with all that it refers to. In many descriptions most schemas refer to each other, directly or
//! not: those are compiled together once, and not once for each schema that leads to them.

use crate::api::{Api, definition_name};
use crate::index::IndexError;
use serde_json::{Map, Value};
use std::collections::{BTreeMap, BTreeSet};
use yieldtray_expression::{DocumentSchema, SchemaDocument};

/// Definitions that one schema may be made of.
const MAX_DEFINITIONS: usize = 20_000;

/// A schema that is made of so many definitions is compiled together with others that are.
const MANY_DEFINITIONS: usize = 40;

/// Bytes that all definitions of a description may have, so that they are compiled together, and not only those that
/// the first of the schemas leads to.
const MAX_TOGETHER: usize = 10 << 20;

impl Api {
    /// A schema with all that it refers to, directly or not, as a document of its own.
    pub fn with_definitions(&self, schema: &Value) -> Result<Value, IndexError> {
        Ok(document(schema, self.definitions_of(schema)?))
    }

    /// How a value breaks a schema of this description: the location (RFC 6901), and why. Nothing if the schema cannot be
    /// used.
    pub fn violations(&self, schema: &Value, value: Value) -> Vec<(String, String)> {
        self.compiled(schema).map(|compiled| compiled.located_violations(value)).unwrap_or_default()
    }

    /// The same in words, with the rules that are broken.
    pub(crate) fn violations_in_words(&self, schema: &Value, value: Value) -> Result<Vec<String>, String> {
        let lines = self.compiled(schema)?.violations(value).into_iter();
        // Definitions are named as the description names them.
        Ok(lines.map(|line| line.replace("(rule `/$defs/", "(rule `")).collect())
    }

    fn compiled(&self, schema: &Value) -> Result<DocumentSchema, String> {
        self.schemas.of_document(&schema.to_string(), || self.schema_document(schema).ok())
    }

    fn schema_document(&self, schema: &Value) -> Result<SchemaDocument, IndexError> {
        let own = self.definitions_of(schema)?;
        if own.len() < MANY_DEFINITIONS {
            return Ok(SchemaDocument::Alone(document(schema, own)));
        }
        let definitions = self.all_definitions(MAX_TOGETHER)?.unwrap_or(own);
        let mut schemas = BTreeMap::from([(schema.to_string(), schema.clone())]);
        for summary in self.operations()? {
            let Some(operation) = self.operation(&summary.method, &summary.path)? else { continue };
            for schema in operation.response_schemas().into_iter().chain(operation.body_schemas()) {
                let mut wanted = BTreeSet::new();
                references(&schema, &mut wanted);
                if !wanted.is_empty() && wanted.iter().all(|name| definitions.contains_key(name)) {
                    schemas.insert(schema.to_string(), schema);
                }
            }
        }
        Ok(SchemaDocument::Together { schemas: schemas.into_iter().collect(), definitions })
    }

    /// All that a schema refers to, directly or not.
    fn definitions_of(&self, schema: &Value) -> Result<Map<String, Value>, IndexError> {
        let (mut wanted, mut known, mut definitions) = (BTreeSet::new(), BTreeSet::new(), Map::new());
        references(schema, &mut wanted);
        while let Some(name) = wanted.pop_first() {
            if definitions.len() >= MAX_DEFINITIONS || !known.insert(name.clone()) {
                continue;
            }
            if let Some(definition) = self.definition(&name)? {
                references(&definition, &mut wanted);
                definitions.insert(name, Value::clone(&definition));
            }
        }
        Ok(definitions)
    }
}

fn document(schema: &Value, definitions: Map<String, Value>) -> Value {
    let mut whole = match schema {
        Value::Object(members) => members.clone(),
        other => return other.clone(),
    };
    if !definitions.is_empty() {
        whole.insert("$defs".to_owned(), Value::Object(definitions));
    }
    Value::Object(whole)
}

fn references(value: &Value, found: &mut BTreeSet<String>) {
    match value {
        Value::Object(members) => {
            if let Some(name) = members.get("$ref").and_then(Value::as_str).and_then(definition_name) {
                found.insert(name.to_owned());
            }
            members.values().for_each(|member| references(member, found));
        }
        Value::Array(members) => members.iter().for_each(|member| references(member, found)),
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::index;
    use serde_json::json;

    /// A description whose trays refer to each other in a circle, and that lists them too.
    fn trays(count: usize) -> Api {
        let (mut paths, mut schemas) = (Map::new(), Map::new());
        let path = |schema: Value| json!({ "get": { "responses": { "200": { "content": { "application/json": { "schema": schema } } } } } });
        for number in 0..count {
            let place = |number: usize| json!({ "$ref": format!("#/components/schemas/Tray{number}") });
            let next = place((number + 1) % count);
            let properties = json!({ "kilos": { "type": "integer", "minimum": number }, "next": next });
            schemas.insert(format!("Tray{number}"), json!({ "required": ["kilos"], "properties": properties }));
            paths.insert(format!("/trays/{number}"), path(place(number)));
            paths.insert(format!("/lists/{number}"), path(json!({ "type": "array", "items": place(number) })));
        }
        let text = json!({ "openapi": "3.1.0", "paths": paths, "components": { "schemas": schemas } }).to_string();
        let none = |_: &str| Err::<Vec<u8>, _>("there are no other files");
        Api::open(Box::new(index(text.as_bytes(), none).expect("a description"))).expect("an index")
    }

    #[test]
    fn schemas_that_refer_to_each_other_are_compiled_together() {
        for (count, together) in [(MANY_DEFINITIONS - 1, 0), (MANY_DEFINITIONS, 2 * MANY_DEFINITIONS)] {
            let api = trays(count);
            let tray = json!({ "$ref": "#/$defs/Tray12" });
            match api.schema_document(&tray).expect("an index") {
                SchemaDocument::Alone(_) => assert_eq!(together, 0),
                SchemaDocument::Together { schemas, definitions } => {
                    assert_eq!((schemas.len(), definitions.len()), (together, count));
                }
            }
            // Both say the same.
            let light = |kilos: i64| json!({ "kilos": 20, "next": { "kilos": kilos } });
            assert_eq!(api.violations_in_words(&tray, light(13)), Ok(Vec::new()));
            assert_eq!(
                api.violations_in_words(&tray, light(12)),
                Ok(vec![
                    "`/next/kilos`: 12 is less than the minimum of 13 (rule `Tray13/properties/kilos/minimum`)"
                        .to_owned()
                ])
            );
            let list = json!({ "type": "array", "items": tray });
            let expected = ("/0/next/kilos".to_owned(), "12 is less than the minimum of 13".to_owned());
            assert_eq!(api.violations(&list, json!([light(12)])), [expected]);
            let expected = "the whole: {\"kilos\":20} is not of type \"array\" (rule `/type`)".to_owned();
            assert_eq!(api.violations_in_words(&list, json!({ "kilos": 20 })), Ok(vec![expected]));
        }
    }
}
