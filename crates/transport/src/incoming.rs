//! A response whose body is still to come, and the errors on its way, for both ways of sending.

use crate::head;
use crate::watched::LastHead;
use bytes::Bytes;
use http_body::Body;
use hyper::http::Extensions;
use hyper::{HeaderMap, StatusCode, Version};
use hyper_util::client::legacy;
use std::error::Error;
use std::pin::Pin;

/// A response while it is received.
pub(crate) enum IncomingResponse {
    /// From the client that knows TLS, proxies and HTTP/2, and the trailer fields so far.
    Library(hyper::Response<reqwest::Body>, HeaderMap),
    /// The same from the client that knows none of these.
    Straight(hyper::Response<hyper::body::Incoming>, HeaderMap),
}

impl IncomingResponse {
    pub(crate) fn status(&self) -> StatusCode {
        match self {
            Self::Library(response, _) => response.status(),
            Self::Straight(response, _) => response.status(),
        }
    }

    pub(crate) fn version(&self) -> Version {
        match self {
            Self::Library(response, _) => response.version(),
            Self::Straight(response, _) => response.version(),
        }
    }

    pub(crate) fn headers(&self) -> &HeaderMap {
        match self {
            Self::Library(response, _) => response.headers(),
            Self::Straight(response, _) => response.headers(),
        }
    }

    pub(crate) fn extensions(&self) -> &Extensions {
        match self {
            Self::Library(response, _) => response.extensions(),
            Self::Straight(response, _) => response.extensions(),
        }
    }

    /// Lines of the head that were skipped, and why.
    pub(crate) fn passed_over(&self) -> Vec<String> {
        match (self.version(), self.extensions().get::<LastHead>()) {
            (Version::HTTP_11 | Version::HTTP_10, Some(head)) => head::passed_over(&head.bytes()),
            _ => Vec::new(),
        }
    }

    /// How many bytes are still to come, if that is known.
    pub(crate) fn content_length(&self) -> Option<u64> {
        match self {
            Self::Library(response, _) => response.body().size_hint().exact(),
            Self::Straight(response, _) => response.body().size_hint().exact(),
        }
    }

    /// The next bytes of the body.
    pub(crate) async fn chunk(&mut self) -> Result<Option<Bytes>, SendError> {
        match self {
            Self::Library(response, trailers) => Ok(next_bytes(response.body_mut(), trailers).await?),
            Self::Straight(response, trailers) => {
                next_bytes(response.body_mut(), trailers).await.map_err(SendError::of_body)
            }
        }
    }

    /// The trailer fields that came after the body (RFC 9110 6.5).
    pub(crate) fn trailers(&mut self) -> Vec<(String, Vec<u8>)> {
        match self {
            Self::Library(_, trailers) | Self::Straight(_, trailers) => fields(trailers),
        }
    }
}

/// The next bytes of a body; trailer fields are kept.
async fn next_bytes<B: Body<Data = Bytes> + Unpin>(
    body: &mut B,
    trailers: &mut HeaderMap,
) -> Result<Option<Bytes>, B::Error> {
    loop {
        let frame = std::future::poll_fn(|context| Pin::new(&mut *body).poll_frame(context)).await;
        let Some(frame) = frame.transpose()? else { return Ok(None) };
        match frame.into_data() {
            Ok(bytes) => return Ok(Some(bytes)),
            Err(frame) => trailers.extend(frame.into_trailers().unwrap_or_default()),
        }
    }
}

/// Fields by name, with their values as bytes.
pub(crate) fn fields(headers: &HeaderMap) -> Vec<(String, Vec<u8>)> {
    headers.iter().map(|(name, value)| (name.as_str().to_owned(), value.as_bytes().to_vec())).collect()
}

/// The error, and its phase.
#[derive(Debug)]
pub(crate) struct SendError {
    pub(crate) stage: ErrorPhase,
    /// The start of the response, if known.
    pub(crate) head: Vec<u8>,
    error: Box<dyn Error + Send + Sync>,
}

/// Where something went wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ErrorPhase {
    /// While connecting.
    Connecting,
    /// In the response body.
    Body,
    /// In between.
    Exchange,
}

impl SendError {
    /// The request could not be written with its names as they are.
    pub(crate) fn of_case(error: std::io::Error) -> Self {
        Self { stage: ErrorPhase::Exchange, head: Vec::new(), error: error.into() }
    }

    fn of_body(error: hyper::Error) -> Self {
        Self { stage: ErrorPhase::Body, head: Vec::new(), error: error.into() }
    }

    /// The error and its causes, the outermost first. An input/output error does not name what it carries as
    /// its cause, so that is looked into: TLS errors travel so.
    pub(crate) fn causes(&self) -> Vec<&(dyn Error + 'static)> {
        fn deeper<'e>(cause: &'e (dyn Error + 'static)) -> Option<&'e (dyn Error + 'static)> {
            let carried = cause.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref);
            carried.map(|carried| carried as &(dyn Error + 'static)).or_else(|| cause.source())
        }
        let outermost: &(dyn Error + 'static) = &*self.error;
        std::iter::successors(Some(outermost), |&cause| deeper(cause)).collect()
    }
}

impl std::fmt::Display for SendError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.error.fmt(f)
    }
}

impl Error for SendError {}

impl From<reqwest::Error> for SendError {
    fn from(error: reqwest::Error) -> Self {
        let stage = match () {
            () if error.is_connect() => ErrorPhase::Connecting,
            () if error.is_body() || error.is_decode() => ErrorPhase::Body,
            () => ErrorPhase::Exchange,
        };
        Self { stage, head: Vec::new(), error: error.into() }
    }
}

impl From<legacy::Error> for SendError {
    fn from(error: legacy::Error) -> Self {
        let stage = if error.is_connect() { ErrorPhase::Connecting } else { ErrorPhase::Exchange };
        let mut extras = Extensions::new();
        if let Some(connected) = error.connect_info() {
            connected.get_extras(&mut extras);
        }
        let head = extras.get::<LastHead>().map(LastHead::bytes).unwrap_or_default();
        Self { stage, head, error: error.into() }
    }
}
