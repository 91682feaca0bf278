//! What came back, and the names it gives to expressions.

mod exchange;
mod layout;
mod names;

pub use exchange::{Exchange, Failure, FailureKind, Hop, Timings};
pub use layout::{Piece, lay_out_json};
pub use names::ResponseNames;
