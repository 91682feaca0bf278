//! What came back, the names it gives to expressions, and how it is laid out to be read.

mod charset;
mod describe;
mod exchange;
mod kept;
mod layout;

pub use describe::Nature;
pub use exchange::{CookieFate, CookieNote, Exchange, Failure, FailureKind, Hop, HopKind, Timings};
pub use kept::Kept;
pub use layout::{Piece, lay_out};
