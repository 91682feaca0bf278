//! Conversations over a WebSocket (RFC 6455). The handshake is an ordinary request, so that cookies, credentials, TLS and proxies are
//! those of every request.

use crate::failure::{authority, failure};
use crate::incoming::IncomingResponse;
use futures_util::{SinkExt, StreamExt};
use hyper::upgrade::Upgraded;
use hyper_util::rt::TokioIo;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::error::{CapacityError, ProtocolError};
use tokio_tungstenite::tungstenite::handshake::client::generate_key;
use tokio_tungstenite::tungstenite::handshake::derive_accept_key;
use tokio_tungstenite::tungstenite::protocol::{CloseFrame, Role, WebSocketConfig};
use tokio_tungstenite::tungstenite::{Error, Message};
use yieldtray_http::{
    ConversationMessage, Exchange, Failure, FailureKind, HttpVersion, MAX_KEPT_EVENTS, MessageData, PreparedRequest,
};

/// The longest message, in bytes.
const MAX_MESSAGE_BYTES: usize = 16 << 20;

/// How long the server may take to end its side.
const CLOSE_TIMEOUT: Duration = Duration::from_secs(2);

/// A connection that was switched to WebSocket.
pub struct Conversation {
    exchange: Exchange,
    socket: WebSocketStream<TokioIo<Upgraded>>,
    /// How many bytes of messages are kept.
    most: u64,
    kept: u64,
    /// Whether there were more.
    lacks_messages: bool,
    start: Instant,
}

/// The next of a conversation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NextMessage {
    /// This message.
    Message(ConversationMessage),
    /// The server ended it, with this code and reason (RFC 6455 7.4).
    Closed {
        /// The code.
        code: u16,
        /// The reason.
        reason: String,
    },
    /// The time is over.
    TimeLimit,
}

/// The request of the handshake (RFC 6455 4.1).
pub(crate) fn handshake(request: &PreparedRequest) -> Arc<PreparedRequest> {
    let mut asking = request.clone();
    asking.version = Some(HttpVersion::Http11);
    asking.headers.retain(|(name, _)| !name.eq_ignore_ascii_case("upgrade"));
    asking.headers.extend([
        ("Connection".into(), "Upgrade".into()),
        ("Upgrade".into(), "websocket".into()),
        ("Sec-WebSocket-Version".into(), "13".into()),
        ("Sec-WebSocket-Key".into(), generate_key().into()),
    ]);
    Arc::new(asking)
}

impl Conversation {
    /// The conversation that a response begins, of which messages of `most` bytes together are kept.
    pub(crate) async fn begin(
        exchange: Exchange,
        response: IncomingResponse,
        most: u64,
        start: Instant,
    ) -> Result<Self, Failure> {
        let refused = |why: String| {
            let message = format!("{} did not switch to WebSocket: {why}", authority(&exchange.sent.url));
            failure(FailureKind::NotHttp, message, None, start.elapsed())
        };
        let key = exchange.sent.header("sec-websocket-key").unwrap_or_default();
        let accepted = exchange.header("sec-websocket-accept").unwrap_or_default();
        if accepted != derive_accept_key(key.as_bytes()) {
            return Err(refused("its `Sec-WebSocket-Accept` is not that of this key (RFC 6455 4.1)".to_owned()));
        }
        if exchange.header("sec-websocket-extensions").is_some_and(|offered| !offered.is_empty()) {
            return Err(refused("it uses an extension that was not offered (RFC 6455 4.1)".to_owned()));
        }
        let offered = exchange.sent.header("sec-websocket-protocol").unwrap_or_default();
        if let Some(chosen) = exchange.header("sec-websocket-protocol")
            && !offered.split(',').any(|one| one.trim() == chosen)
        {
            return Err(refused(format!("it chose the subprotocol `{chosen}`, which was not offered (RFC 6455 4.1)")));
        }
        let upgrade = match response {
            IncomingResponse::Library(response, _) => hyper::upgrade::on(response),
            IncomingResponse::Straight(response, _) => hyper::upgrade::on(response),
        };
        let stream = TokioIo::new(upgrade.await.map_err(|error| refused(error.to_string()))?);
        let config = WebSocketConfig::default()
            .max_message_size(Some(MAX_MESSAGE_BYTES))
            .max_frame_size(Some(MAX_MESSAGE_BYTES));
        let socket = WebSocketStream::from_raw_socket(stream, Role::Client, Some(config)).await;
        Ok(Self { exchange, socket, most, kept: 0, lacks_messages: false, start })
    }

    /// The response that began it.
    pub fn exchange(&self) -> &Exchange {
        &self.exchange
    }

    /// How long it has lasted, the handshake included.
    pub fn elapsed(&self) -> Duration {
        self.start.elapsed()
    }

    /// Sends a message.
    ///
    /// # Errors
    /// If the connection breaks.
    pub async fn say(&mut self, data: MessageData) -> Result<ConversationMessage, Failure> {
        let message = match &data {
            MessageData::Text(text) => Message::text(text.clone()),
            MessageData::Binary(bytes) => Message::binary(bytes.clone()),
        };
        let limit = self.exchange.sent.sending.timeout;
        match tokio::time::timeout(limit, self.socket.send(message)).await {
            Ok(Ok(())) => {}
            Ok(Err(error)) => return Err(self.broken(&error)),
            Err(_) => {
                let message = format!("{} does not take the message", authority(&self.exchange.sent.url));
                return Err(failure(FailureKind::TimedOut, message, None, self.start.elapsed()));
            }
        }
        let said = ConversationMessage { data, at: self.start.elapsed(), is_received: false };
        self.keep(&said);
        Ok(said)
    }

    /// Waits for the next message, until so long after the beginning; `None` waits for ever. Pings are answered meanwhile. Nothing is lost
    /// if the wait is given up.
    ///
    /// # Errors
    /// If the connection breaks, or the server violates the protocol.
    pub async fn next(&mut self, until: Option<Duration>) -> Result<NextMessage, Failure> {
        let deadline = until.map(|until| self.start + until);
        loop {
            let read = match deadline {
                None => self.socket.next().await,
                Some(deadline) => match tokio::time::timeout_at(deadline.into(), self.socket.next()).await {
                    Ok(read) => read,
                    Err(_) => return Ok(NextMessage::TimeLimit),
                },
            };
            let data = match read {
                Some(Ok(Message::Text(text))) => MessageData::Text(text.as_str().to_owned()),
                Some(Ok(Message::Binary(bytes))) => MessageData::Binary(bytes),
                Some(Ok(Message::Close(frame))) => return Ok(closed(frame)),
                Some(Ok(Message::Ping(_) | Message::Pong(_) | Message::Frame(_))) => continue,
                Some(Err(Error::ConnectionClosed)) | None => return Ok(closed(None)),
                Some(Err(error)) => return Err(self.broken(&error)),
            };
            let message = ConversationMessage { data, at: self.start.elapsed(), is_received: true };
            self.keep(&message);
            return Ok(NextMessage::Message(message));
        }
    }

    fn keep(&mut self, message: &ConversationMessage) {
        let size = match &message.data {
            MessageData::Text(text) => text.len(),
            MessageData::Binary(bytes) => bytes.len(),
        };
        self.kept += size as u64 + 64;
        if self.kept <= self.most && self.exchange.messages.len() < MAX_KEPT_EVENTS {
            self.exchange.messages.push(message.clone());
        } else {
            self.lacks_messages = true;
        }
    }

    /// Says goodbye, waits for the same, and returns the exchange.
    pub async fn finish(mut self) -> Exchange {
        let closing = async {
            if self.socket.close(None).await.is_ok() {
                // What comes before the server's own goodbye is not waited for by anybody.
                while let Some(Ok(_)) = self.socket.next().await {}
            }
        };
        let _ = tokio::time::timeout(CLOSE_TIMEOUT, closing).await;
        // Only now: a line that waits reads the message that arrived last, which is there.
        self.exchange.lacks_parts = self.lacks_messages;
        self.exchange.timings.total = self.start.elapsed();
        self.exchange.timings.receive = self.exchange.timings.total.saturating_sub(self.exchange.timings.wait);
        self.exchange
    }

    fn broken(&self, error: &Error) -> Failure {
        let from = authority(&self.exchange.sent.url);
        let (kind, message) = match error {
            Error::Capacity(CapacityError::MessageTooLong { .. }) => {
                (FailureKind::TooLarge, format!("a message from {from} is longer than {} MiB", MAX_MESSAGE_BYTES >> 20))
            }
            Error::Protocol(ProtocolError::ResetWithoutClosingHandshake) | Error::Io(_) => {
                (FailureKind::BrokenOff, format!("{from} ended the connection without closing the WebSocket"))
            }
            Error::Protocol(error) => (FailureKind::NotHttp, format!("{from} violates RFC 6455: {error}")),
            Error::Utf8(_) => (FailureKind::NotHttp, format!("{from} sent a text that is not UTF-8 (RFC 6455 8.1)")),
            other => (FailureKind::BrokenOff, format!("the conversation with {from} failed: {other}")),
        };
        failure(kind, message, None, self.start.elapsed())
    }
}

fn closed(frame: Option<CloseFrame>) -> NextMessage {
    match frame {
        Some(frame) => NextMessage::Closed { code: frame.code.into(), reason: frame.reason.as_str().to_owned() },
        // No code (RFC 6455 7.1.5).
        None => NextMessage::Closed { code: 1005, reason: String::new() },
    }
}
