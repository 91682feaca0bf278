//! What a response has beside head and body, secrets masked: trailers, how a stream of events came, messages of a conversation, pages.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use yieldtray_http::{ConversationMessage, Exchange, MessageData, StreamEnd, StreamRecord, is_secret_header};
use yieldtray_workspace::secret::Masker;

/// The largest page or message that is written down, in bytes.
const MAX_PART_BYTES: usize = 1 << 20;

/// What a response has beside head and body. Each is left out where there is none.
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
        let messages = exchange.messages.iter().map(|message| match &message.data {
            MessageData::Text(text) if text.len() <= MAX_PART_BYTES => Message {
                at_ms: millis(message.at),
                received: message.is_received,
                text: Some(mask(text)),
                base64: None,
            },
            MessageData::Binary(bytes) if bytes.len() <= MAX_PART_BYTES => {
                let encoded = STANDARD.encode(masker.mask_bytes(bytes));
                Message { at_ms: millis(message.at), received: message.is_received, text: None, base64: Some(encoded) }
            }
            _ => Message { at_ms: millis(message.at), received: message.is_received, text: None, base64: None },
        });
        let pages = exchange.pages.iter().filter(|page| page.len() <= MAX_PART_BYTES);
        Self {
            trailers: trailers.collect(),
            stream,
            messages: messages.collect(),
            pages: pages.map(|page| mask(&String::from_utf8_lossy(page))).collect(),
        }
    }

    /// Whether there are none.
    pub(crate) fn is_empty(&self) -> bool {
        self.trailers.is_empty() && self.stream.is_none() && self.messages.is_empty() && self.pages.is_empty()
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
        exchange.pages = self.pages.iter().map(|page| Bytes::from(page.clone())).collect();
    }
}

fn millis(time: Duration) -> f64 {
    (time.as_secs_f64() * 1e6).round() / 1e3
}
