//! What came back, the names it gives to expressions, and how it is laid out to be read.

mod advice;
mod charset;
mod describe;
mod exchange;
mod layout;
mod names;

pub(crate) use advice::advice;
pub use describe::Nature;
pub use exchange::{CookieFate, CookieNote, Exchange, Failure, FailureKind, Hop, HopKind, Timings};
pub use layout::{Piece, lay_out};
pub(crate) use names::Made;
pub use names::ResponseNames;
