//! A connection that remembers the start of each response, so that a head that the HTTP library cannot parse can be
//! shown, and that still reads the response if the server stops reading the request.

use hyper::rt::{Read, ReadBuf, ReadBufCursor, Write};
use hyper_util::client::legacy::connect::{Connected, Connection};
use std::io;
use std::mem::MaybeUninit;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll, ready};
use tower::{Layer, Service};

/// Bytes of a response that are remembered.
const MAX_HEAD_BYTES: usize = 16 << 10;

/// Bytes read at once while a response is remembered.
const BLOCK_BYTES: usize = 4 << 10;

/// The start of the last response on a connection: its head, up to 16 KiB.
#[derive(Clone, Debug, Default)]
pub(crate) struct LastHead(Arc<Mutex<Vec<u8>>>);

impl LastHead {
    pub(crate) fn bytes(&self) -> Vec<u8> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// Makes every connection one that remembers.
#[derive(Clone, Copy, Debug)]
pub(crate) struct WatchConnections;

impl<S> Layer<S> for WatchConnections {
    type Service = WatchingConnector<S>;

    fn layer(&self, inner: S) -> Self::Service {
        WatchingConnector { inner }
    }
}

#[derive(Clone, Debug)]
pub(crate) struct WatchingConnector<S> {
    inner: S,
}

impl<S, R> Service<R> for WatchingConnector<S>
where
    S: Service<R>,
    S::Future: Send + 'static,
{
    type Response = Watched<S::Response>;
    type Error = S::Error;
    type Future = Pin<Box<dyn Future<Output = Result<Self::Response, S::Error>> + Send>>;

    fn poll_ready(&mut self, context: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        self.inner.poll_ready(context)
    }

    fn call(&mut self, request: R) -> Self::Future {
        let connecting = self.inner.call(request);
        Box::pin(async move { Ok(Watched::new(connecting.await?)) })
    }
}

/// A connection.
pub(crate) struct Watched<T> {
    inner: T,
    head: LastHead,
    /// The number of bytes remembered.
    state: State,
    /// The other end takes no more.
    takes_no_more: bool,
}

#[derive(Clone, Copy, PartialEq)]
enum State {
    /// A request is being sent: the next bytes read begin a response.
    Writing,
    /// This many bytes of the response are remembered.
    Reading(usize),
    /// The limit is reached.
    Remembered,
}

impl<T> Watched<T> {
    fn new(inner: T) -> Self {
        Self { inner, head: LastHead::default(), state: State::Writing, takes_no_more: false }
    }

    fn remember(&mut self, bytes: &[u8]) {
        let mut head = self.head.0.lock().unwrap_or_else(PoisonError::into_inner);
        let read = match self.state {
            State::Writing => {
                head.clear();
                0
            }
            State::Reading(read) => read,
            State::Remembered => return,
        };
        head.extend_from_slice(bytes);
        let mut from = read.saturating_sub(3);
        while let Some(end) = memchr::memmem::find(&head[from..], b"\r\n\r\n") {
            // After an interim response (RFC 9110 15.2) comes the final one.
            if !head.starts_with(b"HTTP/1.1 1") {
                return self.state = State::Remembered;
            }
            head.drain(..from + end + 4);
            from = 0;
        }
        self.state = if head.len() >= MAX_HEAD_BYTES { State::Remembered } else { State::Reading(head.len()) };
    }

    /// The outcome of a write. If the other end stops reading, it may have responded already: the rest of the request
    /// is dropped, and the response is read (RFC 9112 9.6). If there is none, reading fails.
    fn written(&mut self, outcome: Poll<io::Result<usize>>, length: usize) -> Poll<io::Result<usize>> {
        match outcome {
            Poll::Ready(Err(error))
                if matches!(error.kind(), io::ErrorKind::BrokenPipe | io::ErrorKind::ConnectionReset) =>
            {
                self.takes_no_more = true;
                Poll::Ready(Ok(length))
            }
            other => other,
        }
    }
}

impl<T: Read + Unpin> Read for Watched<T> {
    fn poll_read(self: Pin<&mut Self>, context: &mut Context<'_>, mut to: ReadBufCursor<'_>) -> Poll<io::Result<()>> {
        let this = self.get_mut();
        if this.state == State::Remembered {
            return Pin::new(&mut this.inner).poll_read(context, to);
        }
        let mut block = [MaybeUninit::uninit(); BLOCK_BYTES];
        let length = BLOCK_BYTES.min(to.remaining());
        let mut read = ReadBuf::uninit(&mut block[..length]);
        ready!(Pin::new(&mut this.inner).poll_read(context, read.unfilled()))?;
        let read = read.filled();
        to.put_slice(read);
        this.remember(read);
        Poll::Ready(Ok(()))
    }
}

impl<T: Write + Unpin> Write for Watched<T> {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let this = self.get_mut();
        this.state = State::Writing;
        if this.takes_no_more {
            return Poll::Ready(Ok(bytes.len()));
        }
        let outcome = Pin::new(&mut this.inner).poll_write(context, bytes);
        this.written(outcome, bytes.len())
    }

    fn is_write_vectored(&self) -> bool {
        self.inner.is_write_vectored()
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        pieces: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let this = self.get_mut();
        this.state = State::Writing;
        let length = pieces.iter().map(|piece| piece.len()).sum();
        if this.takes_no_more {
            return Poll::Ready(Ok(length));
        }
        let outcome = Pin::new(&mut this.inner).poll_write_vectored(context, pieces);
        this.written(outcome, length)
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let this = self.get_mut();
        if this.takes_no_more {
            return Poll::Ready(Ok(()));
        }
        Pin::new(&mut this.inner).poll_flush(context)
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.get_mut().inner).poll_shutdown(context)
    }
}

impl<T: Connection> Connection for Watched<T> {
    fn connected(&self) -> Connected {
        self.inner.connected().extra(self.head.clone())
    }
}
