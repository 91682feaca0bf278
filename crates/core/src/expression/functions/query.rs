use super::{Evaluated, error, text};
use crate::expression::Value;
use cel::common::types::CelString;
use cel::common::value::CowVal;
use serde_json::Value as Json;
use serde_json_path::JsonPath;

pub(super) fn json<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    Ok(CowVal::owned(CelString::from(Value::copy_of(&*arguments[0]).to_json().to_string())))
}

pub(super) fn parse_json<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let text = text("parse_json", &arguments, 0)?;
    let value =
        Value::parse_json(text.as_bytes()).map_err(|e| error("parse_json", format!("the text is not JSON: {e}")))?;
    given(value)
}

pub(super) fn path<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let document = Value::copy_of(&*arguments[0]).to_json();
    let path = text("path", &arguments, 1)?;
    let path = JsonPath::parse(path).map_err(|e| error("path", format!("`{path}` is no JSONPath (RFC 9535): {e}")))?;
    let found: Vec<Json> = path.query(&document).into_iter().cloned().collect();
    given(Value::from_json(Json::Array(found)))
}

/// Whether a text is a JSONPath (RFC 9535); the error says what is wrong.
pub fn check_jsonpath(path: &str) -> Result<(), String> {
    JsonPath::parse(path).map(drop).map_err(|error| format!("it is not a JSONPath (RFC 9535): {error}"))
}

pub(super) fn pointer<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let document = Value::copy_of(&*arguments[0]).to_json();
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
