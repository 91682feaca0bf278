//! Functions on JSON: `path`, `pointer`, `json`, `parse_json`.

use super::xml::{XPathError, check_xpath};
use super::{Evaluated, error, text};
use crate::Value;
use crate::document::Document;
use crate::json_path::{JsonPath, JsonPathError};
use cel::common::types::CelString;
use cel::common::value::{CowVal, Val};
use serde_json::Value as Json;
use std::borrow::Cow;
use thiserror::Error;

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
    #[error("`{0}` is no JSON Pointer (RFC 6901): it starts with `/`")]
    JsonPointer(String),
    /// It is not a regular expression.
    #[error("`{pattern}` is no regular expression: {error}")]
    Pattern {
        /// The text.
        pattern: String,
        /// The message of the parser.
        error: String,
    },
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
        "matches" | "find" | "find_all" => match regex::Regex::new(literal) {
            Ok(_) => Ok(()),
            // The library draws where it is, in several lines: its last one says what.
            Err(error) => {
                let text = error.to_string();
                let last = text.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
                Err(ConstantError::Pattern { pattern: literal.to_owned(), error: last })
            }
        },
        _ => Ok(()),
    }
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
