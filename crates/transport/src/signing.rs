//! Signing requests when they go out: each hop anew, with the nonce that its server gave last.

use ring::digest::{Context, SHA256};
use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{SystemTime, UNIX_EPOCH};
use url::Origin;
use yieldtray_http::{Body, BodyPart, Exchange, PreparedRequest, SignError, SigningContext};

/// Bytes read of a file at once.
const BLOCK_BYTES: usize = 64 << 10;

/// The nonces that servers gave, by origin.
#[derive(Debug, Default)]
pub(crate) struct Nonces(Mutex<HashMap<Origin, String>>);

impl Nonces {
    fn known(&self) -> MutexGuard<'_, HashMap<Origin, String>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The request with what its signers add.
    pub(crate) async fn signed(&self, request: Arc<PreparedRequest>) -> Result<Arc<PreparedRequest>, SignError> {
        let digest = match &request.body {
            _ if !needs_digest(&request) => None,
            // Files are read on another thread: others wait for their responses on this one.
            Some(Body::Pieces(pieces)) => {
                let pieces = pieces.clone();
                let read = tokio::task::spawn_blocking(move || digest_of_pieces(&pieces)).await;
                Some(read.map_err(io::Error::other).and_then(|digest| digest).map_err(|error| unreadable(&error))?)
            }
            body => Some(digest_of(body.as_ref())?),
        };
        self.signed_with(request, digest)
    }

    /// The same at once, for a request that is only shown.
    pub(crate) fn signed_now(&self, request: Arc<PreparedRequest>) -> Result<Arc<PreparedRequest>, SignError> {
        let digest = needs_digest(&request).then(|| digest_of(request.body.as_ref())).transpose()?;
        self.signed_with(request, digest)
    }

    fn signed_with(
        &self,
        request: Arc<PreparedRequest>,
        body_digest: Option<[u8; 32]>,
    ) -> Result<Arc<PreparedRequest>, SignError> {
        if request.signers.is_empty() {
            return Ok(request);
        }
        let seconds = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
        let now = i64::try_from(seconds).unwrap_or(i64::MAX);
        let nonce = self.known().get(&request.url.origin()).cloned();
        let context = SigningContext { now, nonce: nonce.as_deref(), body_digest };
        let mut signed = PreparedRequest::clone(&request);
        for signer in &request.signers {
            let fields = signer.sign(&signed, &context)?;
            signed.headers.retain(|(own, _)| !fields.iter().any(|(name, _)| own.eq_ignore_ascii_case(name)));
            signed.headers.extend(fields);
        }
        Ok(Arc::new(signed))
    }

    /// Takes the nonce of a response. Returns true if the request was refused for the lack of it, and is worth another try.
    pub(crate) fn take(&self, request: &PreparedRequest, exchange: &Exchange) -> bool {
        let mut again = false;
        for signer in &request.signers {
            if let Some(nonce) = signer.nonce(&exchange.headers) {
                again |= signer.wants_nonce(exchange.status, &exchange.headers);
                self.known().insert(request.url.origin(), nonce);
            }
        }
        again
    }
}

fn needs_digest(request: &PreparedRequest) -> bool {
    request.signers.iter().any(|signer| signer.needs_body_digest(request))
}

fn digest_of(body: Option<&Body>) -> Result<[u8; 32], SignError> {
    match body {
        None => Ok(finished(Context::new(&SHA256))),
        Some(Body::Bytes(bytes)) => {
            let mut context = Context::new(&SHA256);
            context.update(bytes);
            Ok(finished(context))
        }
        Some(Body::Pieces(pieces)) => digest_of_pieces(pieces).map_err(|error| unreadable(&error)),
    }
}

fn digest_of_pieces(pieces: &[BodyPart]) -> io::Result<[u8; 32]> {
    let mut context = Context::new(&SHA256);
    let mut block = vec![0; BLOCK_BYTES];
    for piece in pieces {
        match piece {
            BodyPart::Bytes(bytes) => context.update(bytes),
            BodyPart::File(file) => {
                let mut file = File::open(&file.path)?;
                loop {
                    let read = file.read(&mut block)?;
                    if read == 0 {
                        break;
                    }
                    context.update(&block[..read]);
                }
            }
        }
    }
    Ok(finished(context))
}

fn finished(context: Context) -> [u8; 32] {
    let mut digest = [0; 32];
    digest.copy_from_slice(context.finish().as_ref());
    digest
}

fn unreadable(error: &io::Error) -> SignError {
    SignError(format!("its body cannot be read: {error}"))
}
