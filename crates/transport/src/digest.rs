//! Responses to digest challenges (RFC 7616). A challenge is remembered, so that the next request to the same origin
//! carries its response at once.

use digest_auth::{AuthContext, HttpMethod, WwwAuthenticateHeader};
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use thiserror::Error;
use url::Origin;
use yieldtray_http::{Body, Exchange, Login, PreparedRequest};

/// A challenge that no response can be made to.
#[derive(Debug, Error)]
#[error("cannot answer the digest challenge: {0}")]
pub(crate) struct DigestError(#[from] digest_auth::Error);

/// The challenges that were met, by origin and user.
#[derive(Default)]
pub(crate) struct Challenges(Mutex<HashMap<(Origin, String), WwwAuthenticateHeader>>);

impl std::fmt::Debug for Challenges {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Challenges")
    }
}

impl Challenges {
    /// The request with its digest response, if a challenge for it is known; otherwise unchanged.
    pub(crate) fn answer(&self, request: Arc<PreparedRequest>) -> Result<Arc<PreparedRequest>, DigestError> {
        let Some(login) = &request.digest else { return Ok(request) };
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(challenge) = known.get_mut(&key(&request, login)) else { return Ok(request) };
        let body = match &request.body {
            None => Some(Cow::Borrowed(&[][..])),
            Some(Body::Bytes(bytes)) => Some(Cow::Borrowed(&bytes[..])),
            // Only `auth-int` looks at the body, and a file is not read twice for it.
            Some(Body::Pieces(_)) => None,
        };
        let method = HttpMethod(Cow::Borrowed(&request.method));
        let target = request.wire_target();
        let context = AuthContext::new_with_method(&*login.user, &*login.password, &*target, body, method);
        let value = challenge.respond(&context)?.to_header_string();
        drop(known);
        let mut answered = PreparedRequest::clone(&request);
        answered.headers.retain(|(name, _)| !name.eq_ignore_ascii_case("authorization"));
        answered.headers.push(("Authorization".into(), value.into()));
        Ok(Arc::new(answered))
    }

    /// Takes the challenge of a 401. Returns true if the request is worth another try. `answered` if it carried a
    /// response, which is only wrong if the server calls its challenge stale.
    pub(crate) fn take(&self, request: &PreparedRequest, exchange: &Exchange, answered: bool) -> bool {
        let Some(login) = request.digest.as_ref().filter(|_| exchange.status == 401) else { return false };
        let lines = exchange.headers.iter().filter(|(name, _)| name.eq_ignore_ascii_case("www-authenticate"));
        let digest = lines.filter_map(|(_, line)| {
            let line = String::from_utf8_lossy(line);
            let is_digest = line.get(..7).is_some_and(|scheme| scheme.eq_ignore_ascii_case("digest "));
            is_digest.then(|| WwwAuthenticateHeader::parse(&line).ok()).flatten()
        });
        // The first that is understood is the one the server likes best (RFC 7616 3.7).
        let Some(challenge) = { digest }.next() else { return false };
        let again = !answered || challenge.stale;
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(key(request, login), challenge);
        again
    }
}

fn key(request: &PreparedRequest, login: &Login) -> (Origin, String) {
    (request.url.origin(), login.user.clone())
}
