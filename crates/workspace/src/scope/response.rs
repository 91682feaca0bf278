//! The names that a response gives to expressions.

use bytes::Bytes;
use yieldtray_expression::{Compiled, Value};
use yieldtray_http::{Body, ConversationMessage, Exchange, Hop, MAX_KEPT_EVENTS, MessageData, StreamEvent, is_json};
use yieldtray_syntax::{is_graphql_name, is_late_name};

/// The names a response gives to expressions, each made when first asked for: a body that no
/// expression names is never parsed.
pub struct ResponseScope<'x> {
    exchange: &'x Exchange,
    made: CachedNames,
}

/// The names of an exchange that were made so far, for when it is read again.
#[derive(Default)]
pub struct CachedNames {
    names: Vec<(&'static str, Value)>,
}

impl<'x> ResponseScope<'x> {
    /// The names of `exchange`.
    pub fn new(exchange: &'x Exchange) -> Self {
        Self { exchange, made: CachedNames::default() }
    }

    /// The names of `exchange`, of which some are made.
    pub fn with_cache(exchange: &'x Exchange, made: CachedNames) -> Self {
        Self { exchange, made }
    }

    /// The values made so far.
    pub fn into_cached(self) -> CachedNames {
        self.made
    }

    /// True if the body was read, and its value is a text.
    pub fn has_text_body(&self) -> bool {
        self.made.names.iter().any(|(name, value)| *name == "body" && value.as_text().is_some())
    }

    /// The exchange itself.
    pub fn exchange(&self) -> &'x Exchange {
        self.exchange
    }

    /// The value of a name of the language; `None` for one that no response gives.
    pub fn get(&mut self, name: &str) -> Option<Value> {
        if let Some((_, value)) = self.made.names.iter().find(|(known, _)| *known == name) {
            return Some(value.clone());
        }
        let exchange = self.exchange;
        let (name, value) = match name {
            "status" => ("status", Value::from(i64::from(exchange.status))),
            "reason" => ("reason", Value::from(exchange.reason.as_str())),
            "headers" => ("headers", headers(&exchange.headers)),
            "cookies" => ("cookies", cookies(exchange)),
            "body" => ("body", body(exchange)),
            "text" => ("text", Value::text(exchange.text())),
            "size" => ("size", Value::from(exchange.size)),
            "elapsed" => ("elapsed", Value::duration(exchange.timings.total)),
            "url" => ("url", Value::from(&*exchange.sent.address())),
            "hops" => ("hops", Value::list(exchange.redirects().map(hop))),
            "sent" => ("sent", sent(exchange)),
            "trailers" => ("trailers", headers(&exchange.trailers)),
            "events" => ("events", Value::list(exchange.events().iter().map(event_value))),
            "event" => ("event", exchange.events().last().map_or_else(Value::null, event_value)),
            "messages" => ("messages", Value::list(received(exchange).map(message_value))),
            "message" => ("message", received(exchange).last().map_or_else(Value::null, message_value)),
            "pages" => {
                let before = exchange.pages.iter().map(|page| parsed(page));
                let own = body(exchange);
                ("pages", Value::list(before.chain([own])))
            }
            // Of GraphQL (its specification of October 2021, 7.1).
            "data" => ("data", self.member_of_body("data").unwrap_or_else(Value::null)),
            "errors" => ("errors", self.member_of_body("errors").unwrap_or_else(|| Value::list(Vec::<Value>::new()))),
            "extensions" => {
                let none = || Value::map(Vec::<(String, Value)>::new());
                ("extensions", self.member_of_body("extensions").unwrap_or_else(none))
            }
            _ => return None,
        };
        self.made.names.push((name, value.clone()));
        Some(value)
    }
}

impl ResponseScope<'_> {
    /// Gives a name a value, in place of what the exchange has.
    pub fn set(&mut self, name: &'static str, value: Value) {
        self.made.names.retain(|(known, _)| *known != name);
        self.made.names.push((name, value));
    }

    /// A member of the body; of a stream that of the last event which has it, as a subscription of GraphQL sends them.
    fn member_of_body(&mut self, name: &str) -> Option<Value> {
        if self.exchange.stream_format().is_some() {
            let events = self.exchange.events();
            return events.iter().rev().find_map(|event| parsed(event.data.as_bytes()).member(name));
        }
        self.get("body")?.member(name)
    }
}

/// Lower-case names; the values of a repeated field joined by `, ` (RFC 9110 5.3).
fn headers(fields: &[(String, Vec<u8>)]) -> Value {
    let mut joined: Vec<(String, String)> = Vec::with_capacity(fields.len());
    for (name, value) in fields {
        let (name, value) = (name.to_ascii_lowercase(), String::from_utf8_lossy(value));
        match joined.iter_mut().find(|(known, _)| *known == name) {
            Some((_, all)) => {
                all.push_str(", ");
                all.push_str(&value);
            }
            None => joined.push((name, value.into_owned())),
        }
    }
    Value::map(joined.into_iter().map(|(name, value)| (name, Value::text(value))))
}

/// The cookies that this response sets, by name (RFC 6265 5.2): the part before the attributes.
fn cookies(exchange: &Exchange) -> Value {
    let set = exchange.headers.iter().filter(|(name, _)| name.eq_ignore_ascii_case("set-cookie"));
    let pairs = set.filter_map(|(_, value)| {
        let line = String::from_utf8_lossy(value);
        let (name, value) = line.split(';').next()?.split_once('=')?;
        Some((name.trim().to_owned(), Value::text(value.trim())))
    });
    Value::map(pairs.collect::<Vec<_>>())
}

/// An event of a stream: its data parsed if it is JSON.
pub fn event_value(event: &StreamEvent) -> Value {
    let id = Some(event.id.as_str()).filter(|id| !id.is_empty());
    let name = Some(event.name.as_str()).filter(|name| !name.is_empty());
    Value::map([
        ("id", id.map_or_else(Value::null, Value::from)),
        ("event", name.map_or_else(Value::null, Value::from)),
        ("data", parsed(event.data.as_bytes())),
        ("at", event.at.map_or_else(Value::null, Value::duration)),
    ])
}

/// The messages that the server sent.
fn received(exchange: &Exchange) -> impl Iterator<Item = &ConversationMessage> {
    exchange.messages.iter().filter(|message| message.is_received)
}

/// A message of a conversation: its data parsed if it is JSON.
pub fn message_value(message: &ConversationMessage) -> Value {
    match &message.data {
        MessageData::Text(text) => parsed(text.as_bytes()),
        MessageData::Binary(bytes) => Value::bytes(bytes.to_vec()),
    }
}

/// JSON if it is that, else text.
fn parsed(text: &[u8]) -> Value {
    let trimmed = text.trim_ascii();
    let may_be_json = trimmed.first().is_some_and(|first| b"{[\"-0123456789tfn".contains(first));
    match may_be_json.then(|| Value::parse_json_bytes(Bytes::copy_from_slice(trimmed))) {
        Some(Ok(value)) => value,
        _ => Value::text(String::from_utf8_lossy(text)),
    }
}

/// JSON where the media type says so, or where the text looks and reads like it; else text.
fn body(exchange: &Exchange) -> Value {
    let media = exchange.media_type();
    let first = exchange.body.trim_ascii_start().first();
    if (is_json(&media) || first.is_some_and(|b| b"{[".contains(b)))
        && let Ok(value) = Value::parse_json_bytes(exchange.body.clone())
    {
        return value;
    }
    Value::text(exchange.text())
}

fn hop(hop: &Hop) -> Value {
    Value::map([
        ("status", Value::from(i64::from(hop.status))),
        ("method", Value::from(hop.method.as_str())),
        ("url", Value::from(hop.url.as_str())),
        ("location", Value::from(hop.location.as_str())),
    ])
}

fn sent(exchange: &Exchange) -> Value {
    let fields: Vec<(String, Vec<u8>)> = exchange
        .sent
        .wire_headers()
        .into_iter()
        .map(|(name, value)| (name.into_owned(), value.into_owned().into_bytes()))
        .collect();
    Value::map([
        ("method", Value::from(exchange.sent.method.as_str())),
        ("url", Value::from(&*exchange.sent.address())),
        ("headers", headers(&fields)),
        ("body", Value::text(exchange.sent.body.as_ref().map(Body::text).unwrap_or_default())),
    ])
}

/// Whether an expression reads the body, parsed or as text.
pub fn reads_body(expression: &Compiled) -> bool {
    expression.names().any(|name| name == "body" || name == "text" || is_graphql_name(name) || is_late_name(name))
}

/// The error of an expression that reads the body of a response of which it is not held.
pub fn body_not_buffered(exchange: &Exchange) -> String {
    let size = exchange.size;
    if let Some(stream) = exchange.stream.as_ref().filter(|stream| stream.count > MAX_KEPT_EVENTS as u64) {
        let count = stream.count;
        return format!(
            "there were {count} events, more than the {MAX_KEPT_EVENTS} that are kept: end the stream with `% take` or `% until`"
        );
    }
    if exchange.lacks_parts {
        return "there were more messages or pages than are kept".to_owned();
    }
    format!("the body of {size} bytes is too large for checks: raise `body_limit` in `[send]`")
}
