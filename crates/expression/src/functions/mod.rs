//! The functions an expression can call beside those of the libraries of the Common Expression Language: one table that
//! checking, evaluating and the reference all read.

mod encoding;
mod fake;
mod file;
mod query;
mod random;
pub(super) mod schema;
mod text;
mod time;
mod xml;

pub use fake::FAKE_KINDS;
pub use query::{ConstantError, check_constant};
pub use xml::XPathError;

use crate::files::FileReader;
use crate::random::RandomSource;
use crate::value::ValueKind;
use rustc_hash::FxHashMap;
use std::borrow::Cow;
use std::sync::{LazyLock, OnceLock};
use yieldtray_cel::functions::{Call, Fault, MACROS, Outcome, library};
use yieldtray_cel::{HostFunction, Signature, Value};

/// A function of ours.
pub struct Function {
    /// Its name.
    pub name: &'static str,
    /// Its parameters as the reference shows them.
    pub parameters: &'static str,
    /// Its result, in a line.
    pub help: &'static str,
    /// An example of a call.
    pub example: &'static str,
    /// The ways to call it.
    signatures: &'static [&'static str],
    parsed: OnceLock<Box<[Signature]>>,
    uses: Uses,
    operation: Operation,
}

/// The code of a function.
type Operation = fn(&Context<'_>, &mut Call<'_>) -> Outcome;

/// The things that functions use beside their arguments.
pub(crate) struct Context<'c> {
    pub(crate) random: &'c RandomSource,
    pub(crate) files: Option<&'c FileReader>,
}

/// The things that an expression uses beside values.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Uses {
    /// Random values or the time.
    pub(crate) random: bool,
    /// Files.
    pub(crate) files: bool,
}

impl Uses {
    const NOTHING: Uses = Uses { random: false, files: false };
    const RANDOM: Uses = Uses { random: true, files: false };
    const FILES: Uses = Uses { random: false, files: true };

    pub(crate) fn and(self, other: Uses) -> Uses {
        Uses { random: self.random || other.random, files: self.files || other.files }
    }
}

macro_rules! functions {
    ($($name:literal ($parameters:literal) [$($signature:literal),+] $uses:ident $help:literal, $example:literal => $operation:path;)+) => {
        /// Every function of ours, in the order of the reference.
        pub static FUNCTIONS: [Function; [$($name),+].len()] = [$(Function {
            name: $name,
            parameters: $parameters,
            help: $help,
            example: $example,
            signatures: &[$($signature),+],
            parsed: OnceLock::new(),
            uses: Uses::$uses,
            operation: $operation,
        },)+];
    };
}

functions! {
    "uuid" ("") ["uuid() -> string"] RANDOM "a random UUID (RFC 9562, version 4)", "uuid()" => random::uuid;
    "now" ("") ["now() -> timestamp"] RANDOM "the current time, a timestamp", "now() + duration('24h')" => random::now;
    "random" ("low, high") ["random(int, int) -> int"] RANDOM "a random integer from low to high, inclusive", "random(1, 40)" => random::random;
    "pick" ("list") ["pick(list(A)) -> A"] RANDOM "a random element of a list", "pick(['gala', 'fuji'])" => random::pick;
    "fake" ("kind") ["fake(string) -> string"] RANDOM "generated test data: a person, place, word …; kinds are listed in `yieldtray help functions`", "fake('email')" => fake::fake;
    "file" ("path") ["file(string) -> dyn"] FILES "the content of a workspace file, relative to this one: a string if UTF-8, else bytes", "sha256(file('manifest.xml'))" => file::file;
    "base64" ("x") ["base64(dyn) -> string", "dyn.base64() -> string"] NOTHING "encodes a string or bytes in base64 (RFC 4648 4)", "base64(clerk + ':' + pin)" => encoding::base64;
    "base64url" ("x") ["base64url(dyn) -> string", "dyn.base64url() -> string"] NOTHING "encodes a string or bytes in URL-safe base64 (RFC 4648 5), unpadded", "base64url(digest('sha256', text))" => encoding::base64url;
    "unbase64" ("text") ["unbase64(string) -> dyn", "string.unbase64() -> dyn"] NOTHING "decodes base64 (RFC 4648 4 and 5) to a string if UTF-8, else bytes", "unbase64(split(token, '.')[1])" => encoding::unbase64;
    "hex" ("x") ["hex(dyn) -> string", "dyn.hex() -> string"] NOTHING "encodes a string or bytes in lower-case hex (RFC 4648 8)", "hex(lot_id)" => encoding::hex;
    "unhex" ("text") ["unhex(string) -> bytes", "string.unhex() -> bytes"] NOTHING "decodes hex (RFC 4648 8) to bytes", "unhex(scale_key)" => encoding::unhex;
    "sha256" ("x") ["sha256(dyn) -> string", "dyn.sha256() -> string"] NOTHING "the SHA-256 digest of a string or bytes, in hex", "sha256(text)" => encoding::sha256;
    "hmac_sha256" ("key, x") ["hmac_sha256(dyn, dyn) -> string", "dyn.hmac_sha256(dyn) -> string"] NOTHING "the HMAC-SHA-256 (RFC 2104) of a string or bytes, in hex", "hmac_sha256(scale_key, ref)" => encoding::hmac_sha256;
    "digest" ("algorithm, x") ["digest(string, dyn) -> bytes"] NOTHING "the digest of a string or bytes by `sha1`, `sha256`, `sha384` or `sha512`, as bytes", "base64(digest('sha512', text))" => encoding::digest;
    "hmac" ("algorithm, key, x") ["hmac(string, dyn, dyn) -> bytes"] NOTHING "the HMAC (RFC 2104) of a string or bytes by such an algorithm, as bytes", "base64(hmac('sha1', scale_key, ref))" => encoding::hmac;
    "urlencode" ("x") ["urlencode(dyn) -> string", "dyn.urlencode() -> string"] NOTHING "percent-encodes a string for a path or query (RFC 3986 2)", "urlencode(grower)" => encoding::urlencode;
    "format_time" ("time, format") ["format_time(timestamp, string) -> string", "timestamp.format_time(string) -> string",
                   "format_time(timestamp, string, string) -> string", "timestamp.format_time(string, string) -> string"]
        NOTHING "formats a time: `%Y-%m-%d`, `%H:%M:%S` and so on (POSIX strftime), in UTC or a time zone", "format_time(now(), '%Y%m%d', 'Europe/Berlin')" => time::format_time;
    "json" ("x") ["json(dyn) -> string", "dyn.json() -> string"] NOTHING "encodes a value as JSON", "json(body.lots)" => query::json;
    "parse_json" ("text") ["parse_json(string) -> dyn", "string.parse_json() -> dyn"] NOTHING "decodes a JSON string", "parse_json(body.payload).id" => query::parse_json;
    "path" ("x, jsonpath") ["path(dyn, string) -> list(dyn)", "dyn.path(string) -> list(dyn)"] NOTHING "the values that a JSONPath (RFC 9535) selects, as a list", "path(body, '$..id')" => query::path;
    "pointer" ("x, pointer") ["pointer(dyn, string) -> dyn", "dyn.pointer(string) -> dyn"] NOTHING "the value at a JSON Pointer (RFC 6901)", "pointer(body, '/lots/0/id')" => query::pointer;
    "xpath" ("text, xpath") ["xpath(string, string) -> dyn", "string.xpath(string) -> dyn"] NOTHING "the result of an XPath 1.0 expression on XML; for nodes, a list of their string values", "xpath(text, '//lot/@id')" => xml::xpath;
    "conforms" ("x, schema") ["conforms(dyn, string) -> bool"] FILES "whether a value is valid against the JSON Schema in a file, relative to this one", "conforms(body, 'lot.schema.json')" => schema::conforms;
    "find" ("text, regex") ["find(string, string) -> dyn", "string.find(string) -> dyn"] NOTHING "the first group of the first match, or the match; null without one", "find(text, 'L-([0-9]+)')" => text::find;
    "lower" ("text") ["lower(string) -> string", "string.lower() -> string"] NOTHING "converts to lower case", "lower(headers['content-type'])" => text::lower;
    "upper" ("text") ["upper(string) -> string", "string.upper() -> string"] NOTHING "converts to upper case", "upper(grower)" => text::upper;
    "trim" ("text") ["trim(string) -> string"] NOTHING "removes leading and trailing white space", "trim(text)" => text::trim;
    "split" ("text, by") ["split(string, string) -> list(string)"] NOTHING "splits a string at a separator", "split(body.tags, ',')" => text::split;
    "join" ("list, by") ["join(list(dyn), string) -> string", "list(dyn).join(string) -> string"] NOTHING "joins the elements of a list", "join(body.varieties, ', ')" => text::join;
    "replace" ("text, old, new") ["replace(string, string, string) -> string"] NOTHING "replaces every `old` with `new`", "replace(lot_id, 'L-', '')" => text::replace;
    "raw" ("x") ["raw(A) -> A"] NOTHING "as the outermost call in `{{ }}`: disables encoding", "raw(fragment)" => raw;
}

impl Function {
    fn parsed_signatures(&self) -> &[Signature] {
        self.parsed.get_or_init(|| self.signatures.iter().map(|text| Signature::parse(self.name, text)).collect())
    }
}

fn position(name: &str) -> Option<usize> {
    static BY_NAME: LazyLock<FxHashMap<&'static str, usize>> =
        LazyLock::new(|| FUNCTIONS.iter().enumerate().map(|(id, function)| (function.name, id)).collect());
    BY_NAME.get(name).copied()
}

/// The function of that name, if it is one of ours.
pub(crate) fn host_function(name: &str) -> Option<HostFunction<'static>> {
    let id = position(name)?;
    Some(HostFunction { id, signatures: FUNCTIONS[id].parsed_signatures() })
}

/// The things that a function of ours uses beside its arguments.
pub(crate) fn uses(name: &str) -> Uses {
    position(name).map_or(Uses::NOTHING, |id| FUNCTIONS[id].uses)
}

pub(crate) fn call(id: usize, context: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    (FUNCTIONS[id].operation)(context, call)
}

/// A function or macro as the reference and the editor show it.
#[derive(Clone, Debug)]
pub struct FunctionHelp {
    /// Its name, with its name space.
    pub name: &'static str,
    /// How it is called: `random(low, high)`, `string.split(string)`.
    pub call: String,
    /// Its result, in a line.
    pub help: &'static str,
    /// An example of a call.
    pub example: &'static str,
    /// The types of values that it can be called on, without their parts: `list`, `string`.
    pub receivers: Vec<String>,
    /// True if it is only a method.
    pub is_method: bool,
    /// True if it can be called without arguments.
    pub is_bare: bool,
    /// Where it comes from.
    pub origin: FunctionOrigin,
}

impl FunctionHelp {
    /// The parameters as the call shows them, the value before the dot first.
    pub fn parameters(&self) -> Vec<String> {
        let Some(open) = self.call.find('(') else { return Vec::new() };
        let receiver = self.call[..open].strip_suffix(self.name).and_then(|before| before.strip_suffix('.'));
        let inner = self.call[open + 1..].strip_suffix(')').unwrap_or_default();
        let named = inner.split(", ").filter(|name| !name.is_empty());
        receiver.into_iter().chain(named).map(str::to_owned).collect()
    }
}

/// Where a function comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FunctionOrigin {
    /// It is ours.
    Own,
    /// The Common Expression Language: the standard library, or an extension library by its name.
    Library(&'static str),
    /// The language itself: what is in it is not evaluated before it.
    Macro,
}

/// All functions and macros but those of a workspace: ours first, then those of the Common Expression Language.
pub fn functions() -> impl Iterator<Item = FunctionHelp> {
    let own = FUNCTIONS.iter().map(|function| FunctionHelp {
        name: function.name,
        call: format!("{}({})", function.name, function.parameters),
        help: function.help,
        example: function.example,
        receivers: receivers(function.parsed_signatures()),
        is_method: false,
        is_bare: function.parameters.is_empty(),
        origin: FunctionOrigin::Own,
    });
    let libraries = library().map(|function| {
        let signatures = function.parsed_signatures();
        FunctionHelp {
            name: function.name,
            call: call_of(function.name, signatures),
            help: function.help,
            example: function.example,
            receivers: receivers(signatures),
            is_method: signatures.iter().all(|signature| signature.receiver.is_some()),
            is_bare: signatures[0].parameters.is_empty(),
            origin: FunctionOrigin::Library(function.library),
        }
    });
    let macros = MACROS.iter().map(|(name, call, help, example)| FunctionHelp {
        name,
        call: (*call).to_owned(),
        help,
        example,
        receivers: match *name {
            "has" | "cel.bind" => Vec::new(),
            "optMap" | "optFlatMap" => vec!["optional".to_owned()],
            _ => vec!["list".to_owned(), "map".to_owned()],
        },
        is_method: !matches!(*name, "has" | "cel.bind"),
        is_bare: false,
        origin: FunctionOrigin::Macro,
    });
    own.chain(libraries).chain(macros)
}

/// How a function of a library is called, with the types that it takes; `x` where they are several.
fn call_of(name: &str, signatures: &[Signature]) -> String {
    let first = &signatures[0];
    let is_alike = |other: &&Signature| {
        other.parameters.len() == first.parameters.len() && other.receiver.is_some() == first.receiver.is_some()
    };
    let alike: Vec<&Signature> = signatures.iter().filter(is_alike).collect();
    let one_of = |part: &dyn Fn(&Signature) -> String| {
        let text = part(first);
        if alike.iter().all(|other| part(other) == text) { text } else { "x".to_owned() }
    };
    let receiver = first.receiver.as_ref().map(|_| {
        one_of(&|signature: &Signature| signature.receiver.as_ref().map(ToString::to_string).unwrap_or_default()) + "."
    });
    let parameters: Vec<String> = (0..first.parameters.len())
        .map(|at| one_of(&|signature: &Signature| signature.parameters[at].to_string()))
        .collect();
    let more = if first.variadic { ", …" } else { "" };
    format!("{}{name}({}{more})", receiver.unwrap_or_default(), parameters.join(", "))
}

/// The types of values that a function can be called on, without their parts.
fn receivers(signatures: &[Signature]) -> Vec<String> {
    let types = signatures.iter().filter_map(|signature| signature.receiver.as_ref().map(ToString::to_string));
    let mut names: Vec<String> = types.map(|name| name.split('(').next().unwrap_or_default().to_owned()).collect();
    names.dedup();
    names
}

/// The function or macro of a name, ours before those of the libraries.
pub fn function(name: &str) -> Option<FunctionHelp> {
    functions().find(|function| function.name == name)
}

/// `raw(x)` is `x`: what it means is decided by the mark it heads.
fn raw(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    Ok(call.arguments[0].clone())
}

/// A message about an argument that is not what a function wants.
fn wants(what: &str, value: &Value) -> Fault {
    Fault::message(format!("expects {what}, but got {}", ValueKind::of(value).describe()))
}

/// Argument `index` as text.
fn text<'a>(call: &Call<'a>, index: usize) -> Result<&'a str, Fault> {
    let argument = call.arguments.get(index).ok_or(Fault::NoOverload)?;
    let place = ["first", "second", "third"][index.min(2)];
    argument.as_str().ok_or_else(|| wants(&format!("a string {place}"), argument))
}

/// Argument `index` as bytes: bytes as they are, text and numbers as UTF-8.
fn bytes<'a>(call: &Call<'a>, index: usize) -> Result<Cow<'a, [u8]>, Fault> {
    let argument = call.arguments.get(index).ok_or(Fault::NoOverload)?;
    if let Value::Bytes(bytes) = argument {
        return Ok(Cow::Borrowed(bytes));
    }
    match argument.to_text() {
        Some(Cow::Borrowed(text)) => Ok(Cow::Borrowed(text.as_bytes())),
        Some(Cow::Owned(text)) => Ok(Cow::Owned(text.into_bytes())),
        None => Err(wants("a string or bytes", argument)),
    }
}

/// A new text, whose bytes are taken from the budget.
fn made(call: &mut Call<'_>, text: String) -> Outcome {
    call.budget.take_bytes(text.len() as u64)?;
    Ok(Value::string(text))
}
