//! Receives response bodies, and never holds more than is allowed.

use crate::body_reader::{BodyReader, ReadStop};
use crate::failure::{authority, failure};
use crate::incoming::IncomingResponse;
use bytes::{Bytes, BytesMut};
use std::io;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use url::Url;
use yieldtray_http::{Failure, FailureKind, PreparedRequest};

/// Bytes a second that a body on its way to a file must bring on average, once it has had the time limit: one that
/// drips would otherwise take for ever.
const MIN_BYTES_PER_SECOND: u64 = 1 << 10;

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
    /// The trailer fields.
    pub(crate) trailers: Vec<(String, Vec<u8>)>,
}

/// Reads the whole body, without content coding (RFC 9110 8.4.1).
pub(crate) async fn read(
    response: IncomingResponse,
    sent: &Arc<PreparedRequest>,
    target: Target<'_>,
    pace: ReadLimits,
    (start, counter): (Instant, &AtomicU64),
) -> Result<Received, Failure> {
    let length = response.content_length();
    let mut reader = BodyReader::new(response, Arc::clone(sent), start);
    let digest = matches!(target, Target::UpTo(_)).then(blake3::Hasher::new);
    let note = reader.note.take();
    let mut gathered =
        BodyCollector { target, pace, url: &sent.url, start, note, digest, held: BytesMut::new(), size: 0 };
    gathered.begin(length.filter(|_| !reader.is_coded()));
    // Most bodies come in one piece, which needs no copy.
    let mut whole: Option<Bytes> = None;
    loop {
        let chunk = match gathered.within(reader.read()).await? {
            Ok(chunk) => chunk,
            Err(ReadStop::End) => break,
            Err(ReadStop::Failed(failure)) => return Err(*failure),
        };
        counter.fetch_add(chunk.len() as u64, Ordering::Relaxed);
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
    let trailers = reader.take_trailers();
    Ok(match whole {
        Some(held) => Received { held, size: gathered.size, note: gathered.note, digest: None, trailers },
        None => Received { trailers, ..gathered.received() },
    })
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
        Received { held: self.held.freeze(), size: self.size, note: self.note, digest, trailers: Vec::new() }
    }
}

fn mebibytes(bytes: u64) -> String {
    if bytes < 1 << 20 { format!("{bytes} bytes") } else { format!("{} MiB", bytes >> 20) }
}
