//! Parameters of operations.

use crate::draft::ImportedRequest;
use serde_json::Value;
use yieldtray_description::Node;
use yieldtray_description::Samples;
use yieldtray_source::names::is_value_name;
use yieldtray_syntax::{ValueText, is_language_name, is_token};

/// Adds a parameter to a request: what must be there as a value of its own, the rest in comments.
pub(super) fn add<'d>(
    parameter: Node<'d>,
    samples: &Samples<'d>,
    draft: &mut ImportedRequest,
    notes: &mut Vec<String>,
) {
    let Some(name) = parameter.text("name") else { return };
    let place = parameter.text("in").unwrap_or_default();
    let required = parameter.is("required") || place == "path";
    let sample = sample(parameter, samples, name);
    match place {
        "path" => in_path(parameter, name, sample, draft),
        "query" => {
            for (name, value) in in_query(parameter, name, &sample) {
                match required {
                    true => {
                        let value = given(&name, &value, draft);
                        draft.parameters.push((name.as_str().into(), value));
                    }
                    false => draft.lines.push(format!("#% query {} = {}", off(&name), off(&value))),
                }
            }
        }
        // These describe the body and the response, and credentials (OpenAPI 3.0.3, 4.7.12.1).
        "header" if ["accept", "content-type", "authorization"].iter().any(|own| name.eq_ignore_ascii_case(own)) => {}
        "header" if !is_token(name) => notes.push(format!("`{name}` is not a valid header name")),
        "header" => {
            let value = joined(&sample, ",");
            match required {
                true => {
                    let value = given(name, &value, draft);
                    draft.headers.push((name.into(), value));
                }
                false => draft.note(format!("Optional header: `{name}: {}`", one_line(&value))),
            }
        }
        "cookie" => {
            let value = joined(&sample, ",");
            match required {
                true => {
                    let value = given(name, &value, draft);
                    cookie(draft, name, &value);
                }
                false => draft.note(format!("Optional cookie: `{name}={}`", one_line(&value))),
            }
        }
        other => notes.push(format!("parameter `{name}` has the unknown location `{other}`")),
    }
}

/// A value for a parameter.
fn sample<'d>(parameter: Node<'d>, samples: &Samples<'d>, name: &str) -> Value {
    let in_content = || {
        let (_, media) = parameter.get("content")?.members().next()?;
        samples.for_holder(media, name).map(|value| Value::String(value.to_string()))
    };
    samples.for_holder(parameter, name).or_else(in_content).unwrap_or_else(|| Value::String(name.to_owned()))
}

/// Puts the value of a parameter in place of its braces.
fn in_path(parameter: Node<'_>, name: &str, sample: Value, draft: &mut ImportedRequest) {
    let braces = format!("{{{name}}}");
    let mark = match parameter.text("style").unwrap_or("simple") {
        "label" => ".".to_owned(),
        "matrix" => format!(";{name}="),
        _ => String::new(),
    };
    let value = given(name, &joined(&sample, ","), draft);
    let mut target = ValueText::default();
    for piece in draft.target.pieces() {
        match piece {
            yieldtray_syntax::ValuePiece::Literal(text) => {
                let mut rest = text.as_str();
                while let Some(at) = rest.find(&braces) {
                    target.push_str(&rest[..at]);
                    target.push_str(&mark);
                    target.append(&value);
                    rest = &rest[at + braces.len()..];
                }
                target.push_str(rest);
            }
            own => target.push_piece(own.clone()),
        }
    }
    draft.target = target;
}

/// Names and values of a query (OpenAPI 3.1.0, 4.8.12.4).
fn in_query(parameter: Node<'_>, name: &str, sample: &Value) -> Vec<(String, String)> {
    let style = parameter.text("style").unwrap_or("form");
    let explode = parameter.value.get("explode").map_or(style == "form", |explode| explode == &Value::Bool(true));
    let between = match style {
        "spaceDelimited" => " ",
        "pipeDelimited" => "|",
        _ => ",",
    };
    match sample {
        Value::Object(members) if style == "deepObject" => {
            members.iter().map(|(member, value)| (format!("{name}[{member}]"), scalar(value))).collect()
        }
        Value::Object(members) if explode => {
            members.iter().map(|(member, value)| (member.clone(), scalar(value))).collect()
        }
        Value::Array(members) if explode => members.iter().map(|value| (name.to_owned(), scalar(value))).collect(),
        value => vec![(name.to_owned(), joined(value, between))],
    }
}

fn joined(value: &Value, between: &str) -> String {
    match value {
        Value::Array(members) => members.iter().map(scalar).collect::<Vec<_>>().join(between),
        Value::Object(members) => {
            let pairs = members.iter().flat_map(|(name, value)| [name.clone(), scalar(value)]);
            pairs.collect::<Vec<_>>().join(between)
        }
        other => scalar(other),
    }
}

fn scalar(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Null => String::new(),
        other => other.to_string(),
    }
}

/// A text in an instruction that is switched off: switched on, it means the same and evaluates nothing.
fn off(text: &str) -> String {
    one_line(text).replace("{{", "\\{{")
}

fn one_line(text: &str) -> String {
    text.replace(|c: char| c.is_control(), " ")
}

/// The value of a cell that a parameter is filled in with.
fn given(name: &str, value: &str, draft: &mut ImportedRequest) -> ValueText {
    let own = value_name(name);
    let line = format!("% let {own} = {}", Value::from(value));
    let same = format!("% let {own} = ");
    if !draft.lines.iter().any(|known| known.starts_with(&same)) {
        draft.lines.push(line);
    }
    ValueText::value(own)
}

/// Adds a cookie to those that go out.
pub(super) fn cookie(draft: &mut ImportedRequest, name: &str, value: &ValueText) {
    let is_cookie = |name: &ValueText| name.plain() == Some("Cookie");
    let mut own = ValueText::from(format!("{name}="));
    own.append(value);
    match draft.headers.iter_mut().find(|(name, _)| is_cookie(name)) {
        Some((_, cookies)) => {
            cookies.push_str("; ");
            cookies.append(&own);
        }
        None => draft.headers.push(("Cookie".into(), own)),
    }
}

/// A name as values have it: `lotId` is `lot_id`.
pub(super) fn value_name(name: &str) -> String {
    let mut own = String::with_capacity(name.len() + 4);
    let mut before = '_';
    for c in name.chars() {
        if c.is_ascii_uppercase() && (before.is_ascii_lowercase() || before.is_ascii_digit()) {
            own.push('_');
        }
        own.push(if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' });
        before = c;
    }
    let own = own.trim_matches('_').to_owned();
    // `base` is the URL before paths.
    let is_free = is_value_name(&own) && !is_language_name(&own) && own != "base";
    if is_free { own } else { format!("my_{own}") }
}
