//! Past exchanges: what is kept of one, and what can be asked of those that are.
//!
//! ```text
//! CellReport ─→ Past ─→ head and bodies ─→ (the store)
//! (the store) ─→ Past ─→ Exchange: looked at, compared, judged again as if it had just come
//! ```

mod chart;
mod compare;
mod list_diff;
mod logged;
mod shape;
mod trend;

#[cfg(test)]
mod compare_tests;
#[cfg(test)]
mod past_tests;

pub use chart::TrendChart;
pub use compare::{BodyDifference, CompareOptions, Comparison, Ignore, IgnoreError, PartChange, compare};
pub use logged::{LoggedExchange, LoggedReadError, MAX_LOGGED_BODY, RestoreError, StoredBody, restore_secrets};
pub use trend::{ChangePoint, Point, Trend};
