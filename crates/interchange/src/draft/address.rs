//! The URL of an imported request.

use super::{ImportedRequest, RequestError};
use percent_encoding::percent_decode_str;
use yieldtray_syntax::ValueText;

impl ImportedRequest {
    /// Sets the URL: without its fragment, and with credentials in an instruction.
    ///
    /// # Errors
    /// If the URL cannot be used.
    pub fn send_to(&mut self, address: ValueText) -> Result<(), RequestError> {
        let mut address = address;
        if let Some((before, _)) = address.split('#') {
            self.note("the fragment (`#…`) of the URL is never sent");
            address = before;
        }
        if let Some((scheme, _)) = address.head().split_once("://")
            && !["http", "https"].iter().any(|own| own.eq_ignore_ascii_case(scheme))
        {
            return Err(RequestError::Scheme(scheme.to_owned()));
        }
        if let Some((user, password, rest)) = credentials(&address) {
            self.auth.get_or_insert(("basic", vec![user, password]));
            address = rest;
        }
        self.target = address;
        Ok(())
    }
}

/// `user:password@` of a URL, and the URL without it.
fn credentials(url: &ValueText) -> Option<(ValueText, ValueText, ValueText)> {
    let scheme = url.head().find("://").map_or(0, |at| at + 3);
    let (before, host) = url.split('@')?;
    let user = before.behind(scheme);
    if user.split('/').is_some() || user.split('?').is_some() {
        return None;
    }
    let (user, password) = user.split(':').unwrap_or((user, ValueText::default()));
    let decode = |text: ValueText| text.map(|text| percent_decode_str(text).decode_utf8_lossy().into_owned());
    let mut rest = ValueText::from(&url.head()[..scheme]);
    rest.append(&host);
    Some((decode(user), decode(password), rest))
}
