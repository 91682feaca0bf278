//! The clients that send a request, and the request as their libraries take it.

use crate::failure::failure;
use crate::header_case;
use crate::incoming::{IncomingResponse, SendError};
use crate::plain_http;
use crate::upload::{self, Gate};
use futures_util::future::Either;
use hyper::HeaderMap;
use hyper::header::{CONTENT_LENGTH, HeaderName, HeaderValue};
use std::fmt::Display;
use std::time::Instant;
use thiserror::Error;
use yieldtray_http::{Failure, FailureKind, PreparedRequest};

/// Which client sends a request.
#[derive(Clone, Copy)]
pub(crate) enum Sender<'c> {
    Library(&'c reqwest::Client),
    Straight(plain_http::PooledClient<'c>),
}

impl<'c> Sender<'c> {
    /// The request on its way; an error if it cannot be written at all.
    pub(crate) fn send(
        self,
        prepared: &PreparedRequest,
        keep_case: bool,
        start: Instant,
    ) -> Result<impl Future<Output = Result<IncomingResponse, SendError>> + use<'c>, Failure> {
        let other = |error: &dyn Display| failure(FailureKind::Other, error.to_string(), None, start.elapsed());
        let method = hyper::Method::from_bytes(prepared.method.as_bytes())
            .map_err(|_| other(&format!("invalid method `{}`", prepared.method)))?;
        let headers = headers(prepared).map_err(|error| other(&error))?;
        let body = prepared.body.as_ref().map(upload::body);
        Ok(match self {
            Sender::Straight(client) => {
                let address = match &prepared.verbatim_target {
                    None => hyper::Uri::try_from(prepared.url.as_str()),
                    Some(target) => {
                        hyper::Uri::try_from(format!("{}{target}", &prepared.url[..url::Position::BeforePath]))
                    }
                };
                let waits = prepared.header("expect").is_some_and(|it| it.eq_ignore_ascii_case("100-continue"));
                let gate = (waits && body.is_some()).then(Gate::new);
                let body = body.unwrap_or_default();
                let body = match &gate {
                    Some(gate) => upload::gated(body, gate),
                    None => body,
                };
                let mut request = hyper::Request::new(body);
                *request.uri_mut() = address.map_err(|error| other(&format!("this URL cannot be used: {error}")))?;
                (*request.method_mut(), *request.headers_mut()) = (method, headers);
                let named = keep_case.then(|| prepared.clone());
                Either::Left(async move {
                    if let Some(named) = named {
                        *request.extensions_mut() = header_case::case_of(&named).await?;
                    }
                    client.send(request, gate).await
                })
            }
            Sender::Library(client) => {
                if keep_case {
                    let text = "`header_case` cannot be combined with a proxy, a Unix socket, or HTTP/2";
                    return Err(other(&text));
                }
                if prepared.verbatim_target.is_some() {
                    let text = "`% path verbatim` cannot be combined with a proxy, a Unix socket, or \
                                 HTTP/2 prior knowledge";
                    return Err(other(&text));
                }
                let mut request = reqwest::Request::new(method, prepared.url.clone());
                (*request.headers_mut(), *request.body_mut()) = (headers, body);
                Either::Right(async move {
                    // The library's own way of reading a body drops the trailers.
                    let response = client.execute(request).await?.into();
                    Ok(IncomingResponse::Library(response, HeaderMap::new()))
                })
            }
        })
    }
}

/// A header field that cannot be sent (RFC 9110 5).
#[derive(Debug, Error)]
enum HeaderError {
    #[error("invalid header name `{0}`")]
    Name(String),
    #[error("the value of `{0}` contains a character that headers cannot contain")]
    Value(String),
}

fn headers(prepared: &PreparedRequest) -> Result<HeaderMap, HeaderError> {
    let mut headers = HeaderMap::with_capacity(prepared.headers.len() + 2);
    for (name, value) in &prepared.headers {
        let header = HeaderName::from_bytes(name.as_bytes()).map_err(|_| HeaderError::Name(name.to_string()))?;
        let value = HeaderValue::from_bytes(value.as_bytes()).map_err(|_| HeaderError::Value(name.to_string()))?;
        headers.append(header, value);
    }
    if prepared.body.is_none() && prepared.content_length() == Some(0) {
        headers.insert(CONTENT_LENGTH, HeaderValue::from_static("0"));
    }
    Ok(headers)
}
