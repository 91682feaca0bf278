//! Reading an answer's body: content codings taken off, never more than is allowed.

use crate::failure::{authority, describe, failure};
use async_compression::tokio::bufread::{BrotliDecoder, GzipDecoder, ZlibDecoder, ZstdDecoder};
use bytes::{Bytes, BytesMut};
use futures_util::TryStreamExt;
use std::io;
use std::time::Instant;
use tokio::io::{AsyncRead, AsyncReadExt, BufReader};
use tokio_util::io::StreamReader;
use url::Url;
use yieldtray_core::response::{Failure, FailureKind};

/// Reads the whole body, without content coding (RFC 9110 8.4.1), up to `limit` bytes.
pub(crate) async fn read(
    response: reqwest::Response,
    url: &Url,
    limit: usize,
    start: Instant,
) -> Result<Bytes, Failure> {
    let codings: Vec<String> = response
        .headers()
        .get_all("content-encoding")
        .iter()
        .flat_map(|value| {
            String::from_utf8_lossy(value.as_bytes())
                .to_ascii_lowercase()
                .split(',')
                .map(|c| c.trim().to_owned())
                .collect::<Vec<_>>()
        })
        .filter(|coding| !coding.is_empty() && coding != "identity")
        .collect();
    if codings.is_empty() {
        return read_plain(response, url, limit, start).await;
    }
    let mut reader: Box<dyn AsyncRead + Unpin> =
        Box::new(StreamReader::new(response.bytes_stream().map_err(io::Error::other)));
    for coding in codings.iter().rev() {
        let coded = BufReader::new(reader);
        reader = match coding.as_str() {
            "gzip" | "x-gzip" => Box::new(GzipDecoder::new(coded)),
            "br" => Box::new(BrotliDecoder::new(coded)),
            "zstd" => Box::new(ZstdDecoder::new(coded)),
            "deflate" => Box::new(ZlibDecoder::new(coded)),
            other => {
                let message = format!("{} coded the body with `{other}`, which is not understood", authority(url));
                return Err(failure(FailureKind::NotHttp, message, None, start.elapsed()));
            }
        };
    }
    let mut body = Vec::new();
    if let Err(error) = reader.take(limit as u64 + 1).read_to_end(&mut body).await {
        // The library's own error travels inside; anything else is a broken coding.
        return Err(match error.get_ref().and_then(|inner| inner.downcast_ref::<reqwest::Error>()) {
            Some(inner) => describe(inner, url, start.elapsed()),
            None => {
                let message = format!("the body {} sent is not {}: {error}", authority(url), codings.join(", "));
                failure(FailureKind::NotHttp, message, None, start.elapsed())
            }
        });
    }
    if body.len() > limit {
        return Err(too_large(url, limit, start));
    }
    Ok(body.into())
}

async fn read_plain(
    mut response: reqwest::Response,
    url: &Url,
    limit: usize,
    start: Instant,
) -> Result<Bytes, Failure> {
    let broken = |error: reqwest::Error| describe(&error, url, start.elapsed());
    let Some(first) = response.chunk().await.map_err(broken)? else { return Ok(Bytes::new()) };
    let mut body = BytesMut::new();
    let mut whole = Some(first);
    // Most bodies come in one piece, which needs no copy.
    while let Some(chunk) = response.chunk().await.map_err(broken)? {
        if let Some(first) = whole.take() {
            body.extend_from_slice(&first);
        }
        body.extend_from_slice(&chunk);
        if body.len() > limit {
            return Err(too_large(url, limit, start));
        }
    }
    Ok(whole.unwrap_or_else(|| body.freeze()))
}

fn too_large(url: &Url, limit: usize, start: Instant) -> Failure {
    let message = format!("the body {} sends is larger than {} MiB", authority(url), limit >> 20);
    failure(FailureKind::TooLarge, message, None, start.elapsed())
}
