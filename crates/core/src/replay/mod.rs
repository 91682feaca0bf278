//! Sending many cells in order and judging their checks, without doing either: a [`Plan`] puts the
//! cells in order, a [`Run`] hands out the requests that are ready and takes the answers. What
//! happened comes out as [`Event`]s; the terminal, data output and editors only read those.

mod advance;
mod advice;
mod around;
mod chain;
mod checks;
mod complete;
mod constants;
mod crash;
mod difference;
mod event;
mod examine;
mod graph;
mod json_body;
mod judge;
mod lane;
mod order;
mod plan;
mod prove;
mod put_off;
mod question;
mod ready;
mod run;
mod select;
mod share;
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

pub use chain::{Link, chain};
pub use difference::Difference;
pub use event::{CellReport, CheckFailure, Event, Outcome, Summary, TokenReport, YieldReport};
pub(crate) use examine::{Depth, examine_own, examine_preamble};
pub use graph::{Graph, Way};
pub(crate) use json_body::slip_in;
pub use plan::{Plan, Played, Step};
pub use question::Question;
pub use ready::Ready;
pub use run::{Next, Pause, Progress, Run};
pub use select::Selection;
