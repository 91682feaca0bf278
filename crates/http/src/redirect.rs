//! Where a redirect leads, and what goes along.

use super::PreparedRequest;
use crate::origin_of;
use std::sync::Arc;
use url::Url;

/// Where a redirect leads.
#[derive(Debug)]
pub enum Redirect {
    /// To this request.
    To(Arc<PreparedRequest>),
    /// Nowhere: why, in plain words.
    Broken(String),
}

/// The request that follows a redirect (RFC 9110 15.4); `None` if the response is not a redirect.
///
/// 303 becomes GET, and so does POST after 301 and 302, as in every client; 307 and 308 keep the method and the
/// body. Another origin gets only fields that describe the accepted types and the body; a body that contains a secret,
/// the client's certificate and the trust in any certificate stay with their origin. Credentials in the new URL are
/// ignored.
pub fn next_hop(request: &PreparedRequest, status: u16, location: Option<&str>) -> Option<Redirect> {
    if !matches!(status, 301 | 302 | 303 | 307 | 308) || request.sending.redirects == 0 {
        return None;
    }
    let location = location?;
    let url = match request.url.join(location) {
        Ok(url) if matches!(url.scheme(), "http" | "https") => url,
        Ok(url) => {
            return Some(Redirect::Broken(format!("it redirects to `{}`, which is not supported", url.scheme())));
        }
        Err(error) => return Some(Redirect::Broken(format!("`{location}` is not a valid URL: {error}"))),
    };
    let mut next = request.clone();
    let to_get = status == 303 && request.method != "HEAD" || matches!(status, 301 | 302) && request.method == "POST";
    if to_get {
        next.method = "GET".to_owned();
        next.body = None;
        next.headers.retain(|(name, _)| !name.to_ascii_lowercase().starts_with("content-"));
    }
    if !same_origin(&request.url, &url) {
        if next.body.is_some() && next.secret_body {
            let to = origin_of(&url);
            return Some(Redirect::Broken(format!(
                "it redirects to another origin, {to}, and the body contains a secret, which is not sent there"
            )));
        }
        next.headers.retain(|(name, _)| may_cross(name));
        next.digest = None;
        next.signers.clear();
        next.sending.insecure = false;
        next.sending.certificate = false;
    }
    next.url = url;
    next.url.set_fragment(None);
    // An http URL, which this is, takes both.
    let _ = (next.url.set_username(""), next.url.set_password(None));
    Some(Redirect::To(Arc::new(next)))
}

/// The request for the page that a link leads to: without a body, and held to the same rules as a redirect.
pub fn next_page(request: &PreparedRequest, link: &str) -> Redirect {
    let mut asking = request.clone();
    asking.verbatim_target = None;
    asking.sending.redirects = asking.sending.redirects.max(1);
    match next_hop(&asking, 303, Some(link)) {
        Some(Redirect::To(next)) => {
            let mut next = PreparedRequest::clone(&next);
            next.sending.redirects = request.sending.redirects;
            Redirect::To(Arc::new(next))
        }
        Some(broken) => broken,
        None => Redirect::Broken("it has no URL".to_owned()),
    }
}

/// Whether a header field may go to another origin than the one it was written for.
fn may_cross(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    name == "user-agent" || name.starts_with("accept") || name.starts_with("content-")
}

fn same_origin(a: &Url, b: &Url) -> bool {
    a.origin() == b.origin()
}
