//! Suggests checks that would detect a mutation.

use crate::prove::mutation::{Field, Mutation};
use serde_json::Value;
use std::time::Duration;
use yieldtray_http::Exchange;
use yieldtray_http::body_shape::{BodyShape, FieldAt};
use yieldtray_workspace::suggest::{FieldExpression, json_type};

/// Expressions that may detect a mutation, the best first. The caller tries whether they hold for the response and
/// detect it.
pub(crate) fn suggestions(
    exchange: &Exchange,
    outline: &BodyShape<'_>,
    fields: &[FieldAt<'_>],
    change: &Mutation,
) -> Vec<String> {
    match change {
        Mutation::Status(_) => vec![format!("status == {}", exchange.status)],
        Mutation::EmptyBody | Mutation::NotJson | Mutation::OtherBody => match outline {
            BodyShape::Object(_) => vec!["type(body) == map".to_owned()],
            BodyShape::List(_) => vec!["type(body) == list".to_owned()],
            BodyShape::Json => vec!["type(body) != string".to_owned()],
            BodyShape::Other | BodyShape::Nothing => vec!["size(text) > 0".to_owned()],
        },
        Mutation::EmptyList => vec!["size(body) > 0".to_owned()],
        Mutation::Field { path, how } => {
            let value = fields.iter().find(|field| field.path == *path).map(|field| field.value.get());
            let value = value.unwrap_or_default();
            let place = FieldExpression::of(path);
            let (field, there) = (place.field.clone(), place.there());
            let of_each = place.loops > 0;
            let for_each = |test: String| place.test(&test);
            let mut tests = Vec::new();
            match how {
                Field::Missing | Field::Null | Field::OtherType => {
                    tests.extend(json_type(value).map(|kind| format!("type({field}) == {kind}")));
                    tests.push(there);
                }
                Field::Empty => tests.push(format!("size({field}) > 0")),
                // Short plain values may be expected literally; others are likely generated for each response.
                Field::OtherValue if !of_each && value.len() <= 24 && !value.starts_with(['{', '[']) => {
                    tests.push(format!("{field} == {value}"));
                }
                Field::OtherValue => {}
            }
            tests.into_iter().map(for_each).collect()
        }
        Mutation::ContentType => {
            vec![format!("headers[\"content-type\"].startsWith({})", Value::from(exchange.media_type()))]
        }
        Mutation::Header(name) => vec![format!("{} in headers", Value::from(name.as_str()))],
        Mutation::Slow(_) => {
            // Ten times what it took this time, in whole seconds.
            let bound = (exchange.timings.total * 10).max(Duration::from_secs(1)).as_secs() + 1;
            vec![format!("elapsed < duration(\"{bound}s\")")]
        }
    }
}
