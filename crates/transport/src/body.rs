//! Reads response bodies: decodes content codings, and never holds more than is allowed.

use crate::failure::{authority, describe, failure};
use crate::incoming::{IncomingResponse, SendError};
use async_compression::tokio::bufread::{BrotliDecoder, GzipDecoder, ZlibDecoder, ZstdDecoder};
use bytes::{Bytes, BytesMut};
use futures_util::{StreamExt, TryStreamExt, stream};
use std::io;
use std::time::{Duration, Instant};
use tokio::io::{AsyncRead, AsyncReadExt, BufReader};
use tokio_util::io::StreamReader;
use url::Url;
use yieldtray_http::{Failure, FailureKind};

/// Content codings that one body may have. Each takes memory and stack, and no server needs more than one.
const MAX_CODINGS: usize = 5;

/// The content codings that are taken off (RFC 9110 8.4.1, RFC 7932, RFC 8878).
const KNOWN_CODINGS: [&str; 5] = ["gzip", "x-gzip", "br", "zstd", "deflate"];

/// Bytes a second that a body on its way to a file must bring on average, once it has had the time limit: one that
/// drips would otherwise take for ever.
const MIN_BYTES_PER_SECOND: u64 = 1 << 10;

/// Bytes decoded at once.
const BLOCK_BYTES: usize = 64 << 10;

/// Where a body goes that is not only held.
pub trait Sink: Send + Sync {
    /// The head was received; `length` is the announced number of bytes.
    fn begin(&mut self, length: Option<u64>);

    /// Takes the next bytes.
    ///
    /// # Errors
    /// If they cannot be kept: the exchange then fails.
    fn write(&mut self, bytes: &[u8]) -> io::Result<()>;
}

/// Where this body goes.
pub(crate) enum Target<'s> {
    /// It is held.
    Memory,
    /// It is held if it has at most so many bytes; of a larger one the digest stays.
    UpTo(u64),
    /// It is passed on, and with `hold` held too while it is within the limit.
    Sink { sink: &'s mut dyn Sink, hold: bool },
}

/// How much and how long is waited for.
#[derive(Clone, Copy)]
pub(crate) struct ReadLimits {
    /// How long a sink waits for the next bytes.
    pub(crate) each: Duration,
    /// How many bytes are held.
    pub(crate) limit: u64,
}

/// The bytes received.
pub(crate) struct Received {
    pub(crate) held: Bytes,
    pub(crate) size: u64,
    /// Notes about it.
    pub(crate) note: Option<String>,
    /// The BLAKE3 digest of a body that is not held, in hexadecimal digits.
    pub(crate) digest: Option<String>,
}

/// Reads the whole body, without content coding (RFC 9110 8.4.1).
pub(crate) async fn read(
    response: IncomingResponse,
    url: &Url,
    target: Target<'_>,
    pace: ReadLimits,
    start: Instant,
) -> Result<Received, Failure> {
    let mut codings = codings(&response);
    // An unknown coding is taken as it is: many servers announce one without using it.
    let unknown = codings.iter().find(|coding| !KNOWN_CODINGS.contains(&coding.as_str()));
    let note = unknown.map(|coding| format!("unknown Content-Encoding `{coding}`: the body is not decoded"));
    if note.is_some() {
        codings.clear();
    }
    if codings.len() > MAX_CODINGS {
        let message = format!("{} declares {} content codings, more than {MAX_CODINGS}", authority(url), codings.len());
        return Err(failure(FailureKind::NotHttp, message, None, start.elapsed()));
    }
    let digest = matches!(target, Target::UpTo(_)).then(blake3::Hasher::new);
    let mut gathered = BodyCollector { target, pace, url, start, note, digest, held: BytesMut::new(), size: 0 };
    gathered.begin(response.content_length().filter(|_| codings.is_empty()));
    if codings.is_empty() { plain(response, gathered).await } else { decoded(response, &codings, gathered).await }
}

fn codings(response: &IncomingResponse) -> Vec<String> {
    let lines = response.headers().get_all("content-encoding");
    let codings = lines.iter().flat_map(|value| {
        let line = String::from_utf8_lossy(value.as_bytes()).to_ascii_lowercase();
        line.split(',').map(|coding| coding.trim().to_owned()).collect::<Vec<_>>()
    });
    codings.filter(|coding| !coding.is_empty() && coding != "identity").collect()
}

async fn plain(mut response: IncomingResponse, mut gathered: BodyCollector<'_, '_>) -> Result<Received, Failure> {
    // Most bodies come in one piece, which needs no copy.
    let mut whole: Option<Bytes> = None;
    loop {
        let (url, start) = (gathered.url, gathered.start);
        let next = gathered.within(response.chunk()).await?;
        let Some(chunk) = next.map_err(|error| describe(&error, url, start.elapsed()))? else { break };
        if matches!(gathered.target, Target::Memory) && whole.is_none() && gathered.size == 0 {
            gathered.size = chunk.len() as u64;
            gathered.check_limit()?;
            whole = Some(chunk);
            continue;
        }
        if let Some(first) = whole.take() {
            gathered.held.extend_from_slice(&first);
        }
        gathered.take(&chunk)?;
    }
    Ok(match whole {
        Some(held) => Received { held, size: gathered.size, note: gathered.note, digest: None },
        None => gathered.received(),
    })
}

async fn decoded(
    mut response: IncomingResponse,
    codings: &[String],
    mut gathered: BodyCollector<'_, '_>,
) -> Result<Received, Failure> {
    let (url, start) = (gathered.url, gathered.start);
    // A response to HEAD names the coding that a body would have, and has none.
    let first = gathered.within(response.chunk()).await?.map_err(|error| describe(&error, url, start.elapsed()))?;
    let Some(first) = first else { return Ok(gathered.received()) };
    let chunks = stream::iter([Ok(first)]).chain(response.chunks()).map_err(io::Error::other);
    let mut reader: Box<dyn AsyncRead + Unpin + Send> = Box::new(StreamReader::new(Box::pin(chunks)));
    for coding in codings.iter().rev() {
        let coded = BufReader::new(reader);
        reader = match coding.as_str() {
            "gzip" | "x-gzip" => Box::new(GzipDecoder::new(coded)),
            "br" => Box::new(BrotliDecoder::new(coded)),
            "zstd" => Box::new(ZstdDecoder::new(coded)),
            _ => Box::new(ZlibDecoder::new(coded)),
        };
    }
    let mut block = vec![0; BLOCK_BYTES];
    loop {
        let read = match gathered.within(reader.read(&mut block)).await? {
            Ok(0) => return Ok(gathered.received()),
            Ok(read) => read,
            // The library's own error travels inside; anything else is a broken coding.
            Err(error) => {
                return Err(match error.get_ref().and_then(|inner| inner.downcast_ref::<SendError>()) {
                    Some(inner) => describe(inner, url, start.elapsed()),
                    None => {
                        let message =
                            format!("the response body from {} is not {}: {error}", authority(url), codings.join(", "));
                        failure(FailureKind::NotHttp, message, None, start.elapsed())
                    }
                });
            }
        };
        gathered.take(&block[..read])?;
    }
}

/// The bytes received so far, and their destination.
struct BodyCollector<'s, 'u> {
    target: Target<'s>,
    pace: ReadLimits,
    url: &'u Url,
    start: Instant,
    note: Option<String>,
    digest: Option<blake3::Hasher>,
    held: BytesMut,
    size: u64,
}

impl BodyCollector<'_, '_> {
    fn begin(&mut self, length: Option<u64>) {
        if let Target::Sink { sink, .. } = &mut self.target {
            sink.begin(length);
        }
    }

    /// Waits for the next bytes: with a sink, no longer than is allowed for each wait.
    async fn within<T>(&self, next: impl Future<Output = T>) -> Result<T, Failure> {
        if self.is_timed_as_a_whole() {
            return Ok(next.await);
        }
        tokio::time::timeout(self.pace.each, next).await.map_err(|_| {
            let seconds = self.pace.each.as_secs_f64();
            let message = format!(
                "{} stopped sending: {} bytes received, then nothing for {seconds} s",
                authority(self.url),
                self.size
            );
            failure(FailureKind::TimedOut, message, None, self.start.elapsed())
        })
    }

    fn take(&mut self, bytes: &[u8]) -> Result<(), Failure> {
        self.size += bytes.len() as u64;
        self.check_limit()?;
        self.check_pace()?;
        let hold = match &mut self.target {
            Target::Memory => true,
            Target::UpTo(most) => {
                if let Some(digest) = &mut self.digest {
                    digest.update(bytes);
                }
                if self.size > *most {
                    self.held = BytesMut::new();
                }
                self.size <= *most
            }
            Target::Sink { sink, hold } => {
                if let Err(error) = sink.write(bytes) {
                    let message = format!("the body cannot be written: {error}");
                    return Err(failure(FailureKind::NotSaved, message, None, self.start.elapsed()));
                }
                // A body that is too large for memory is not held at all: judging half of it would be wrong.
                if self.size > self.pace.limit {
                    *hold = false;
                    self.held = BytesMut::new();
                }
                *hold
            }
        };
        if hold {
            self.held.extend_from_slice(bytes);
        }
        Ok(())
    }

    /// Whether the time limit holds for the exchange, and not for each wait.
    fn is_timed_as_a_whole(&self) -> bool {
        matches!(self.target, Target::Memory | Target::UpTo(_))
    }

    /// Fails a body on its way to a file that comes too slowly to ever end.
    fn check_pace(&self) -> Result<(), Failure> {
        let elapsed = self.start.elapsed();
        let late = elapsed.saturating_sub(self.pace.each).as_secs();
        if self.is_timed_as_a_whole() || self.size >= late.saturating_mul(MIN_BYTES_PER_SECOND) {
            return Ok(());
        }
        let seconds = elapsed.as_secs();
        let message = format!(
            "{} sends too slowly: {} bytes in {seconds} s, less than {MIN_BYTES_PER_SECOND} per second",
            authority(self.url),
            self.size
        );
        Err(failure(FailureKind::TimedOut, message, None, elapsed))
    }

    fn check_limit(&self) -> Result<(), Failure> {
        if self.size <= self.pace.limit || !matches!(self.target, Target::Memory) {
            return Ok(());
        }
        let message =
            format!("the response body from {} is larger than {}", authority(self.url), mebibytes(self.pace.limit));
        let hint = "use `--output FILE` for any size, or raise `body_limit` in `[send]`";
        Err(failure(FailureKind::TooLarge, message, Some(hint), self.start.elapsed()))
    }

    fn received(self) -> Received {
        let is_held = self.held.len() as u64 == self.size;
        let digest = self.digest.filter(|_| !is_held).map(|digest| digest.finalize().to_hex().to_string());
        Received { held: self.held.freeze(), size: self.size, note: self.note, digest }
    }
}

fn mebibytes(bytes: u64) -> String {
    if bytes < 1 << 20 { format!("{bytes} bytes") } else { format!("{} MiB", bytes >> 20) }
}
