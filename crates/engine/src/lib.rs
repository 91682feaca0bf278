//! Runs: a [`Run`] hands out the requests of a plan that are ready, takes the responses, evaluates their checks, and
//! reports what happened as [`Event`]s. It has no input or output; the terminal, reports and editors read the events.
//!
//! ```text
//! Run ─ RunInputs   workspace, engine, settings, plan, options: never change
//!     ─ LaneState   one a file: the next step, rows, retries
//!     ─ RunState    Scheduler, Outcomes, RunValues, OAuthState, EventBuffer, Deferred, Masker
//! LaneCx            borrows the three to work on one lane
//! ```

mod advice;
mod check_evaluator;
mod contract;
mod conversation;
mod deferred;
mod difference;
mod event;
mod event_buffer;
mod exit_code;
mod graphql_errors;
mod inputs;
mod lane;
mod next;
mod oauth_state;
mod outcomes;
mod pages;
pub mod prove;
mod question;
mod ready;
mod response_exprs;
mod retry_after;
mod run;
mod run_state;
mod run_values;
mod scheduler;
mod server_message;
mod stream;

pub use conversation::{ConversationEvent, ConversationStep};
pub use difference::Difference;
pub use event::{CellReport, CheckFailure, CheckPart, Event, Outcome, Summary, TokenReport, YieldReport};
pub use exit_code::ExitCode;
pub use inputs::{LoggedSeeds, RunOptions};
pub use next::{Next, ObtainedToken, Pause, Progress};
pub use question::Question;
pub use ready::ReadyRequest;
pub use run::Run;
pub use stream::StreamVerdict;
