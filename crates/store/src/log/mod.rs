//! The log of exchanges, each with a number that is never reused.
//!
//! Each exchange is one row in one table, with no index except that of numbers. The search index is updated when
//! somebody searches, since most exchanges are never searched for.

mod read;
mod search;
mod write;

pub use read::{CellRef, Filter};

/// The listed data of an exchange. Nothing in it is secret: the caller has masked it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExchangeRow {
    /// When it was sent, in milliseconds since 1970.
    pub at: i64,
    /// The environment; empty for none.
    pub environment: String,
    /// The request file, relative to the root; for a request without a file, the source of its text.
    pub file: String,
    /// The cell's name.
    pub name: String,
    /// The row it was sent for.
    pub row: Option<i64>,
    /// The sequence that played it.
    pub played_by: Option<String>,
    /// The method.
    pub method: String,
    /// The URL.
    pub url: String,
    /// The status; `None` without a response.
    pub status: Option<u16>,
    /// How long it took, in microseconds.
    pub micros: i64,
    /// Size of the response body in bytes.
    pub size: i64,
    /// Its outcome, as a word.
    pub outcome: String,
    /// How many checks were judged.
    pub checks: i64,
    /// How many checks and yields failed.
    pub failed: i64,
    /// The commit of the checkout, with a `+` behind it where the file was changed since.
    pub revision: Option<String>,
}

/// The rest of an exchange.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExchangePayload {
    /// Everything but header fields and bodies, as JSON.
    pub head: String,
    /// The header fields of both, a line each.
    pub fields: String,
    /// The request's body; `None` where there is none, or it is too large to be kept.
    pub sent: Option<Vec<u8>>,
    /// The response body, likewise.
    pub received: Option<Vec<u8>>,
}

/// An exchange in a list, with its number.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NumberedExchange {
    /// Its number.
    pub number: i64,
    /// Its listed data.
    pub summary: ExchangeRow,
}

/// How much of the log is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Retention {
    /// At most so many exchanges.
    pub exchanges: u32,
    /// None from before this time, in milliseconds since 1970.
    pub since: i64,
}
