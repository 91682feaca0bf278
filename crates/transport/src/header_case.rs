//! Header names as they are written. Names have no case (RFC 9110 5.1), but some servers know only one. The HTTP library sends names as another
//! request had them that it received, so that request is made: its head, with our names, is read by the library's own server from memory.

use crate::incoming::SendError;
use hyper::body::Incoming;
use hyper::http::Extensions;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use std::convert::Infallible;
use std::io;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::io::AsyncWriteExt;
use yieldtray_http::PreparedRequest;

/// The case of the names of a request, as an extension of the request that the library sends.
pub(crate) async fn case_of(prepared: &PreparedRequest) -> Result<Extensions, SendError> {
    let mut head = "GET / HTTP/1.1\r\n".to_owned();
    let has = |name: &str| prepared.headers.iter().any(|(own, _)| own.eq_ignore_ascii_case(name));
    let added = ["Host", "Content-Length"].into_iter().filter(|name| !has(name));
    for name in prepared.headers.iter().map(|(name, _)| &**name).chain(added) {
        // Only the names count; a value that says how long the body is must say that there is none.
        head.push_str(name);
        head.push_str(": 0\r\n");
    }
    head.push_str("\r\n");
    let (mut ours, theirs) = tokio::io::duplex(head.len() + 1);
    ours.write_all(head.as_bytes()).await.map_err(SendError::of_case)?;
    ours.shutdown().await.map_err(SendError::of_case)?;
    let found = Arc::new(Mutex::new(None));
    let taken = Arc::clone(&found);
    let service = service_fn(move |request: Request<Incoming>| {
        let extensions = request.extensions().clone();
        *taken.lock().unwrap_or_else(PoisonError::into_inner) = Some(extensions);
        std::future::ready(Ok::<_, Infallible>(Response::new(String::new())))
    });
    let mut builder = http1::Builder::new();
    builder.preserve_header_case(true).keep_alive(false);
    // Nobody reads the response, which may be an error of its own.
    let _ = builder.serve_connection(TokioIo::new(theirs), service).await;
    let extensions = found.lock().unwrap_or_else(PoisonError::into_inner).take();
    extensions.ok_or_else(|| SendError::of_case(io::Error::other("the names of the headers cannot be kept as written")))
}
