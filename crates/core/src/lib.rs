//! The core of Yield Tray: the request file language, values, expressions, checks and replay.
//!
//! Text goes in, facts come out. This crate opens no socket, reads no file, asks no clock and prints
//! nothing: whoever needs those hands them in through small traits.

pub mod assist;
pub mod curl;
pub mod draft;
pub mod har;
pub mod lint;
pub mod log;
pub mod openapi;
pub mod report;
pub mod snippet;
