//! The bytes of a response body as they arrive, with content codings taken off (RFC 9110 8.4.1).

use crate::failure::{authority, describe, failure};
use crate::incoming::{IncomingResponse, SendError};
use async_compression::tokio::bufread::{BrotliDecoder, GzipDecoder, ZlibDecoder, ZstdDecoder};
use bytes::{Bytes, BytesMut};
use futures_util::{TryStreamExt, stream};
use std::io;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;
use tokio::io::{AsyncRead, AsyncReadExt, BufReader};
use tokio_util::io::StreamReader;
use yieldtray_http::{Failure, FailureKind, PreparedRequest};

/// Content codings that one body may have. Each takes memory and stack, and no server needs more than one.
const MAX_CODINGS: usize = 5;

/// The content codings that are taken off (RFC 9110 8.4.1, RFC 7932, RFC 8878).
const KNOWN_CODINGS: [&str; 5] = ["gzip", "x-gzip", "br", "zstd", "deflate"];

/// Bytes decoded at once.
const BLOCK_BYTES: usize = 64 << 10;

/// Reads a body piece by piece.
pub(crate) struct BodyReader {
    source: Source,
    codings: Vec<String>,
    sent: Arc<PreparedRequest>,
    start: Instant,
    /// A note about codings that are not known.
    pub(crate) note: Option<String>,
    /// Why it cannot be read at all.
    refused: Option<Box<Failure>>,
}

enum Source {
    Plain(Box<IncomingResponse>),
    /// Nothing was read of it yet: a response to HEAD names a coding and has no body.
    Coded(Box<IncomingResponse>),
    Decoded(Box<dyn AsyncRead + Unpin + Send>, Trailers),
    Ended(Fields),
}

/// Header or trailer fields.
type Fields = Vec<(String, Vec<u8>)>;

/// The trailer fields, which come when a body under decoders has been read.
type Trailers = Arc<Mutex<Fields>>;

/// Why there are no more bytes.
pub(crate) enum ReadStop {
    /// That was all.
    End,
    /// Something went wrong.
    Failed(Box<Failure>),
}

impl BodyReader {
    pub(crate) fn new(response: IncomingResponse, sent: Arc<PreparedRequest>, start: Instant) -> Self {
        let mut codings = codings(&response);
        // An unknown coding is taken as it is: many servers announce one without using it.
        let unknown = codings.iter().find(|coding| !KNOWN_CODINGS.contains(&coding.as_str()));
        let note = unknown.map(|coding| format!("unknown Content-Encoding `{coding}`: the body is not decoded"));
        if note.is_some() {
            codings.clear();
        }
        let refused = (codings.len() > MAX_CODINGS).then(|| {
            let message =
                format!("{} declares {} content codings, more than {MAX_CODINGS}", authority(&sent.url), codings.len());
            Box::new(failure(FailureKind::NotHttp, message, None, start.elapsed()))
        });
        let response = Box::new(response);
        let source = if codings.is_empty() { Source::Plain(response) } else { Source::Coded(response) };
        Self { source, codings, sent, start, note, refused }
    }

    /// Whether it has a content coding.
    pub(crate) fn is_coded(&self) -> bool {
        !self.codings.is_empty()
    }

    /// The next bytes, at least one. Nothing is lost if the wait is given up.
    pub(crate) async fn read(&mut self) -> Result<Bytes, ReadStop> {
        if let Some(failure) = self.refused.take() {
            return Err(ReadStop::Failed(failure));
        }
        loop {
            match &mut self.source {
                Source::Plain(response) => match response.chunk().await {
                    Ok(Some(chunk)) if chunk.is_empty() => {}
                    Ok(Some(chunk)) => return Ok(chunk),
                    Ok(None) => self.source = Source::Ended(response.trailers()),
                    Err(error) => return Err(self.failed(&error)),
                },
                Source::Coded(response) => {
                    let first = match response.chunk().await {
                        Ok(Some(first)) => first,
                        Ok(None) => {
                            self.source = Source::Ended(Fields::new());
                            continue;
                        }
                        Err(error) => return Err(self.failed(&error)),
                    };
                    self.decode(first);
                }
                Source::Decoded(reader, trailers) => {
                    let mut block = BytesMut::with_capacity(BLOCK_BYTES);
                    match reader.read_buf(&mut block).await {
                        Ok(0) => {
                            let trailers =
                                std::mem::take(&mut *trailers.lock().unwrap_or_else(PoisonError::into_inner));
                            self.source = Source::Ended(trailers);
                        }
                        Ok(_) => return Ok(block.freeze()),
                        Err(error) => return Err(self.not_decoded(&error)),
                    }
                }
                Source::Ended(_) => return Err(ReadStop::End),
            }
        }
    }

    /// The trailer fields, after the end.
    pub(crate) fn take_trailers(&mut self) -> Fields {
        match &mut self.source {
            Source::Ended(trailers) => std::mem::take(trailers),
            _ => Fields::new(),
        }
    }

    /// Puts decoders over a body of which the first bytes were read.
    fn decode(&mut self, first: Bytes) {
        let trailers = Trailers::default();
        let Source::Coded(response) = std::mem::replace(&mut self.source, Source::Ended(Fields::new())) else {
            return;
        };
        let kept = Arc::clone(&trailers);
        let chunks = stream::try_unfold((Some(first), response), move |(first, mut rest)| {
            let kept = Arc::clone(&kept);
            async move {
                let chunk = match first {
                    Some(first) => Some(first),
                    None => rest.chunk().await?,
                };
                if chunk.is_none() {
                    *kept.lock().unwrap_or_else(PoisonError::into_inner) = rest.trailers();
                }
                Ok::<_, SendError>(chunk.map(|chunk| (chunk, (None, rest))))
            }
        });
        let mut reader: Box<dyn AsyncRead + Unpin + Send> =
            Box::new(StreamReader::new(Box::pin(chunks.map_err(io::Error::other))));
        for coding in self.codings.iter().rev() {
            let coded = BufReader::new(reader);
            reader = match coding.as_str() {
                "gzip" | "x-gzip" => Box::new(GzipDecoder::new(coded)),
                "br" => Box::new(BrotliDecoder::new(coded)),
                "zstd" => Box::new(ZstdDecoder::new(coded)),
                _ => Box::new(ZlibDecoder::new(coded)),
            };
        }
        self.source = Source::Decoded(reader, trailers);
    }

    fn failed(&self, error: &SendError) -> ReadStop {
        ReadStop::Failed(Box::new(describe(error, &self.sent.url, self.start.elapsed())))
    }

    /// The library's own error travels inside; anything else is a broken coding.
    fn not_decoded(&self, error: &io::Error) -> ReadStop {
        match error.get_ref().and_then(|inner| inner.downcast_ref::<SendError>()) {
            Some(inner) => self.failed(inner),
            None => {
                let (from, codings) = (authority(&self.sent.url), self.codings.join(", "));
                let message = format!("the response body from {from} is not {codings}: {error}");
                ReadStop::Failed(Box::new(failure(FailureKind::NotHttp, message, None, self.start.elapsed())))
            }
        }
    }
}

fn codings(response: &IncomingResponse) -> Vec<String> {
    let lines = response.headers().get_all("content-encoding");
    let codings = lines.iter().flat_map(|value| {
        let line = String::from_utf8_lossy(value.as_bytes()).to_ascii_lowercase();
        line.split(',').map(|coding| coding.trim().to_owned()).collect::<Vec<_>>()
    });
    codings.filter(|coding| !coding.is_empty() && coding != "identity").collect()
}
