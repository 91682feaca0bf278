//! Functions on JSON: `path`, `pointer`, `json`, `parse_json`.

use super::{Evaluated, error, text};
use crate::Value;
use crate::document::Document;
use crate::json_path::JsonPath;
use cel::common::types::CelString;
use cel::common::value::{CowVal, Val};
use serde_json::Value as Json;
use std::borrow::Cow;

pub(super) fn json<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    Ok(CowVal::owned(CelString::from(Value::copy_of(&*arguments[0]).to_json().to_string())))
}

pub(super) fn parse_json<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let text = text("parse_json", &arguments, 0)?;
    let value =
        Value::parse_json(text.as_bytes()).map_err(|e| error("parse_json", format!("the text is not JSON: {e}")))?;
    given(value)
}

/// A value as JSON: a document as it was read, anything else written anew.
fn json_of(value: &dyn Val) -> Cow<'_, Json> {
    match value.downcast_ref::<Document>() {
        Some(Document(json)) => Cow::Borrowed(json),
        None => Cow::Owned(Value::copy_of(value).to_json()),
    }
}

pub(super) fn path<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let document = json_of(&*arguments[0]);
    let path = text("path", &arguments, 1)?;
    let path = JsonPath::parse(path).map_err(|e| error("path", format!("`{path}` is no JSONPath (RFC 9535): {e}")))?;
    let found: Vec<Json> = path.select(&document).into_iter().cloned().collect();
    given(Value::from_json(Json::Array(found)))
}

/// Whether a function can ever work with a literal text as its last argument; the error says why not.
pub fn check_constant(function: &str, literal: &str) -> Result<(), String> {
    match function {
        "path" => check_jsonpath(literal),
        "xpath" => super::xml::check_xpath(literal),
        "pointer" if !literal.is_empty() && !literal.starts_with('/') => {
            Err(format!("`{literal}` is no JSON Pointer (RFC 6901): it starts with `/`"))
        }
        "matches" | "find" | "find_all" => match regex::Regex::new(literal) {
            Ok(_) => Ok(()),
            // The library draws where it is, in several lines: its last one says what.
            Err(error) => {
                let words = error.to_string();
                let last = words.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
                Err(format!("`{literal}` is no regular expression: {last}"))
            }
        },
        _ => Ok(()),
    }
}

/// Whether a text is a JSONPath (RFC 9535); the error says what is wrong.
pub fn check_jsonpath(path: &str) -> Result<(), String> {
    JsonPath::parse(path).map(drop).map_err(|error| format!("it is not a JSONPath (RFC 9535): {error}"))
}

pub(super) fn pointer<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let document = json_of(&*arguments[0]);
    let pointer = text("pointer", &arguments, 1)?;
    if !pointer.is_empty() && !pointer.starts_with('/') {
        return Err(error("pointer", format!("`{pointer}` is no JSON Pointer (RFC 6901): it starts with `/`")));
    }
    match document.pointer(pointer) {
        Some(found) => given(Value::from_json(found.clone())),
        None => Err(error("pointer", format!("nothing stands at `{pointer}`"))),
    }
}

fn given<'b, 'v>(value: Value) -> Evaluated<'b, 'v> {
    Ok(CowVal::Owned(value.0.clone_as_boxed()))
}
