//! The parts of a response beside head and body, secrets masked: trailers, the record of a stream, messages of a conversation, pages.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use yieldtray_http::{ConversationMessage, Exchange, MessageData, StreamEnd, StreamRecord, is_secret_header};
use yieldtray_workspace::secret::Masker;

/// How many bytes of messages and pages are written down; if there are more, those that do not fit are left out.
const MAX_PARTS_BYTES: usize = 1 << 20;

/// The parts of a response beside head and body. Each is omitted if it is empty.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct ReceivedParts {
    /// The trailer fields in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub trailers: Vec<(String, String)>,
    /// How a stream of events came.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream: Option<Stream>,
    /// The messages of a conversation.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub messages: Vec<Message>,
    /// The bodies of the pages before the last.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pages: Vec<String>,
    /// Whether messages or pages are left out, since they are too large.
    #[serde(default, skip_serializing_if = "is_false")]
    pub omitted: bool,
}

/// A stream of events, which are in the body.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Stream {
    /// How many there were.
    pub events: u64,
    /// Why it ended: `server`, `until`, `take`, `time-limit` or `interrupted`.
    pub end: String,
    /// How often it was connected again.
    pub reconnected: u32,
    /// When each arrived, in milliseconds after the exchange began.
    pub at_ms: Vec<f64>,
}

/// A message of a conversation.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Message {
    /// When it arrived or was sent, in milliseconds after the exchange began.
    pub at_ms: f64,
    /// Whether the server sent it.
    pub received: bool,
    /// A text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Bytes, in base64.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub base64: Option<String>,
}

impl ReceivedParts {
    /// Those of an exchange.
    pub fn of(exchange: &Exchange, masker: &Masker) -> Self {
        let mask = |text: &str| masker.mask(text).into_owned();
        let trailers = exchange.trailers.iter().map(|(name, value)| {
            let value = String::from_utf8_lossy(value);
            let shown = if is_secret_header(name) { yieldtray_http::MASK.to_owned() } else { mask(&value) };
            (name.clone(), shown)
        });
        let stream = exchange.stream.as_ref().map(|stream| Stream {
            events: stream.count,
            end: stream.end.as_str().to_owned(),
            reconnected: stream.reconnected,
            at_ms: stream.times.iter().map(|at| millis(*at)).collect(),
        });
        let mut room = MAX_PARTS_BYTES;
        let mut omitted = exchange.lacks_parts;
        let mut fits = |bytes: usize| {
            let left = room.checked_sub(bytes);
            room = left.unwrap_or(0);
            omitted |= left.is_none();
            left.is_some()
        };
        let mut messages = Vec::new();
        for message in &exchange.messages {
            let (text, base64) = match &message.data {
                MessageData::Text(text) => (fits(text.len()).then(|| mask(text)), None),
                MessageData::Binary(bytes) => {
                    (None, fits(bytes.len()).then(|| STANDARD.encode(masker.mask_bytes(bytes))))
                }
            };
            if text.is_some() || base64.is_some() {
                messages.push(Message { at_ms: millis(message.at), received: message.is_received, text, base64 });
            }
        }
        let pages = exchange.pages.iter().filter(|page| fits(page.len()));
        let pages = pages.map(|page| mask(&String::from_utf8_lossy(page))).collect();
        Self { trailers: trailers.collect(), stream, messages, pages, omitted }
    }

    /// Whether there are none.
    pub(crate) fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// Puts them into an exchange that is read again.
    pub(crate) fn restore(&self, exchange: &mut Exchange) {
        let at = |millis: f64| Duration::try_from_secs_f64(millis / 1e3).unwrap_or_default();
        exchange.trailers =
            self.trailers.iter().map(|(name, value)| (name.clone(), value.clone().into_bytes())).collect();
        exchange.stream = self.stream.as_ref().map(|stream| StreamRecord {
            count: stream.events,
            times: stream.at_ms.iter().map(|millis| at(*millis)).collect(),
            end: StreamEnd::of(&stream.end),
            reconnected: stream.reconnected,
        });
        let messages = self.messages.iter().map(|message| {
            let bytes = message.base64.as_ref().and_then(|text| STANDARD.decode(text).ok());
            let data = match bytes {
                Some(bytes) => MessageData::Binary(bytes.into()),
                None => MessageData::Text(message.text.clone().unwrap_or_default()),
            };
            ConversationMessage { data, at: at(message.at_ms), is_received: message.received }
        });
        exchange.messages = messages.collect();
        exchange.lacks_parts = self.omitted;
        exchange.pages = self.pages.iter().map(|page| Bytes::from(page.clone())).collect();
    }
}

fn millis(time: Duration) -> f64 {
    (time.as_secs_f64() * 1e6).round() / 1e3
}

fn is_false(flag: &bool) -> bool {
    !flag
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use yieldtray_http::PreparedRequest;

    fn exchange() -> Exchange {
        let url = "http://127.0.0.1/".parse().expect("a URL");
        Exchange::new(Arc::new(PreparedRequest::new("GET", url)), 200, Vec::new(), "{}")
    }

    #[test]
    fn what_does_not_fit_is_left_out_and_said() {
        let large = "x".repeat(MAX_PARTS_BYTES - 10);
        let message = |text: &str| ConversationMessage {
            data: MessageData::Text(text.to_owned()),
            at: Duration::from_millis(1),
            is_received: true,
        };
        let mut whole = exchange();
        (whole.messages, whole.pages) = (vec![message("pear-8841"), message("ripe")], vec![Bytes::from_static(b"[]")]);
        let mut masker = Masker::default();
        masker.learn(["pear-8841".into()]);
        let parts = ReceivedParts::of(&whole, &masker);
        assert_eq!((parts.messages[0].text.as_deref(), parts.omitted), (Some(yieldtray_http::MASK), false));

        whole.messages.push(message(&large));
        let parts = ReceivedParts::of(&whole, &masker);
        assert_eq!((parts.messages.len(), parts.pages.len(), parts.omitted), (2, 0, true));
        let mut again = exchange();
        assert!(again.is_body_complete());
        parts.restore(&mut again);
        // A check that reads it is not evaluated, as with a body that was not kept.
        assert!(!again.is_body_complete() && again.messages.len() == 2);
    }
}
