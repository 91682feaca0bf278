//! Sending many cells in order and judging their checks, without doing either: a [`Plan`] puts the
//! cells in order, a [`Run`] hands out the requests that are ready and takes the answers. What
//! happened comes out as [`Event`]s; the terminal, data output and editors only read those.

mod advance;
mod advice;
mod around;
mod checks;
mod complete;
mod crash;
mod difference;
mod event;
mod judge;
mod lane;
mod order;
mod prove;
mod put_off;
mod question;
mod ready;
mod run;
mod tokens;
mod turn;

#[cfg(test)]
mod before_tests;
#[cfg(test)]
mod check_tests;
#[cfg(test)]
mod lane_tests;
#[cfg(test)]
mod plan_tests;
#[cfg(test)]
mod tests;

pub use difference::Difference;
pub use event::{CellReport, CheckFailure, Event, Outcome, Summary, TokenReport, YieldReport};
pub use question::Question;
pub use ready::Ready;
pub use run::{Next, Pause, Progress, Run};
