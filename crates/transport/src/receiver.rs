//! The destination of a response, and the result of sending a request.

use crate::body::{Sink, Target};
use crate::conversation::Conversation;
use crate::event_stream::EventStream;
use yieldtray_http::{Exchange, StreamEnd, StreamFormat};

/// The destination of the last response's body.
pub(crate) enum Receiver<'s> {
    /// Memory, up to so many bytes if there is a limit.
    Memory(Option<u64>),
    /// The same; but a stream of events or a conversation is returned, to be held up to `streamed` bytes.
    Streaming { most: Option<u64>, streamed: u64 },
    /// Something that takes it as it comes; whether it is held besides; and which streams are returned.
    Sink(&'s mut dyn Sink, bool, Streaming),
}

/// Which streams of events are received event by event.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Streaming {
    /// How many bytes are held at most.
    pub most: u64,
    /// Also lines or a sequence of JSON, which may as well be a long document; else server-sent events only.
    pub json: bool,
}

impl Receiver<'_> {
    /// The format of a response that is received event by event, and how many bytes of it are held.
    pub(crate) fn stream_of(&self, exchange: &Exchange) -> Option<(StreamFormat, u64)> {
        let Streaming { most, json } = match *self {
            Receiver::Memory(_) => return None,
            Receiver::Streaming { streamed, .. } => Streaming { most: streamed, json: true },
            Receiver::Sink(_, _, streaming) => streaming,
        };
        let format = exchange.stream_format().filter(|format| json || *format == StreamFormat::ServerSent)?;
        Some((format, most))
    }

    /// Where a body goes that is received as a whole.
    pub(crate) fn target(&mut self) -> Target<'_> {
        match self {
            Receiver::Memory(most) | Receiver::Streaming { most, .. } => most.map_or(Target::Memory, Target::UpTo),
            Receiver::Sink(sink, hold, _) => Target::Sink { sink: &mut **sink, hold: *hold },
        }
    }
}

/// The result of sending a request.
#[allow(clippy::large_enum_variant)] // nearly always a whole response, which a box would only slow down
pub enum Received {
    /// A whole response.
    Whole(Exchange),
    /// The beginning of a stream of events.
    Events(Box<EventStream>),
    /// The beginning of a conversation.
    Conversation(Box<Conversation>),
}

impl Received {
    /// The exchange with what arrived so far.
    pub fn into_exchange(self) -> Exchange {
        match self {
            Received::Whole(exchange) => exchange,
            Received::Events(stream) => stream.finish(StreamEnd::Interrupted, None),
            Received::Conversation(conversation) => conversation.exchange().clone(),
        }
    }
}
