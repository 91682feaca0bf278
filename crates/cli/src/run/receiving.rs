//! A stream of events while it arrives: what comes next, and the file that its bytes go to.

use super::cancel::or_cancelled;
use super::download::{Download, not_saved};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Notify;
use yieldtray_engine::ReadyRequest;
use yieldtray_http::{Exchange, Failure, FailureKind, PreparedRequest, StreamEnd, StreamEvent};
use yieldtray_transport::{Client, EventStream, NextEvents, Received, Sink};

/// A stream of events, with what arrived of it last.
pub(super) struct Receiving<'w> {
    pub(super) ready: Box<ReadyRequest<'w>>,
    pub(super) stream: Box<EventStream>,
    client: Arc<Client>,
    /// Where the bytes go. Those of the last step are written with the next, when it is known that all of them count.
    file: Option<Download>,
    /// The events that arrived last.
    pub(super) events: Vec<StreamEvent>,
    /// Why there are no more; without one, more may come.
    pub(super) end: Option<StreamEnd>,
}

/// Why a stream failed, with its request.
type Broken<'w> = (Box<ReadyRequest<'w>>, Failure);

impl<'w> Receiving<'w> {
    pub(super) fn begin(
        ready: Box<ReadyRequest<'w>>,
        mut stream: Box<EventStream>,
        client: Arc<Client>,
        mut file: Option<Download>,
    ) -> Self {
        if let Some(file) = &mut file {
            file.begin(None);
            stream.keep_bytes();
        }
        Self { ready, stream, client, file, events: Vec::new(), end: None }
    }

    /// Waits for the next events. What arrived before it is cut off is kept.
    pub(super) async fn next(mut self: Box<Self>, cut_off: &Arc<Notify>) -> Result<Box<Self>, Broken<'w>> {
        match self.receive(cut_off).await {
            Ok((events, end)) => {
                (self.events, self.end) = (events, end);
                Ok(self)
            }
            Err(failure) => Err((self.ready, failure)),
        }
    }

    async fn receive(&mut self, cut_off: &Arc<Notify>) -> Result<(Vec<StreamEvent>, Option<StreamEnd>), Failure> {
        self.write_bytes(None)?;
        let next = match or_cancelled(Arc::clone(cut_off), self.stream.next()).await {
            Ok(next) => next,
            Err(_) => return Ok((Vec::new(), Some(StreamEnd::Interrupted))),
        };
        let may_reconnect = self.stream.reconnected() < self.ready.reconnects();
        let events = match next {
            Ok(NextEvents::Arrived(events)) => return Ok((events, None)),
            Ok(NextEvents::TimeLimit) => return Ok((Vec::new(), Some(StreamEnd::TimeLimit))),
            Ok(NextEvents::Ended(events)) if may_reconnect => events,
            Ok(NextEvents::Ended(events)) => return Ok((events, Some(StreamEnd::Server))),
            // A connection that breaks is what connecting again is for.
            Err(failure) if failure.kind == FailureKind::BrokenOff && may_reconnect => Vec::new(),
            Err(failure) => return Err(failure),
        };
        match or_cancelled(Arc::clone(cut_off), reconnect(&mut self.stream, &self.ready, &self.client)).await {
            Ok(end) => Ok((events, end?)),
            Err(_) => Ok((events, Some(StreamEnd::Interrupted))),
        }
    }

    /// The exchange with what arrived: the first `count` events, whose last ends at `end`, if that is given.
    pub(super) fn finish(
        mut self: Box<Self>,
        why: StreamEnd,
        taken: Option<(u64, u64)>,
    ) -> (Box<ReadyRequest<'w>>, Result<Exchange, Failure>) {
        let written = self.write_bytes(taken.map(|(_, end)| end));
        let Self { ready, stream, file, .. } = *self;
        let exchange = stream.finish(why, taken);
        let finished = written.and_then(|()| file.map(Download::finish).transpose().map_err(not_saved));
        let exchange = finished.map(|file| match file {
            Some(file) if !exchange.is_body_complete() => Exchange { digest: Some(file.digest), ..exchange },
            _ => exchange,
        });
        (ready, exchange)
    }

    /// Writes the bytes that arrived since the last time into the file, those up to a position in the stream.
    fn write_bytes(&mut self, end: Option<u64>) -> Result<(), Failure> {
        let Some(file) = &mut self.file else { return Ok(()) };
        self.stream.take_bytes(end).iter().try_for_each(|bytes| file.write(bytes)).map_err(not_saved)
    }
}

/// How long is waited before a stream is connected again, if the server says nothing.
const RECONNECT_WAIT: Duration = Duration::from_secs(1);

/// Connects a stream again after its last event, within its time limit. Returns its end if there is nothing more.
async fn reconnect(
    stream: &mut EventStream,
    ready: &ReadyRequest<'_>,
    client: &Client,
) -> Result<Option<StreamEnd>, Failure> {
    let (request, wait) = stream.reconnection(RECONNECT_WAIT);
    // A server that wants a longer wait than there is time is asked no more.
    tokio::time::sleep(wait.min(stream.time_left())).await;
    let mut request = PreparedRequest::clone(&request);
    request.sending.timeout = stream.time_left();
    if request.sending.timeout.is_zero() {
        return Ok(Some(StreamEnd::TimeLimit));
    }
    match client.receive_or_stream(&Arc::new(request), 0, ready.largest_stream()).await {
        Ok(Received::Events(next)) => {
            stream.resume(*next);
            Ok(None)
        }
        // 204, for one, says that it is over (WHATWG HTML 9.2.2).
        Ok(_) => Ok(Some(StreamEnd::Server)),
        Err(failure) if failure.kind == FailureKind::TimedOut => Ok(Some(StreamEnd::TimeLimit)),
        Err(failure) => Err(failure),
    }
}
