//! Exchanges: a request as it was sent, its response, timings, and failures.

use super::charset;
use crate::event_stream::{StreamEvent, StreamFormat, events_of};
use crate::{MASK, PreparedRequest};
use bytes::Bytes;
use std::sync::Arc;
use std::time::Duration;

/// A request as it was sent, and its response.
#[derive(Clone, Debug)]
pub struct Exchange {
    /// The request of the last hop.
    pub sent: Arc<PreparedRequest>,
    /// Earlier responses of the same exchange: redirects and challenges, in order.
    pub hops: Vec<Hop>,
    /// The status code (RFC 9110 15).
    pub status: u16,
    /// The reason phrase, as received or by the status.
    pub reason: String,
    /// `HTTP/1.1` or `HTTP/2`.
    pub version: &'static str,
    /// The header fields in order, as bytes.
    pub headers: Vec<(String, Vec<u8>)>,
    /// The body with any content coding taken off; empty where it was only passed on.
    pub body: Bytes,
    /// How many bytes the body has, held or not.
    pub size: u64,
    /// The BLAKE3 digest, in hexadecimal digits, of a body that was passed on or let go, where somebody made it.
    pub digest: Option<String>,
    /// How long what took, of the last hop.
    pub timings: Timings,
    /// The proxy the last hop went through, without credentials.
    pub proxy: Option<String>,
    /// Cookies set, kept or refused, over all hops.
    pub cookies: Vec<CookieNote>,
    /// Violations of HTTP in the response, and how each was handled.
    pub notes: Vec<String>,
    /// The trailer fields in order, as bytes (RFC 9110 6.5).
    pub trailers: Vec<(String, Vec<u8>)>,
    /// How the body came, if it is a stream of events.
    pub stream: Option<StreamRecord>,
    /// The messages of a conversation over a WebSocket, in order.
    pub messages: Vec<ConversationMessage>,
    /// The bodies of the pages before this one, where pages were followed.
    pub pages: Vec<Bytes>,
    /// Whether messages or pages are missing, since they were too large to keep.
    pub lacks_parts: bool,
}

/// A message of a conversation (RFC 6455).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ConversationMessage {
    /// Its content.
    pub data: MessageData,
    /// When it arrived or was sent, after the exchange began.
    pub at: Duration,
    /// Whether the server sent it.
    pub is_received: bool,
}

/// The content of a message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MessageData {
    /// A text.
    Text(String),
    /// Bytes.
    Binary(Bytes),
}

/// The most events of a stream, and messages of a conversation, that are kept for expressions: each takes about a KiB as a value.
pub const MAX_KEPT_EVENTS: usize = 100_000;

/// How a stream of events was received.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StreamRecord {
    /// How many events there were.
    pub count: u64,
    /// When each arrived, after the exchange began; empty if the body is not held.
    pub times: Vec<Duration>,
    /// Why it ended.
    pub end: StreamEnd,
    /// How often it was connected again.
    pub reconnected: u32,
}

/// Why a stream of events ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StreamEnd {
    /// The server ended it.
    Server,
    /// The condition of `% until` became true.
    Condition,
    /// `% take` had as many as it wants.
    Count,
    /// The time limit.
    TimeLimit,
    /// There were more events than a condition can read.
    EventLimit,
    /// Somebody interrupted it.
    Interrupted,
}

impl StreamEnd {
    /// A stable word.
    pub fn as_str(self) -> &'static str {
        match self {
            StreamEnd::Server => "server",
            StreamEnd::Condition => "until",
            StreamEnd::Count => "take",
            StreamEnd::TimeLimit => "time-limit",
            StreamEnd::EventLimit => "event-limit",
            StreamEnd::Interrupted => "interrupted",
        }
    }

    /// The end of that word; `Server` for none of them.
    pub fn of(word: &str) -> Self {
        let all = [
            StreamEnd::Condition,
            StreamEnd::Count,
            StreamEnd::TimeLimit,
            StreamEnd::EventLimit,
            StreamEnd::Interrupted,
        ];
        all.into_iter().find(|end| end.as_str() == word).unwrap_or(StreamEnd::Server)
    }

    /// It in words, after the number of events.
    pub fn describe(self) -> &'static str {
        match self {
            StreamEnd::Server => "the server ended the stream",
            StreamEnd::Condition => "`% until` became true",
            StreamEnd::Count => "`% take` has them all",
            StreamEnd::TimeLimit => "the time limit ended the stream",
            StreamEnd::EventLimit => "a condition on `events` cannot read more of them",
            StreamEnd::Interrupted => "interrupted",
        }
    }
}

/// One cookie in an exchange.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CookieNote {
    /// The host it was sent to or received from.
    pub host: String,
    /// Its name.
    pub name: String,
    /// Its status.
    pub status: CookieStatus,
    /// Where it holds and how long, or why it was refused.
    pub message: String,
}

/// The status of a cookie.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CookieStatus {
    /// It went out.
    Sent,
    /// Set by the response, and kept.
    Set,
    /// Deleted by the response.
    Ended,
    /// Set by the response, which is not allowed to.
    Refused,
}

impl CookieStatus {
    /// A stable word.
    pub fn as_str(self) -> &'static str {
        match self {
            CookieStatus::Sent => "sent",
            CookieStatus::Set => "set",
            CookieStatus::Ended => "deleted",
            CookieStatus::Refused => "refused",
        }
    }

    /// The status of that word, or of its word before version 0.2; `Refused` for none of them.
    pub fn of(word: &str) -> Self {
        let word = if word == "ended" { "deleted" } else { word };
        let all = [CookieStatus::Sent, CookieStatus::Set, CookieStatus::Ended];
        all.into_iter().find(|status| status.as_str() == word).unwrap_or(CookieStatus::Refused)
    }
}

/// Why a hop was not the last.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HopKind {
    /// It led elsewhere.
    Redirect,
    /// It asked for proof of who sends, which the next one gave.
    Challenge,
    /// It was a page that led to the next one.
    Page,
}

impl HopKind {
    /// A stable word.
    pub fn as_str(self) -> &'static str {
        match self {
            HopKind::Redirect => "redirect",
            HopKind::Challenge => "challenge",
            HopKind::Page => "page",
        }
    }

    /// The kind of that word; `Redirect` for none of them.
    pub fn of(word: &str) -> Self {
        let all = [HopKind::Challenge, HopKind::Page];
        all.into_iter().find(|kind| kind.as_str() == word).unwrap_or(HopKind::Redirect)
    }
}

/// A response that was not the last.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hop {
    /// Why another one followed.
    pub kind: HopKind,
    /// How long what took.
    pub timings: Timings,
    /// Its status.
    pub status: u16,
    /// The method that was answered so.
    pub method: String,
    /// The URL that was requested.
    pub url: String,
    /// Where it led.
    pub location: String,
}

/// How long what took. A phase that did not happen (a connection was there already) is `None`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Timings {
    /// When this hop began, after the first one did.
    pub began: Duration,
    /// Looking the name up.
    pub lookup: Option<Duration>,
    /// Connecting, without TLS.
    pub connect: Option<Duration>,
    /// Agreeing on TLS.
    pub tls: Option<Duration>,
    /// From sending to the first byte of the response.
    pub wait: Duration,
    /// From the first byte to the last.
    pub receive: Duration,
    /// All of it, redirects included.
    pub total: Duration,
}

impl Exchange {
    /// A response over HTTP/1.1 as it was received at once: with a whole body, no hops and no times.
    pub fn new(
        sent: Arc<PreparedRequest>,
        status: u16,
        headers: Vec<(String, Vec<u8>)>,
        body: impl Into<Bytes>,
    ) -> Self {
        let body = body.into();
        Self {
            sent,
            hops: Vec::new(),
            status,
            reason: String::new(),
            version: "HTTP/1.1",
            headers,
            size: body.len() as u64,
            body,
            digest: None,
            timings: Timings::default(),
            proxy: None,
            cookies: Vec::new(),
            notes: Vec::new(),
            trailers: Vec::new(),
            stream: None,
            messages: Vec::new(),
            pages: Vec::new(),
            lacks_parts: false,
        }
    }

    /// The same with another text wherever a secret is masked, to see what depends on it.
    pub fn with_alternate_masks(&self) -> Self {
        const OTHER: &[u8] = b"[another secret, of another length]";
        let replaced = |bytes: &[u8]| {
            let (mut replaced, mut at) = (Vec::with_capacity(bytes.len()), 0);
            for found in memchr::memmem::find_iter(bytes, MASK) {
                replaced.extend_from_slice(&bytes[at..found]);
                replaced.extend_from_slice(OTHER);
                at = found + MASK.len();
            }
            replaced.extend_from_slice(&bytes[at..]);
            replaced
        };
        let headers = self.headers.iter().map(|(name, value)| (name.clone(), replaced(value))).collect();
        let body: Bytes = replaced(&self.body).into();
        let size = self.size - self.body.len() as u64 + body.len() as u64;
        let trailers = self.trailers.iter().map(|(name, value)| (name.clone(), replaced(value))).collect();
        let pages = self.pages.iter().map(|page| replaced(page).into()).collect();
        let messages = self.messages.iter().map(|message| {
            let data = match &message.data {
                MessageData::Text(text) => {
                    MessageData::Text(String::from_utf8_lossy(&replaced(text.as_bytes())).into_owned())
                }
                MessageData::Binary(bytes) => MessageData::Binary(replaced(bytes).into()),
            };
            ConversationMessage { data, ..message.clone() }
        });
        Self { headers, body, size, trailers, pages, messages: messages.collect(), ..self.clone() }
    }

    /// Whether the whole body is held, with all messages and pages.
    pub fn is_body_complete(&self) -> bool {
        self.body.len() as u64 == self.size && !self.lacks_parts
    }

    /// The body as text, by its charset.
    pub fn text(&self) -> std::borrow::Cow<'_, str> {
        charset::decode(&self.body, &self.header("content-type").unwrap_or_default())
    }

    /// How the body is written, if it is a stream of events.
    pub fn stream_format(&self) -> Option<StreamFormat> {
        StreamFormat::of(&self.media_type())
    }

    /// The events of the body, if it is a stream.
    pub fn events(&self) -> Vec<StreamEvent> {
        let times = self.stream.as_ref().map(|stream| stream.times.as_slice()).unwrap_or_default();
        self.stream_format().map(|format| events_of(format, &self.body, times)).unwrap_or_default()
    }

    /// The redirects that were followed.
    pub fn redirects(&self) -> impl Iterator<Item = &Hop> {
        self.hops.iter().filter(|hop| hop.kind == HopKind::Redirect)
    }

    /// The first header field of that name as text, bytes that are not UTF-8 replaced.
    pub fn header(&self, name: &str) -> Option<std::borrow::Cow<'_, str>> {
        self.headers
            .iter()
            .find(|(own, _)| own.eq_ignore_ascii_case(name))
            .map(|(_, value)| String::from_utf8_lossy(value))
    }

    /// The media type without parameters, in lower case; empty where none is given.
    pub fn media_type(&self) -> String {
        let full = self.header("content-type").unwrap_or_default();
        full.split(';').next().unwrap_or_default().trim().to_ascii_lowercase()
    }
}

/// Why there is no usable response.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// Its kind.
    pub kind: FailureKind,
    /// The message.
    pub message: String,
    /// A hint at the cause.
    pub hint: Option<String>,
    /// How long it took to fail.
    pub elapsed: Duration,
}

impl Failure {
    /// The run was interrupted after this long, before the response was complete.
    pub fn interrupted(elapsed: Duration) -> Self {
        let hint = Some("the server may have processed the request".to_owned());
        let message = "interrupted before the response arrived".to_owned();
        Self { kind: FailureKind::Interrupted, message, hint, elapsed }
    }
}

/// The sorts of failure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FailureKind {
    /// The name is not known.
    NoSuchHost,
    /// Nothing listens there, or it turned us away.
    Refused,
    /// No response within the time limit.
    TimedOut,
    /// The connection closed before the response was complete.
    BrokenOff,
    /// TLS could not be agreed on, or the certificate is not valid.
    Tls,
    /// The response is not HTTP, or its coding is invalid.
    NotHttp,
    /// The response is larger than the limit.
    TooLarge,
    /// A redirect that leads nowhere, or too many.
    Redirect,
    /// The authorization server refused a token.
    NotAuthorized,
    /// The response could not be written to its file.
    NotSaved,
    /// The request was canceled.
    Interrupted,
    /// Anything else.
    Other,
}

impl FailureKind {
    /// A stable word for data output.
    pub fn as_str(self) -> &'static str {
        match self {
            FailureKind::NoSuchHost => "no-such-host",
            FailureKind::Refused => "refused",
            FailureKind::TimedOut => "timed-out",
            FailureKind::BrokenOff => "broken-off",
            FailureKind::Tls => "tls",
            FailureKind::NotHttp => "not-http",
            FailureKind::TooLarge => "too-large",
            FailureKind::Redirect => "redirect",
            FailureKind::NotAuthorized => "not-authorized",
            FailureKind::NotSaved => "not-saved",
            FailureKind::Interrupted => "interrupted",
            FailureKind::Other => "other",
        }
    }
}
