//! The functions an expression can call beside CEL's own: one table that compiling, running and the
//! reference all read.

mod encoding;
mod fake;
mod file;
mod query;
mod random;
pub(super) mod schema;
mod text;
mod xml;

pub use fake::FAKE_KINDS;
pub use query::{ConstantError, check_constant};
pub use xml::XPathError;

use super::digits::BigNumber;
use super::files::FILES;
use super::value::{ValueKind, kind, scalar_text};
use crate::random::RANDOM;
use cel::common::functions::Function as Operation;
use cel::common::types::{CelBytes, CelString, DYN_TYPE, Type};
use cel::common::value::{CowVal, Val};
use cel::{Env, ExecutionError};
use std::borrow::Cow;

/// A function of ours.
pub struct Function {
    /// Its name.
    pub name: &'static str,
    /// Its parameters as the reference shows them.
    pub parameters: &'static str,
    /// How many arguments it takes.
    pub arity: usize,
    /// Its result, in a line.
    pub help: &'static str,
    /// An example of a call.
    pub example: &'static str,
    /// Its hidden first argument: the random source, or a reader of files.
    pub(super) hidden: Option<&'static str>,
    operation: Operation,
}

macro_rules! functions {
    ($($name:literal ($parameters:literal, $arity:literal, $hidden:expr) $help:literal, $example:literal => $operation:path;)+) => {
        /// Every function of ours, in the order of the reference.
        pub static FUNCTIONS: &[Function] = &[$(Function {
            name: $name,
            parameters: $parameters,
            arity: $arity,
            help: $help,
            example: $example,
            hidden: $hidden,
            operation: $operation,
        },)+];
    };
}

functions! {
    "uuid" ("", 0, Some(RANDOM)) "a random UUID (RFC 9562, version 4)", "uuid()" => random::uuid;
    "now" ("", 0, Some(RANDOM)) "the time now, a timestamp", "now() + duration('24h')" => random::now;
    "random" ("low, high", 2, Some(RANDOM)) "a random integer, both ends included", "random(1, 40)" => random::random;
    "pick" ("list", 1, Some(RANDOM)) "a random member of a list", "pick(['gala', 'fuji'])" => random::pick;
    "fake" ("kind", 1, Some(RANDOM)) "a made-up person, place, word …; its kinds are in docs/language.md", "fake('email')" => fake::fake;
    "file" ("path", 1, Some(FILES)) "the text of a file of the workspace, relative to this one; else its bytes", "sha256(file('manifest.xml'))" => file::file;
    "base64" ("x", 1, None) "text or bytes in base64 (RFC 4648 4)", "base64(clerk + ':' + pin)" => encoding::base64;
    "unbase64" ("text", 1, None) "what base64 encodes (RFC 4648 4 and 5): text where it is UTF-8, else bytes", "unbase64(split(token, '.')[1])" => encoding::unbase64;
    "hex" ("x", 1, None) "text or bytes in hex (RFC 4648 8), lower case", "hex(lot_id)" => encoding::hex;
    "sha256" ("x", 1, None) "the SHA-256 digest of text or bytes, in hex", "sha256(text)" => encoding::sha256;
    "hmac_sha256" ("key, x", 2, None) "the HMAC (RFC 2104) of text or bytes with SHA-256, in hex", "hmac_sha256(scale_key, ref)" => encoding::hmac_sha256;
    "urlencode" ("x", 1, None) "text percent-encoded for a path or query (RFC 3986 2)", "urlencode(grower)" => encoding::urlencode;
    "json" ("x", 1, None) "a value as JSON text", "json(body.lots)" => query::json;
    "parse_json" ("text", 1, None) "the value of a JSON text", "parse_json(body.payload).id" => query::parse_json;
    "path" ("x, jsonpath", 2, None) "the list of what a JSONPath (RFC 9535) selects", "path(body, '$..id')" => query::path;
    "pointer" ("x, pointer", 2, None) "what a JSON Pointer (RFC 6901) points at", "pointer(body, '/lots/0/id')" => query::pointer;
    "xpath" ("text, xpath", 2, None) "what an XPath 1.0 expression gives of an XML text; of nodes the list of their texts", "xpath(text, '//lot/@id')" => xml::xpath;
    "conforms" ("x, schema", 2, Some(FILES)) "whether a value fits the JSON Schema in a file, relative to this one", "conforms(body, 'lot.schema.json')" => schema::conforms;
    "find" ("text, regex", 2, None) "the first group of the first match, or the match; null without one", "find(text, 'L-([0-9]+)')" => text::find;
    "lower" ("text", 1, None) "text in lower case", "lower(headers['content-type'])" => text::lower;
    "upper" ("text", 1, None) "text in upper case", "upper(grower)" => text::upper;
    "trim" ("text", 1, None) "text without blanks at both ends", "trim(text)" => text::trim;
    "split" ("text, by", 2, None) "the pieces of a text between a separator", "split(body.tags, ',')" => text::split;
    "join" ("list, by", 2, None) "the members of a list as one text", "join(body.varieties, ', ')" => text::join;
    "replace" ("text, old, new", 3, None) "text with every `old` made `new`", "replace(lot_id, 'L-', '')" => text::replace;
    "raw" ("x", 1, None) "at the head of a `{{ }}` mark: written without encoding", "raw(fragment)" => raw;
}

/// The function of that name, if it is one of ours.
pub(super) fn by_name(name: &str) -> Option<&'static Function> {
    FUNCTIONS.iter().find(|function| function.name == name)
}

/// Declares every function of ours: called `f(x, y)` or, without a hidden argument, `x.f(y)`.
pub(super) fn declare(env: &mut Env) {
    for function in FUNCTIONS {
        let arity = function.arity + usize::from(function.hidden.is_some());
        env.add_overload(function.name, function.name, anything(arity), function.operation)
            .expect("the table names each function once, and none of CEL's own");
        if function.hidden.is_none() {
            let id = format!("{}_of", function.name);
            env.add_member_overload(function.name, &id, DYN_TYPE, anything(arity - 1), function.operation)
                .expect("the table names each function once, and none of CEL's own");
        }
    }
    env.add_overload(super::tree::STEP, super::tree::STEP, anything(2), random::step)
        .expect("a name nobody can write is free");
    env.add_overload("string", "string_of_long_number", vec![BigNumber::cel_type().to_owned()], long_number_text)
        .expect("CEL has no such overload");
}

/// Parameters that take a value of any kind: the functions say themselves what they cannot take.
fn anything(parameters: usize) -> Vec<Type> {
    std::iter::repeat_with(|| DYN_TYPE).take(parameters).collect()
}

type Evaluated<'b, 'v> = Result<CowVal<'b, 'v>, ExecutionError>;

/// `raw(x)` is `x`: what it means is decided by the mark it heads.
fn raw<'b, 'v>(mut arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    Ok(arguments.swap_remove(0))
}

fn long_number_text<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    Ok(CowVal::owned(CelString::from(scalar_text(&*arguments[0]).unwrap_or_default())))
}

fn error(function: &str, message: impl ToString) -> ExecutionError {
    ExecutionError::function_error(function, message.to_string())
}

/// Argument `index` as text.
fn text<'a>(function: &str, arguments: &'a [CowVal<'_, '_>], index: usize) -> Result<&'a str, ExecutionError> {
    let argument = &*arguments[index];
    argument.downcast_ref::<CelString<'_>>().map(|text| text.inner()).ok_or_else(|| {
        let got = kind(argument).describe();
        error(function, format!("wants text {}, but got {got}", ["first", "second", "third"][index.min(2)]))
    })
}

/// Argument `index` as bytes: bytes as they are, text and numbers as UTF-8.
fn bytes<'a>(function: &str, arguments: &'a [CowVal<'_, '_>], index: usize) -> Result<Cow<'a, [u8]>, ExecutionError> {
    let argument = &*arguments[index];
    if let Some(bytes) = argument.downcast_ref::<CelBytes<'_>>() {
        return Ok(Cow::Borrowed(bytes.inner()));
    }
    match kind(argument) {
        ValueKind::Text => text(function, arguments, index).map(|text| Cow::Borrowed(text.as_bytes())),
        other => match scalar_text(argument) {
            Some(text) if !matches!(other, ValueKind::Other) => Ok(Cow::Owned(text.into_bytes())),
            _ => Err(error(function, format!("wants text or bytes, but got {}", other.describe()))),
        },
    }
}
