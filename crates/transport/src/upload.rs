//! A body on its way out: files are read while they are sent, and never held.

use bytes::Bytes;
use futures_util::stream::{self, Stream, StreamExt};
use http_body::{Frame, SizeHint};
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;
use tokio::io::AsyncReadExt;
use tokio::sync::watch;
use tokio_util::io::ReaderStream;
use yieldtray_http::{Body, BodyPart, FileBody};

/// Bytes read of a file at once.
const BLOCK_BYTES: usize = 256 << 10;

type Chunks = Pin<Box<dyn Stream<Item = io::Result<Bytes>> + Send + Sync>>;

/// The body of `content` for the HTTP library.
pub(crate) fn body(content: &Body) -> reqwest::Body {
    match content {
        Body::Bytes(bytes) => bytes.clone().into(),
        Body::Pieces(pieces) => {
            let chunks = stream::iter(pieces.clone()).flat_map(|piece| match piece {
                BodyPart::Bytes(bytes) => Box::pin(stream::iter([Ok(bytes)])) as Chunks,
                BodyPart::File(file) => Box::pin(stream::once(open(file)).flat_map(|opened| match opened {
                    Ok(chunks) => chunks,
                    Err(error) => Box::pin(stream::iter([Err(error)])) as Chunks,
                })),
            });
            reqwest::Body::wrap(Upload { chunks: Box::pin(chunks), left: content.size() })
        }
    }
}

/// A body that waits until the server asks for it (RFC 9110 10.1.1), or stays silent for a moment; if the server
/// responds otherwise, the body is never sent.
pub(crate) fn gated(body: reqwest::Body, gate: &Gate) -> reqwest::Body {
    let waiting = Box::pin(gate.clone().opened());
    reqwest::Body::wrap(Gated { body, waiting: Some(waiting) })
}

/// How long a server may take to say that it wants a body.
const CONTINUE_TIMEOUT: Duration = Duration::from_secs(1);

/// Whether a body may go out.
#[derive(Clone, Debug)]
pub(crate) struct Gate(Arc<watch::Sender<Option<bool>>>);

impl Gate {
    pub(crate) fn new() -> Self {
        Self(Arc::new(watch::Sender::new(None)))
    }

    /// The body may go out.
    pub(crate) fn open(&self) {
        self.decide(true);
    }

    /// It may not, if it does not yet.
    pub(crate) fn close(&self) {
        self.decide(false);
    }

    fn decide(&self, opens: bool) {
        self.0.send_if_modified(|decided| {
            let first = decided.is_none();
            *decided = decided.or(Some(opens));
            first
        });
    }

    /// Ends when the body may go out.
    async fn opened(self) {
        let mut decided = self.0.subscribe();
        let said = async { decided.wait_for(Option::is_some).await.is_ok_and(|opens| *opens == Some(true)) };
        let opens = tokio::time::timeout(CONTINUE_TIMEOUT, said).await.unwrap_or_else(|_| {
            self.open();
            true
        });
        if !opens {
            std::future::pending::<()>().await;
        }
    }
}

struct Gated {
    body: reqwest::Body,
    waiting: Option<Pin<Box<dyn Future<Output = ()> + Send + Sync>>>,
}

impl http_body::Body for Gated {
    type Data = Bytes;
    type Error = reqwest::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, reqwest::Error>>> {
        if let Some(waiting) = &mut self.waiting {
            std::task::ready!(waiting.as_mut().poll(context));
            self.waiting = None;
        }
        Pin::new(&mut self.body).poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}

/// The bytes of a file, just as many as were promised.
async fn open(file: FileBody) -> io::Result<Chunks> {
    let named = |error: io::Error| io::Error::new(error.kind(), format!("cannot read `{}`: {error}", file.shown));
    let opened = tokio::fs::File::open(&file.path).await.map_err(named)?;
    Ok(Box::pin(ReaderStream::with_capacity(opened.take(file.size), BLOCK_BYTES)))
}

/// A body whose length is known before it is read.
struct Upload {
    chunks: Chunks,
    left: u64,
}

impl http_body::Body for Upload {
    type Data = Bytes;
    type Error = io::Error;

    fn poll_frame(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<io::Result<Frame<Bytes>>>> {
        match self.chunks.as_mut().poll_next(context) {
            Poll::Pending => Poll::Pending,
            Poll::Ready(Some(Ok(chunk))) => {
                self.left = self.left.saturating_sub(chunk.len() as u64);
                Poll::Ready(Some(Ok(Frame::data(chunk))))
            }
            Poll::Ready(None) if self.left > 0 => {
                self.left = 0;
                Poll::Ready(Some(Err(io::Error::other("a file was truncated while it was sent"))))
            }
            Poll::Ready(other) => Poll::Ready(other.map(|outcome| outcome.map(Frame::data))),
        }
    }

    fn is_end_stream(&self) -> bool {
        self.left == 0
    }

    fn size_hint(&self) -> SizeHint {
        SizeHint::with_exact(self.left)
    }
}
