//! A response that is a stream of events: they are handed on as they arrive.

use crate::body_reader::{BodyReader, ReadStop};
use crate::failure::{authority, failure};
use crate::incoming::IncomingResponse;
use bytes::Bytes;
use std::sync::Arc;
use std::time::{Duration, Instant};
use yieldtray_http::{
    EventReader, Exchange, Failure, FailureKind, MAX_EVENT_BYTES, MAX_KEPT_EVENTS, PreparedRequest, StreamEnd,
    StreamEvent, StreamFormat, StreamRecord,
};

/// A stream of events. What arrived is held up to a limit, for checks and the log.
pub struct EventStream {
    exchange: Exchange,
    body: BodyReader,
    reader: EventReader,
    held: Vec<u8>,
    /// How many bytes are held at most.
    most: u64,
    size: u64,
    /// Where the body of the present connection begins in all of it.
    connection_start: u64,
    /// Bytes that nobody took yet, if somebody takes them.
    untaken: Option<Vec<Bytes>>,
    /// How many bytes were taken.
    taken: u64,
    times: Vec<Duration>,
    count: u64,
    reconnected: u32,
    start: Instant,
}

/// The next of a stream.
pub enum NextEvents {
    /// These arrived.
    Arrived(Vec<StreamEvent>),
    /// The server ended the stream, after these.
    Ended(Vec<StreamEvent>),
    /// The time limit is over.
    TimeLimit,
}

impl EventStream {
    pub(crate) fn new(
        exchange: Exchange,
        format: StreamFormat,
        response: IncomingResponse,
        most: u64,
        start: Instant,
    ) -> Self {
        let body = BodyReader::new(response, Arc::clone(&exchange.sent), start);
        let reader = EventReader::new(format);
        let (held, times) = (Vec::new(), Vec::new());
        let (size, connection_start, count, reconnected) = (0, 0, 0, 0);
        let (untaken, taken) = (None, 0);
        Self {
            exchange,
            body,
            reader,
            held,
            most,
            size,
            connection_start,
            untaken,
            taken,
            times,
            count,
            reconnected,
            start,
        }
    }

    /// From now on the bytes that arrive are kept for [`Self::take_bytes`].
    pub fn keep_bytes(&mut self) {
        self.untaken.get_or_insert_default();
    }

    /// The bytes that arrived since the last time, those up to the position `end` of the stream if that is given.
    pub fn take_bytes(&mut self, end: Option<u64>) -> Vec<Bytes> {
        let mut taken = self.untaken.as_mut().map(std::mem::take).unwrap_or_default();
        for bytes in &mut taken {
            let most = end.unwrap_or(u64::MAX).saturating_sub(self.taken);
            bytes.truncate(usize::try_from(most).unwrap_or(usize::MAX));
            self.taken += bytes.len() as u64;
        }
        taken
    }

    /// The head of the response.
    pub fn exchange(&self) -> &Exchange {
        &self.exchange
    }

    /// How many events arrived.
    pub fn count(&self) -> u64 {
        self.count
    }

    /// Waits for the next events, until the time limit of the request at most. Nothing is lost if the wait is given up.
    ///
    /// # Errors
    /// If the connection breaks, or what arrives is no such stream.
    pub async fn next(&mut self) -> Result<NextEvents, Failure> {
        let deadline = self.start + self.exchange.sent.sending.timeout;
        loop {
            let Ok(read) = tokio::time::timeout_at(deadline.into(), self.body.read()).await else {
                return Ok(NextEvents::TimeLimit);
            };
            let at = Some(self.start.elapsed());
            let mut events = Vec::new();
            let bytes = match read {
                Ok(bytes) => bytes,
                Err(ReadStop::End) => {
                    events.extend(self.reader.finish(at));
                    self.note(&mut events);
                    self.exchange.trailers = self.body.take_trailers();
                    return Ok(NextEvents::Ended(events));
                }
                Err(ReadStop::Failed(failure)) => return Err(*failure),
            };
            if self.reader.read(&bytes, at, &mut events).is_err() {
                let url = &self.exchange.sent.url;
                let message = format!("an event from {} is longer than {} MiB", authority(url), MAX_EVENT_BYTES >> 20);
                return Err(failure(FailureKind::TooLarge, message, None, self.start.elapsed()));
            }
            self.hold(&bytes);
            if !events.is_empty() {
                self.note(&mut events);
                return Ok(NextEvents::Arrived(events));
            }
        }
    }

    fn hold(&mut self, bytes: &Bytes) {
        self.size += bytes.len() as u64;
        if let Some(untaken) = &mut self.untaken {
            untaken.push(bytes.clone());
        }
        if self.size <= self.most {
            self.held.extend_from_slice(bytes);
        } else {
            // Part of a stream would be taken for all of it.
            (self.held, self.times) = (Vec::new(), Vec::new());
        }
    }

    fn note(&mut self, events: &mut [StreamEvent]) {
        if self.count >= MAX_KEPT_EVENTS as u64 {
            // No expression reads them any more.
            (self.held, self.times, self.most) = (Vec::new(), Vec::new(), 0);
        }
        self.count += events.len() as u64;
        for event in events {
            event.end += self.connection_start;
            if self.size <= self.most {
                self.times.extend(event.at);
            }
        }
    }

    /// The request that goes on with the stream after its last event (WHATWG HTML 9.2.4), and how long to wait before.
    pub fn reconnection(&self, usual_wait: Duration) -> (Arc<PreparedRequest>, Duration) {
        let mut request = PreparedRequest::clone(&self.exchange.sent);
        request.headers.retain(|(name, _)| !name.eq_ignore_ascii_case("last-event-id"));
        let id = self.reader.last_id();
        if !id.is_empty() {
            request.headers.push(("Last-Event-ID".into(), id.to_owned().into()));
        }
        (Arc::new(request), self.reader.retry().unwrap_or(usual_wait))
    }

    /// Goes on with the stream of another connection.
    pub fn resume(&mut self, next: EventStream) {
        self.reader = self.reader.reconnected();
        self.connection_start = self.size;
        self.reconnected += 1;
        self.body = next.body;
    }

    /// How often it was connected again.
    pub fn reconnected(&self) -> u32 {
        self.reconnected
    }

    /// How much of the time limit is left.
    pub fn time_left(&self) -> Duration {
        self.exchange.sent.sending.timeout.saturating_sub(self.start.elapsed())
    }

    /// The exchange with what arrived: the first `count` events, whose last ends at `end`, if that is given.
    pub fn finish(mut self, why: StreamEnd, taken: Option<(u64, u64)>) -> Exchange {
        let is_held = self.size <= self.most;
        if let Some((count, end)) = taken {
            self.count = count;
            self.size = end;
            self.held.truncate(usize::try_from(end).unwrap_or(usize::MAX));
            self.times.truncate(usize::try_from(count).unwrap_or(usize::MAX));
        }
        let exchange = &mut self.exchange;
        exchange.timings.total = self.start.elapsed();
        exchange.timings.receive = exchange.timings.total.saturating_sub(exchange.timings.wait);
        exchange.size = self.size;
        if is_held {
            exchange.body = self.held.into();
        }
        let (count, times, reconnected) = (self.count, self.times, self.reconnected);
        exchange.stream = Some(StreamRecord { count, times, end: why, reconnected });
        self.exchange
    }
}
