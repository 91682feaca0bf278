//! The core of Yield Tray: the request file language, values, expressions, checks and replay.
//!
//! Text goes in, facts come out. This crate opens no socket, reads no file, asks no clock and prints
//! nothing: whoever needs those hands them in through small traits.

pub mod access;
pub mod assist;
pub mod curl;
pub mod diff;
pub mod draft;
pub mod entropy;
pub mod expression;
pub mod files;
pub mod glob;
pub mod har;
mod hex;
pub mod http;
pub mod lint;
pub mod log;
pub mod openapi;
pub mod percent;
pub mod problem;
pub mod prove;
pub mod replay;
pub mod report;
pub mod request;
pub mod response;
pub mod safe;
pub mod secret;
pub mod snippet;
pub mod syntax;
pub mod workspace;

#[cfg(test)]
mod testing;
