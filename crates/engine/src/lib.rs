//! Sending many cells in order and judging their checks, without doing either: a [`Plan`] puts the
//! cells in order, a [`Run`] hands out the requests that are ready and takes the answers. What
//! happened comes out as [`Event`]s; the terminal, data output and editors only read those.

mod advance;
mod advice;
mod check_evaluator;
mod checks;
mod complete;
mod deferred;
mod difference;
mod event;
mod event_buffer;
mod failure_context;
mod iteration;
mod lane;
mod mutation_run;
mod panic;
pub mod prove;
mod question;
mod ready;
mod run;
mod tokens;

pub use difference::Difference;
pub use event::{CellReport, CheckFailure, Event, Outcome, Summary, TokenReport, YieldReport};
pub use question::Question;
pub use ready::Ready;
pub use run::{Next, Pause, Progress, Run};
