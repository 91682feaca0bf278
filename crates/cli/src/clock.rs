//! The time of the system.

use std::time::{SystemTime, UNIX_EPOCH};

/// Seconds since 1970.
pub(crate) fn now() -> i64 {
    now_millis() / 1_000
}

/// Milliseconds since 1970.
pub(crate) fn now_millis() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |time| time.as_millis() as i64)
}
