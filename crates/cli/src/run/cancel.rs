//! Work that can be cut off.

use std::sync::Arc;
use std::time::Instant;
use tokio::sync::Notify;
use yieldtray_http::Failure;

/// The result of `work`, unless it is canceled before.
pub(super) async fn or_cancelled<T>(cut_off: Arc<Notify>, work: impl Future<Output = T>) -> Result<T, Failure> {
    let start = Instant::now();
    tokio::select! {
        biased;
        done = work => Ok(done),
        () = cut_off.notified() => Err(Failure::interrupted(start.elapsed())),
    }
}
