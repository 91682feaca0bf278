//! The differences between two responses: status, header fields, and the body by its kind.

use super::shape::{TextShape, kind};
use crate::log::list_diff;
use crate::log::list_diff::ListEdit;
use serde_json::{Number, Value};
use std::borrow::Cow;
use std::fmt::Write;
use thiserror::Error;
use yieldtray_expression::{JsonPath, JsonPathError};
use yieldtray_http::{BodyKind, Exchange, MessageData, digest};
use yieldtray_source::diff::{DiffLine, diff_lines};

/// Header fields that differ between responses although nothing changed, or that concern only the connection.
const VOLATILE_HEADERS: &[&str] = &[
    "age",
    "alt-svc",
    "connection",
    "content-encoding",
    "content-length",
    "date",
    "etag",
    "expires",
    "keep-alive",
    "last-modified",
    "sec-websocket-accept",
    "server-timing",
    "set-cookie",
    "traceparent",
    "tracestate",
    "transfer-encoding",
    "via",
    "x-request-id",
    "x-correlation-id",
    "x-runtime",
    "x-response-time",
];

/// Differences that are listed; the others are counted.
const MAX_DIFFERENCES: usize = 500;

/// How to compare.
#[derive(Debug, Default)]
pub struct CompareOptions {
    /// The parts that are ignored.
    pub ignore: Vec<Ignore>,
    /// Whether only structure and types count.
    pub shape: bool,
}

/// A part of a response that is ignored.
#[derive(Debug)]
pub enum Ignore {
    /// The status.
    Status,
    /// All header fields, or the one of this name, in lower case.
    Headers(Option<String>),
    /// The values that a JSONPath (RFC 9535) selects in the body.
    Body(JsonPath),
    /// The whole body.
    WholeBody,
}

/// Why a text names no part of a response.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum IgnoreError {
    /// It begins with none of their names.
    #[error("expected `status`, `headers.NAME`, `body.MEMBER` or `$.JSONPATH`")]
    UnknownPart,
    /// It is not a JSONPath (RFC 9535).
    #[error(transparent)]
    JsonPath(#[from] JsonPathError),
}

impl Ignore {
    /// Reads `status`, `headers`, `headers.NAME`, `body`, `body.lots[*].id`, or a JSONPath into the body.
    ///
    /// # Errors
    /// If the text is none of them.
    pub fn parse(text: &str) -> Result<Self, IgnoreError> {
        let name = text.strip_prefix("headers.").or_else(|| text.strip_prefix("headers[\"")?.strip_suffix("\"]"));
        match (text, name) {
            ("status", _) => return Ok(Self::Status),
            ("headers", _) => return Ok(Self::Headers(None)),
            ("body" | "$", _) => return Ok(Self::WholeBody),
            (_, Some(name)) if !name.is_empty() => return Ok(Self::Headers(Some(name.to_ascii_lowercase()))),
            _ => {}
        }
        let path = match text.strip_prefix("body") {
            Some(rest) if rest.starts_with(['.', '[']) => format!("${rest}"),
            _ if text.starts_with('$') => text.to_owned(),
            _ => return Err(IgnoreError::UnknownPart),
        };
        Ok(Self::Body(JsonPath::parse(&path)?))
    }
}

/// The differences.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Comparison {
    /// The differences, in order.
    pub found: Vec<BodyDifference>,
    /// How many more there are.
    pub more: usize,
}

impl Comparison {
    /// Whether nothing differs.
    pub fn is_same(&self) -> bool {
        self.found.is_empty()
    }

    fn add(&mut self, place: impl Into<String>, change: PartChange) {
        match self.found.len() {
            MAX_DIFFERENCES => self.more += 1,
            _ => self.found.push(BodyDifference { place: place.into(), change }),
        }
    }
}

/// One difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BodyDifference {
    /// Where: `status`, `headers.content-type`, `body.lots[3].bins`; the member of a list by its key, if it has
    /// one, as in `body.lots[id=L-2041]`.
    pub place: String,
    /// The part.
    pub change: PartChange,
}

/// The change of a part.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PartChange {
    /// It was not there before: its value, as JSON.
    Added(String),
    /// It is not there any more: what it was.
    Removed(String),
    /// Another value of the same type.
    Changed(String, String),
    /// A value of another type.
    OtherType(String, String),
    /// A member of a list moved to another index, counted from 0.
    Moved(usize, usize),
    /// The lines of a text that differ.
    Lines(Vec<DiffLine>),
}

/// Compares two responses.
pub fn compare(left: &Exchange, right: &Exchange, how: &CompareOptions) -> Comparison {
    let mut found = Comparison::default();
    let ignores = |what: fn(&Ignore) -> bool| how.ignore.iter().any(what);
    if left.status != right.status && !ignores(|part| matches!(part, Ignore::Status)) {
        found.add("status", PartChange::Changed(left.status.to_string(), right.status.to_string()));
    }
    if !ignores(|part| matches!(part, Ignore::Headers(None))) {
        headers(left, right, how, &mut found);
    }
    if !ignores(|part| matches!(part, Ignore::WholeBody)) {
        body(left, right, how, &mut found);
        lists(left, right, how, &mut found);
    }
    found
}

fn headers(left: &Exchange, right: &Exchange, how: &CompareOptions, found: &mut Comparison) {
    let ignored = |name: &str| how.ignore.iter().any(|part| matches!(part, Ignore::Headers(Some(own)) if own == name));
    let (ours, theirs) = (fields(left), fields(right));
    for (name, value) in &ours {
        if ignored(name) {
            continue;
        }
        match theirs.iter().find(|(other, _)| other == name) {
            None => found.add(field(name), PartChange::Removed(value.clone())),
            Some((_, other)) if other != value && !how.shape => {
                found.add(field(name), PartChange::Changed(value.clone(), other.clone()));
            }
            Some(_) => {}
        }
    }
    for (name, value) in theirs {
        if !ignored(&name) && !ours.iter().any(|(own, _)| *own == name) {
            found.add(field(&name), PartChange::Added(value));
        }
    }
}

/// A header field as an expression names it.
fn field(name: &str) -> String {
    member("headers", name)
}

/// The header fields that matter, those of one name joined (RFC 9110 5.3).
fn fields(exchange: &Exchange) -> Vec<(String, String)> {
    let mut joined: Vec<(String, String)> = Vec::new();
    for (name, value) in &exchange.headers {
        let (name, value) = (name.to_ascii_lowercase(), String::from_utf8_lossy(value));
        if VOLATILE_HEADERS.contains(&name.as_str()) {
            continue;
        }
        match joined.iter_mut().find(|(known, _)| *known == name) {
            Some((_, all)) => {
                let _ = write!(all, ", {value}");
            }
            None => joined.push((name, value.into_owned())),
        }
    }
    joined
}

fn body(left: &Exchange, right: &Exchange, how: &CompareOptions, found: &mut Comparison) {
    if left.body == right.body && left.size == right.size && left.digest == right.digest {
        return;
    }
    if !(left.is_body_complete() && right.is_body_complete()) {
        // Bodies that were not kept are compared by size and digest.
        let own = |exchange: &Exchange| match &exchange.digest {
            Some(digest) => format!("{} bytes, BLAKE3 {digest}", exchange.size),
            None if exchange.is_body_complete() => {
                format!("{} bytes, BLAKE3 {}", exchange.size, digest(&exchange.body))
            }
            None => format!("{} bytes", exchange.size),
        };
        let (ours, theirs) = (own(left), own(right));
        if ours != theirs {
            found.add("body", PartChange::Changed(ours, theirs));
        }
        return;
    }
    match (json(left, how), json(right, how)) {
        (Some(ours), Some(theirs)) if how.shape => {
            shapes("body", &TextShape::of(&ours), &TextShape::of(&theirs), found)
        }
        (Some(ours), Some(theirs)) => values(&mut "body".to_owned(), &ours, &theirs, found),
        _ => texts(left, right, how, found),
    }
}

/// Compares the messages of conversations, and the pages before the last.
fn lists(left: &Exchange, right: &Exchange, how: &CompareOptions, found: &mut Comparison) {
    let parsed = |text: &str| serde_json::from_str(text).unwrap_or_else(|_| Value::from(text));
    let messages = |exchange: &Exchange| -> Value {
        let shown = exchange.messages.iter().map(|message| match &message.data {
            MessageData::Text(text) => parsed(text),
            MessageData::Binary(bytes) => Value::from(format!("{} bytes, BLAKE3 {}", bytes.len(), digest(bytes))),
        });
        shown.collect()
    };
    let pages = |exchange: &Exchange| -> Value {
        exchange.pages.iter().map(|page| parsed(&String::from_utf8_lossy(page))).collect()
    };
    for (name, ours, theirs) in [("messages", messages(left), messages(right)), ("pages", pages(left), pages(right))] {
        match how.shape {
            true => shapes(name, &TextShape::of(&ours), &TextShape::of(&theirs), found),
            false => values(&mut name.to_owned(), &ours, &theirs, found),
        }
    }
}

/// A JSON body without what does not count.
fn json(exchange: &Exchange, how: &CompareOptions) -> Option<Value> {
    let text = exchange.text();
    if !text.trim_start().starts_with(['{', '[']) && !exchange.media_type().ends_with("json") {
        return None;
    }
    let mut value: Value = serde_json::from_str(&text).ok()?;
    for part in &how.ignore {
        let Ignore::Body(path) = part else { continue };
        // From the last on, so that a member of a list does not change the places of those before it.
        for place in path.pointers(&value).iter().rev() {
            remove_at(&mut value, place);
        }
    }
    Some(value)
}

fn remove_at(value: &mut Value, pointer: &str) {
    let Some((parent, name)) = pointer.rsplit_once('/') else { return };
    match value.pointer_mut(parent) {
        Some(Value::Object(members)) => drop(members.shift_remove(&name.replace("~1", "/").replace("~0", "~"))),
        Some(Value::Array(items)) => {
            if let Some(at) = name.parse::<usize>().ok().filter(|at| *at < items.len()) {
                items.remove(at);
            }
        }
        _ => {}
    }
}

fn values(place: &mut String, left: &Value, right: &Value, found: &mut Comparison) {
    match (left, right) {
        (Value::Object(ours), Value::Object(theirs)) => {
            for (name, value) in ours {
                match theirs.get(name) {
                    Some(other) => {
                        inside(place, |place| push_member(place, name), |place| values(place, value, other, found))
                    }
                    None => found.add(member(place, name), PartChange::Removed(value.to_string())),
                }
            }
            for (name, value) in theirs.iter().filter(|(name, _)| !ours.contains_key(*name)) {
                found.add(member(place, name), PartChange::Added(value.to_string()));
            }
        }
        (Value::Array(ours), Value::Array(theirs)) => items(place, ours, theirs, found),
        _ if same(left, right) => {}
        _ => found.add(place.clone(), changed(left, right)),
    }
}

fn changed(left: &Value, right: &Value) -> PartChange {
    let (ours, theirs) = (left.to_string(), right.to_string());
    match kind(left) == kind(right) {
        true => PartChange::Changed(ours, theirs),
        false => PartChange::OtherType(ours, theirs),
    }
}

/// True if two values that are neither lists nor objects are equal; numbers by value, not by notation.
fn same(left: &Value, right: &Value) -> bool {
    match (left, right) {
        (Value::Number(ours), Value::Number(theirs)) => {
            // Whole numbers may have more digits than a double holds.
            let whole = |number: &Number| !number.to_string().contains(['.', 'e', 'E']);
            let value = |number: &Number| number.as_f64();
            ours == theirs || !(whole(ours) && whole(theirs)) && value(ours).is_some() && value(ours) == value(theirs)
        }
        _ => left == right,
    }
}

fn items(place: &mut String, left: &[Value], right: &[Value], found: &mut Comparison) {
    let key = list_diff::key_of(left, right).map(str::to_owned);
    let name = |item: &Value, at: usize| match key.as_deref() {
        Some(key) => format!("[{key}={}]", list_diff::label(&item[key]).unwrap_or_default()),
        None => format!("[{at}]"),
    };
    for step in list_diff::pair(left, right, key.as_deref()) {
        match step {
            ListEdit::Both(old, new) => {
                // Most members are what they were, and need no name.
                if left[old] != right[new] {
                    let name = name(&left[old], new);
                    inside(place, |place| place.push_str(&name), |place| values(place, &left[old], &right[new], found));
                }
            }
            ListEdit::Moved(old, new) => {
                let name = name(&left[old], new);
                found.add(format!("{place}{name}"), PartChange::Moved(old, new));
                inside(place, |place| place.push_str(&name), |place| values(place, &left[old], &right[new], found));
            }
            ListEdit::Gone(old) => {
                found.add(format!("{place}{}", name(&left[old], old)), PartChange::Removed(left[old].to_string()))
            }
            ListEdit::New(new) => {
                found.add(format!("{place}{}", name(&right[new], new)), PartChange::Added(right[new].to_string()))
            }
        }
    }
}

/// Does something at a place below `place`.
fn inside(place: &mut String, go: impl FnOnce(&mut String), work: impl FnOnce(&mut String)) {
    let length = place.len();
    go(place);
    work(place);
    place.truncate(length);
}

fn shapes(place: &str, left: &TextShape, right: &TextShape, found: &mut Comparison) {
    if left.types != right.types {
        found.add(place, PartChange::OtherType(left.describe(), right.describe()));
    }
    for (name, shape) in &left.members {
        match right.members.get(name) {
            Some(other) => shapes(&member(place, name), shape, other, found),
            // Objects that became something else were reported before.
            None if right.types.contains(&"object") => {
                found.add(member(place, name), PartChange::Removed(shape.describe()))
            }
            None => {}
        }
    }
    if left.types.contains(&"object") {
        for (name, shape) in right.members.iter().filter(|(name, _)| !left.members.contains_key(*name)) {
            found.add(member(place, name), PartChange::Added(shape.describe()));
        }
    }
    // The members of an empty list are unknown.
    if let (Some(ours), Some(theirs)) = (&left.items, &right.items) {
        shapes(&format!("{place}[*]"), ours, theirs, found);
    }
}

fn member(place: &str, name: &str) -> String {
    let mut place = place.to_owned();
    push_member(&mut place, name);
    place
}

/// Adds a member's name as an expression writes it.
fn push_member(place: &mut String, name: &str) {
    let plain = name
        .chars()
        .enumerate()
        .all(|(at, c)| c == '_' || c.is_ascii_alphabetic() || at > 0 && (c.is_ascii_digit() || c == '-'));
    let _ = match plain && !name.is_empty() {
        true => write!(place, ".{name}"),
        false => write!(place, "[{}]", Value::from(name)),
    };
}

fn texts(left: &Exchange, right: &Exchange, how: &CompareOptions, found: &mut Comparison) {
    let described = |exchange: &Exchange| match exchange.body_kind() {
        BodyKind::Text => None,
        BodyKind::Binary(kind, _) => Some(format!("{kind}, {} bytes", exchange.size)),
    };
    let (ours, theirs): (Cow<'_, str>, Cow<'_, str>) = match (described(left), described(right)) {
        (None, None) => (left.text(), right.text()),
        (ours, theirs) => {
            let words = |own: Option<String>, exchange: &Exchange| {
                own.unwrap_or_else(|| format!("text, {} bytes", exchange.size))
            };
            let (ours, theirs) = (words(ours, left), words(theirs, right));
            let at = left.body.iter().zip(&right.body).take_while(|(own, other)| own == other).count();
            if !how.shape || ours.split(',').next() != theirs.split(',').next() {
                found.add("body", PartChange::Changed(ours, format!("{theirs}, other bytes from {at} on")));
            }
            return;
        }
    };
    // Of a text nothing but its being there is its shape.
    if how.shape {
        if ours.is_empty() != theirs.is_empty() {
            let words = |text: &str| if text.is_empty() { "nothing" } else { "text" }.to_owned();
            found.add("body", PartChange::OtherType(words(&ours), words(&theirs)));
        }
        return;
    }
    if ours != theirs {
        found.add("body", PartChange::Lines(diff_lines(&ours, &theirs)));
    }
}
