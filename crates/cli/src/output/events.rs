//! Events of a stream, and messages of a conversation, as they arrive.

use super::{Out, body};
use crate::styles::Styles;
use serde_json::json;
use serde_json::value::RawValue;
use std::fmt::Write as _;
use std::io::{self, Write};
use std::time::Duration;
use yieldtray_http::{ConversationMessage, Exchange, MessageData, StreamEvent};
use yieldtray_source::escape::{escape_line, escape_terminal};
use yieldtray_workspace::secret::Masker;

/// How a word is colored.
type Paint = fn(Styles, &str) -> String;

/// The width of the time before an event.
const TIME_WIDTH: usize = 9;

impl Out {
    /// Prints events: a line each, or for a person more where the data has several lines. With `--json` one JSON text a line.
    pub(crate) fn events(&mut self, events: &[StreamEvent], masker: &Masker, request: &str) -> io::Result<()> {
        let (json, styles) = (self.settings.json, self.settings.styles);
        let width = self.settings.width.filter(|_| self.settings.terminal);
        let mut text = String::new();
        for event in events {
            let data = masker.mask(&event.data);
            if json {
                let id = Some(&event.id).filter(|id| !id.is_empty());
                let name = Some(&event.name).filter(|name| !name.is_empty());
                let head = json!({ "event": "stream-event", "request": request, "id": id.map(|id| masker.mask(id)), "name": name.map(|name| masker.mask(name)), "at_ms": event.at.map(millis) });
                push_json(&mut text, &head.to_string(), &data);
                continue;
            }
            let name = if event.name == "message" { "" } else { &event.name };
            let id = if event.id.is_empty() { String::new() } else { format!("id {}", masker.mask(&event.id)) };
            push_line(
                &mut text,
                event.at,
                &[(&escape_line(&masker.mask(name)), Styles::name), (&escape_line(&id), Styles::dim)],
                &data,
                styles,
                width,
            );
        }
        self.result().write_all(text.as_bytes())?;
        self.flush()
    }

    /// Prints a message that was sent (`→`) or received (`←`).
    pub(crate) fn conversation_message(
        &mut self,
        message: &ConversationMessage,
        masker: &Masker,
        request: &str,
    ) -> io::Result<()> {
        let mut line = String::new();
        if self.settings.json {
            let direction = if message.is_received { "received" } else { "sent" };
            let is_binary = matches!(message.data, MessageData::Binary(_));
            let head = json!({ "event": "message", "request": request, "direction": direction, "binary": is_binary, "at_ms": millis(message.at) });
            push_json(&mut line, &head.to_string(), &shown(message, masker));
        } else {
            let width = self.settings.width.filter(|_| self.settings.terminal);
            push_message(&mut line, message, masker, self.settings.styles, width);
        }
        self.result().write_all(line.as_bytes())?;
        self.flush()
    }
}

/// The content of a response, for a person: its body, or the messages of a conversation.
pub(crate) fn readable(exchange: &Exchange, masker: &Masker, styles: Styles) -> String {
    match exchange.messages.is_empty() {
        true => body::readable(exchange, masker, styles),
        false => messages(exchange, masker, styles),
    }
}

/// The messages of a conversation that is over, a line each.
pub(super) fn messages(exchange: &Exchange, masker: &Masker, styles: Styles) -> String {
    let mut text = String::new();
    exchange.messages.iter().for_each(|message| push_message(&mut text, message, masker, styles, None));
    text
}

fn push_message(
    text: &mut String,
    message: &ConversationMessage,
    masker: &Masker,
    styles: Styles,
    width: Option<usize>,
) {
    let arrow = if message.is_received { "←" } else { "→" };
    push_line(text, Some(message.at), &[(arrow, Styles::dim)], &shown(message, masker), styles, width);
}

/// The text of a message, or what it is instead.
fn shown(message: &ConversationMessage, masker: &Masker) -> String {
    match &message.data {
        MessageData::Text(text) => masker.mask(text).into_owned(),
        MessageData::Binary(bytes) => format!("{} of binary data", body::size(bytes.len() as u64)),
    }
}

/// Adds `data` to a JSON object: as JSON if it is that, else as a string.
fn push_json(text: &mut String, head: &str, data: &str) {
    text.push_str(&head[..head.len() - 1]);
    text.push_str(",\"data\":");
    let looks_json = data.trim_start().starts_with(['{', '[', '"']);
    match serde_json::from_str::<&RawValue>(data) {
        // One line for one event.
        Ok(_) if looks_json && !data.contains('\n') => text.push_str(data.trim()),
        Ok(raw) if looks_json => {
            text.push_str(&serde_json::from_str::<serde_json::Value>(raw.get()).unwrap_or_default().to_string())
        }
        _ => text.push_str(&serde_json::Value::from(data).to_string()),
    }
    text.push_str("}\n");
}

fn push_line(
    text: &mut String,
    at: Option<Duration>,
    marks: &[(&str, Paint)],
    data: &str,
    styles: Styles,
    width: Option<usize>,
) {
    let at = at.map(|at| format!("{:.3} s", at.as_secs_f64())).unwrap_or_default();
    let _ = write!(text, "{}", styles.dim(&format!("{at:>TIME_WIDTH$}")));
    let mut before = TIME_WIDTH;
    for (mark, paint) in marks.iter().filter(|(mark, _)| !mark.is_empty()) {
        before += 2 + mark.chars().count();
        let _ = write!(text, "  {}", paint(styles, mark));
    }
    let line = data.trim_end();
    let media = if line.trim_start().starts_with(['{', '[']) { "application/json" } else { "text/plain" };
    let fits = width.is_none_or(|width| before + 2 + line.chars().count() <= width);
    if !line.contains('\n') && fits {
        text.push_str("  ");
        match styles.has_color().then(|| body::painted(line, media, styles, true)).flatten() {
            Some(painted) => text.push_str(&painted),
            None => text.push_str(&escape_line(line)),
        }
        text.push('\n');
        return;
    }
    text.push('\n');
    let painted = body::painted(line, media, styles, false);
    let painted = painted.unwrap_or_else(|| escape_terminal(line).into_owned());
    for line in painted.lines() {
        let _ = writeln!(text, "    {line}");
    }
}

fn millis(time: Duration) -> f64 {
    (time.as_secs_f64() * 1e6).round() / 1e3
}
