//! Device authorization (RFC 8628): a code that a person enters on another device.

use super::TokenError;
use serde_json::Value;
use std::time::Duration;
use url::Url;
use yieldtray_http::Exchange;

/// Seconds between two requests where the server says nothing (RFC 8628 3.5).
const DEFAULT_INTERVAL_SECONDS: u64 = 5;

/// The most seconds between two requests.
const MAX_INTERVAL_SECONDS: u64 = 60;

/// The longest time that a code is waited for, whatever the server says.
const MAX_LIFETIME_SECONDS: u64 = 30 * 60;

/// The page and the code that a person is shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceSignIn {
    /// The page to open.
    pub page: Url,
    /// The code to enter there.
    pub code: String,
}

/// A device code that is waited for.
#[derive(Debug)]
pub(crate) struct Waiting {
    /// The code of the device.
    pub(crate) device_code: String,
    /// The time between two requests.
    pub(crate) interval: Duration,
    /// When the code expires, in seconds since 1970.
    pub(crate) ends_at: i64,
}

impl Waiting {
    /// The server wants to be asked more rarely (RFC 8628 3.5).
    pub(crate) fn slow_down(&mut self) {
        let longer = self.interval + Duration::from_secs(DEFAULT_INTERVAL_SECONDS);
        self.interval = longer.min(Duration::from_secs(MAX_INTERVAL_SECONDS));
    }
}

/// The response to a request for a code (RFC 8628 3.2).
pub(crate) fn read(answer: &Exchange, host: &str, now: i64) -> Result<(DeviceSignIn, Waiting), TokenError> {
    let invalid = |why| TokenError::Invalid { host: host.to_owned(), why };
    let body: Value = serde_json::from_slice(&answer.body).map_err(|_| invalid("it is not JSON"))?;
    let text = |key: &str| body[key].as_str().map(str::to_owned).filter(|text| !text.is_empty());
    let page = |key: &str| text(key).and_then(|text| Url::parse(&text).ok());
    // A page is opened by a browser, which must not be made to open anything else.
    let is_page = |url: &Url| matches!(url.scheme(), "https" | "http");
    let device_code = text("device_code").ok_or(invalid("it has no `device_code`"))?;
    let code = text("user_code").ok_or(invalid("it has no `user_code`"))?;
    let address = page("verification_uri").filter(is_page).ok_or(invalid("it has no valid `verification_uri`"))?;
    let seconds = body["expires_in"].as_u64().ok_or(invalid("it has no `expires_in`"))?.min(MAX_LIFETIME_SECONDS);
    let interval = body["interval"].as_u64().unwrap_or(DEFAULT_INTERVAL_SECONDS).clamp(1, MAX_INTERVAL_SECONDS);
    let ends_at = now.saturating_add(i64::try_from(seconds).unwrap_or(i64::MAX));
    let waiting = Waiting { device_code, interval: Duration::from_secs(interval), ends_at };
    Ok((DeviceSignIn { page: address, code }, waiting))
}
