//! Messages as they go over the wire (JSON-RPC 2.0 in the frames of LSP 3.17). Whatever comes in, reading goes on
//! with the next message.

use serde_json::{Value, json};
use std::io::{self, BufRead, Read, Write};

/// The largest message that is taken, in bytes.
const MAX_MESSAGE_BYTES: usize = 512 << 20;

/// A message of the client.
#[derive(Debug, PartialEq)]
pub(crate) enum Message {
    /// Expects a response.
    Request { id: Value, method: String, params: Value },
    /// Wants none.
    Notification { method: String, params: Value },
    /// A response to a request of ours; `None` if the client could not answer it.
    Response { id: Value, result: Option<Value> },
    /// Invalid: the reason, the id of its request, if that can be seen, and whether it is JSON at all.
    Broken { why: String, id: Value, is_json: bool },
}

/// The next message; `None` at the end of the input.
pub(crate) fn read(input: &mut impl BufRead) -> io::Result<Option<Message>> {
    let Some(length) = length(input)? else { return Ok(None) };
    if length > MAX_MESSAGE_BYTES {
        io::copy(&mut input.take(length as u64), &mut io::sink())?;
        let why = format!("a message of {length} bytes is too large");
        return Ok(Some(Message::Broken { why, id: Value::Null, is_json: true }));
    }
    let mut bytes = Vec::new();
    input.take(length as u64).read_to_end(&mut bytes)?;
    if bytes.len() < length {
        return Ok(None);
    }
    Ok(Some(match serde_json::from_slice(&bytes) {
        Ok(message) => classify(message),
        Err(error) => {
            Message::Broken { why: format!("a message is not JSON: {error}"), id: Value::Null, is_json: false }
        }
    }))
}

/// The length in the header of the next frame. Invalid lines are skipped.
fn length(input: &mut impl BufRead) -> io::Result<Option<usize>> {
    let mut length = None;
    loop {
        let mut line = Vec::new();
        // No valid header line is that long.
        if input.take(1 << 16).read_until(b'\n', &mut line)? == 0 {
            return Ok(None);
        }
        let line = String::from_utf8_lossy(&line);
        match line.split_once(':') {
            Some((name, value)) if name.trim().eq_ignore_ascii_case("content-length") => {
                length = value.trim().parse().ok();
            }
            _ if line.trim().is_empty() && length.is_some() => return Ok(length),
            _ => {}
        }
    }
}

fn classify(message: Value) -> Message {
    let Value::Object(mut message) = message else {
        return broken("a message is not an object".to_owned(), Value::Null);
    };
    let id = message.remove("id");
    let params = message.remove("params").unwrap_or_default();
    match (message.remove("method"), id) {
        (Some(Value::String(method)), Some(id)) if id.is_number() || id.is_string() => {
            Message::Request { id, method, params }
        }
        (Some(Value::String(method)), None) => Message::Notification { method, params },
        (Some(_), id) => broken("a method or an id is invalid".to_owned(), id.unwrap_or_default()),
        (None, Some(id)) => Message::Response { id, result: message.remove("result") },
        (None, None) => broken("a message has no method".to_owned(), Value::Null),
    }
}

fn broken(why: String, id: Value) -> Message {
    Message::Broken { why, id, is_json: true }
}

/// Writes a message.
pub(crate) fn write(out: &mut impl Write, text: &str) -> io::Result<()> {
    write!(out, "Content-Length: {}\r\n\r\n{text}", text.len())?;
    out.flush()
}

/// The error of a request.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct ResponseError {
    /// As JSON-RPC and LSP number them.
    pub(crate) code: i32,
    /// In words.
    pub(crate) message: String,
}

impl ResponseError {
    pub(crate) const PARSE: i32 = -32700;
    pub(crate) const REQUEST: i32 = -32600;
    pub(crate) const METHOD: i32 = -32601;
    pub(crate) const PARAMS: i32 = -32602;
    pub(crate) const INTERNAL: i32 = -32603;
    pub(crate) const NOT_INITIALIZED: i32 = -32002;
    pub(crate) const FAILED: i32 = -32803;

    pub(crate) fn new(code: i32, message: impl Into<String>) -> Self {
        Self { code, message: message.into() }
    }

    /// A request that is valid and cannot be carried out (LSP `RequestFailed`).
    pub(crate) fn failed(error: impl ToString) -> Self {
        Self::new(Self::FAILED, error.to_string())
    }
}

/// The result of a request.
#[derive(Debug)]
pub(crate) enum Reply {
    /// This.
    Value(Value),
    /// JSON text: for results of so many parts that a value for each would cost more than the text.
    Text(String),
}

/// A response to a request, as text.
pub(crate) fn response(id: &Value, outcome: Result<Reply, ResponseError>) -> String {
    let result = match outcome {
        Ok(Reply::Value(result)) => result.to_string(),
        Ok(Reply::Text(result)) => result,
        Err(ResponseError { code, message }) => {
            let error = json!({ "code": code, "message": message });
            return json!({ "jsonrpc": "2.0", "id": id, "error": error }).to_string();
        }
    };
    format!("{{\"jsonrpc\":\"2.0\",\"id\":{id},\"result\":{result}}}")
}

/// A notification.
pub(crate) fn notification(method: &str, params: Value) -> Value {
    json!({ "jsonrpc": "2.0", "method": method, "params": params })
}

/// Something the client is asked.
pub(crate) fn request(id: i64, method: &str, params: Value) -> Value {
    let mut request = json!({ "jsonrpc": "2.0", "id": id, "method": method });
    // Parameters are a structure, or not there at all (JSON-RPC 2.0, 4.2).
    if !params.is_null() {
        request["params"] = params;
    }
    request
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reading_goes_on_whatever_comes() {
        let frame = |body: &str| format!("Content-Length: {}\r\n\r\n{body}", body.len());
        let input = [
            frame(r#"{"id":1,"method":"a","params":{"x":1}}"#),
            "nonsense\n\r\n".to_owned(),
            frame("{"),
            frame("[1]"),
            frame(r#"{"id":{},"method":"b"}"#),
            "content-length:  14\r\nContent-Type: x\r\n\r\n{\"method\":\"c\"}".to_owned(),
            frame(r#"{"id":7,"result":null}"#),
            frame(r#"{"id":"s","method":3}"#),
            "Content-Length: 99\r\n\r\n{".to_owned(),
        ]
        .concat();
        let mut input = input.as_bytes();
        let mut received = Vec::new();
        while let Some(message) = read(&mut input).expect("a slice can be read") {
            received.push(match message {
                Message::Request { id, method, .. } => format!("request {id} {method}"),
                Message::Notification { method, .. } => format!("notification {method}"),
                Message::Response { id, .. } => format!("response {id}"),
                Message::Broken { id, is_json, .. } => format!("broken {id}, JSON: {is_json}"),
            });
        }
        let expected = [
            "request 1 a",
            "broken null, JSON: false",
            "broken null, JSON: true",
            "broken {}, JSON: true",
            "notification c",
            "response 7",
            "broken \"s\", JSON: true",
        ];
        assert_eq!(received, expected);
    }
}
