//! Functions on JSON: `path`, `pointer`, `json`, `parse_json`.

use super::xml::{XPathError, check_xpath};
use super::{Context, made, text};
use crate::json_path::{JsonPath, JsonPathError};
use crate::tight_json::Tight;
use serde_json::Value as Json;
use thiserror::Error;
use yieldtray_cel::Value;
use yieldtray_cel::functions::{Call, Fault, Outcome, PatternError};

pub(super) fn json(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    call.budget.take_all_of(&call.arguments[0])?;
    let written = call.arguments[0].to_json_text();
    made(call, written)
}

pub(super) fn parse_json(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let text = text(call, 0)?;
    call.budget.take_bytes(text.len() as u64)?;
    Value::parse_json(text.to_owned()).map_err(|error| Fault::message(format!("the string is not JSON: {error}")))
}

pub(super) fn path(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let path = text(call, 1)?;
    let path = JsonPath::parse(path)
        .map_err(|error| Fault::message(format!("invalid JSONPath `{path}` (RFC 9535): {error}")))?;
    call.budget.take_all_of(&call.arguments[0])?;
    let value = &call.arguments[0];
    if let Some(found) = path.select_in(value) {
        let found = found.map_err(Fault::message)?;
        call.budget.take_bytes(32 * found.len() as u64)?;
        return Ok(Value::list(found));
    }
    // A value that is read in place is parsed again, which takes less than making a document of it.
    let in_place = value.as_list().and_then(|list| list.json()).or_else(|| value.as_map().and_then(|map| map.json()));
    let document: Json = match in_place.map(serde_json::from_slice) {
        Some(Ok(Tight(document))) => document,
        _ => value.to_json(),
    };
    let found = path.select(&document);
    call.budget.take_bytes(32 * found.len() as u64)?;
    Ok(Value::List(found.into_iter().map(Value::from_json).collect()))
}

/// Why a function can never work with a literal text.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ConstantError {
    /// It is not a JSONPath (RFC 9535).
    #[error("it is not a JSONPath (RFC 9535): {0}")]
    JsonPath(#[from] JsonPathError),
    /// It is not an XPath 1.0 expression.
    #[error(transparent)]
    XPath(#[from] XPathError),
    /// It is not a JSON Pointer (RFC 6901).
    #[error("invalid JSON Pointer `{0}` (RFC 6901): it must start with `/`")]
    JsonPointer(String),
    /// It is not a regular expression.
    #[error(transparent)]
    Pattern(#[from] PatternError),
}

/// Checks that a function can work with a literal text as its last argument.
///
/// # Errors
/// If it never can.
pub fn check_constant(function: &str, literal: &str) -> Result<(), ConstantError> {
    match function {
        "path" => Ok(JsonPath::parse(literal).map(drop)?),
        "xpath" => Ok(check_xpath(literal)?),
        "pointer" if !literal.is_empty() && !literal.starts_with('/') => {
            Err(ConstantError::JsonPointer(literal.to_owned()))
        }
        "matches" | "find" | "regex.extract" | "regex.extractAll" => Ok(PatternError::check(literal).map(drop)?),
        _ => Ok(()),
    }
}

/// The value that a JSON Pointer points at: of lists members by their index, of maps by their name.
pub(super) fn pointer(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let pointer = text(call, 1)?;
    if !pointer.is_empty() && !pointer.starts_with('/') {
        return Err(Fault::message(format!("invalid JSON Pointer `{pointer}` (RFC 6901): it must start with `/`")));
    }
    let mut found = call.arguments[0].clone();
    for token in pointer.split('/').skip(1) {
        let token = token.replace("~1", "/").replace("~0", "~");
        let is_index = token == "0" || !token.starts_with('0') && token.bytes().all(|byte| byte.is_ascii_digit());
        let member = match &found {
            Value::Map(map) => map.member(&token),
            Value::List(list) if is_index => token.parse().ok().and_then(|index| list.get(index)),
            _ => None,
        };
        found = member.ok_or_else(|| Fault::message(format!("there is no value at `{pointer}`")))?;
    }
    Ok(found)
}
