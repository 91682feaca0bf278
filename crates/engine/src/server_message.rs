//! The server's own explanation of an error response: problem details (RFC 9457) and lists of errors as APIs write them.

use serde_json::Value;
use yieldtray_http::{Exchange, is_json};

/// Larger bodies are not read for a message, in bytes.
const MAX_BODY_BYTES: usize = 64 * 1024;
/// More than this many characters are cut.
const MAX_CHARS: usize = 300;
/// Of more errors only the first are shown.
const MAX_ERRORS: usize = 3;

/// The explanation in the body of an error response, in one line; `None` for a success, or a body without an explanation.
pub(crate) fn server_message(exchange: &Exchange) -> Option<String> {
    if exchange.status < 400 || exchange.body.len() > MAX_BODY_BYTES || !is_json(&exchange.media_type()) {
        return None;
    }
    let body: Value = serde_json::from_slice(&exchange.body).ok()?;
    let error = body.get("error").filter(|error| error.is_object()).unwrap_or(&body);
    let mut parts: Vec<String> = first_text(error, &["detail", "message", "error_description", "title", "error"])
        .or_else(|| error.as_str())
        .map(str::to_owned)
        .into_iter()
        .collect();
    let errors = error.get("errors").or_else(|| body.get("errors"));
    parts.extend(errors.and_then(Value::as_array).into_iter().flatten().take(MAX_ERRORS).filter_map(one_error));
    let fields = errors.and_then(Value::as_object).into_iter().flatten();
    parts.extend(fields.take(MAX_ERRORS).filter_map(|(field, messages)| {
        let message = messages.as_str().or_else(|| messages.get(0)?.as_str())?;
        Some(format!("{field}: {message}"))
    }));
    let whole = parts.join("; ");
    let mut shown: String = whole.chars().take(MAX_CHARS).collect();
    if shown.len() < whole.len() {
        shown.push('…');
    }
    (!shown.is_empty()).then(|| format!("the server reports: {shown}"))
}

/// An element of `errors`: a text, or an object with a message and perhaps the field it is about.
fn one_error(error: &Value) -> Option<String> {
    let message = error.as_str().or_else(|| first_text(error, &["message", "detail", "msg", "title", "reason"]))?;
    let place = first_text(error, &["field", "path", "pointer", "param", "name"]);
    Some(place.map_or_else(|| message.to_owned(), |place| format!("{place}: {message}")))
}

fn first_text<'v>(value: &'v Value, names: &[&str]) -> Option<&'v str> {
    names.iter().find_map(|name| value.get(name)?.as_str()).filter(|text| !text.is_empty())
}
