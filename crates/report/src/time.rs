//! Durations as data has them: milliseconds.

use std::time::Duration;

/// A length of time as data has it: milliseconds with three decimals.
pub fn millis(duration: Duration) -> f64 {
    (duration.as_secs_f64() * 1e6).round() / 1e3
}

/// Milliseconds as a length of time; nonsense from a file as none.
pub(crate) fn duration(millis: f64) -> Duration {
    Duration::try_from_secs_f64(millis / 1e3).unwrap_or_default()
}
