//! Request bodies from their schemas.

use crate::draft::{Body, ImportedRequest, Part};
use serde_json::Value;
use yieldtray_description::Samples;
use yieldtray_description::{Documents, Node};
use yieldtray_syntax::ValueText;

/// Adds the body that an operation takes.
pub(super) fn add<'d>(
    documents: &'d Documents,
    operation: Node<'d>,
    samples: &Samples<'d>,
    draft: &mut ImportedRequest,
    notes: &mut Vec<String>,
) {
    let Some(content) = documents.member(operation, "requestBody").and_then(|body| body.get("content")) else { return };
    let all: Vec<(&str, Node<'d>)> = content.members().collect();
    let essence = |media: &str| media.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let rank = |media: &str| match essence(media).as_str() {
        "application/json" => 0,
        json if json.ends_with("+json") => 1,
        "application/x-www-form-urlencoded" => 2,
        "multipart/form-data" => 3,
        "*/*" | "application/*" => 5,
        _ => 4,
    };
    let Some((media, holder)) = all.iter().min_by_key(|(media, _)| rank(media)).copied() else { return };
    if all.len() > 1 {
        let others: Vec<&str> = all.iter().map(|(media, _)| *media).filter(|other| *other != media).collect();
        draft.note(format!("The body may also be {}.", others.join(", ")));
    }
    let sample = samples.for_holder(holder, "body");
    match (rank(media), sample) {
        (0 | 1 | 5, sample) => {
            let sample = sample.unwrap_or_else(|| Value::Object(serde_json::Map::new()));
            let is_document = sample.is_object() || sample.is_array();
            // An object or a list is known for JSON by itself.
            if rank(media) == 1 || !is_document {
                let media = if media.contains('*') { "application/json" } else { media };
                draft.headers.push(("Content-Type".into(), media.into()));
            }
            let text = serde_json::to_string_pretty(&sample).unwrap_or_default();
            draft.body = Body::Text(text.into());
        }
        (2, Some(Value::Object(fields))) => {
            for (name, value) in fields {
                draft.lines.push(format!("% field {name} = {}", scalar(&value).replace('\n', " ")));
            }
        }
        (3, Some(Value::Object(parts))) => {
            let shape = holder.get("schema").and_then(|schema| documents.resolve(schema));
            let parts = parts.into_iter().map(|(name, value)| {
                let property = shape.and_then(|shape| documents.member(shape.get("properties")?, &name));
                (ValueText::from(name.as_str()), part(&name, &value, property, notes))
            });
            draft.body = Body::Parts(parts.collect());
        }
        (_, Some(Value::String(text))) if !text.is_empty() => {
            draft.headers.push(("Content-Type".into(), media.into()));
            draft.body = Body::Text(text.into());
        }
        (..) => {
            draft.headers.push(("Content-Type".into(), media.into()));
            notes.push(format!("the {media} body has no example: write it"));
        }
    }
}

/// A part of a form: bytes come from a file.
fn part(name: &str, value: &Value, property: Option<Node<'_>>, notes: &mut Vec<String>) -> Part {
    let binary = property.is_some_and(|property| {
        property.text("format") == Some("binary")
            || property.text("contentMediaType").is_some() && property.text("contentEncoding").is_none()
    });
    if !binary {
        return Part::Text(scalar(value).into(), None);
    }
    notes.push(format!("part `{name}` is a file: replace `{name}.bin`"));
    Part::File { path: format!("{name}.bin").into(), media: None, name: None }
}

fn scalar(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}
