//! Reports of a run: text in five formats, made entry by entry, so that none is held as a whole.
//!
//! ```text
//! Event ─→ Entry ─→ Format::entry ─→ Streams ─→ (whoever writes files)
//! a report in JSON ─→ Saved ─→ join ─┘              Format::frame ─→ Frame
//! ```

pub mod coverage;
mod entry;
mod explain;
mod har;
mod html;
mod json;
mod junit;
pub mod log;
mod merge;
mod received_parts;
pub mod record;
mod sarif;
mod saved;
mod static_page;
mod tap;
mod time;

#[cfg(test)]
mod tests;

pub use entry::{CaptureRecord, Entry, FailedCheck, ProblemRecord};
pub use merge::merge;
pub use record::{MAX_REPORTED_BODY, Phases, RequestRecord, ResponseRecord, header_value};
pub use sarif::sarif;
pub use saved::{LoadedReport, ReadError, RunInfo};
pub(crate) use time::duration;
pub use time::millis;

use std::fmt;

/// Writes one kind of report. Neither keeps what it has written nor grows with the number of entries.
pub trait Format: Send {
    /// Adds an entry.
    fn entry(&mut self, entry: &Entry<'_>, to: &mut Streams);

    /// The text around the entries, which is known once all were added.
    fn frame(&mut self, about: &RunInfo) -> Frame;
}

/// The text of entries on its way to the file.
#[derive(Debug, Default)]
pub struct Streams {
    /// Entries that come first: in a page, the failures.
    pub first: String,
    /// The entries.
    pub all: String,
}

/// The text around the streams: the file is `head`, all of `first`, `middle`, all of `all`, and `tail`.
#[derive(Debug, Default)]
pub struct Frame {
    /// The text at the top.
    pub head: String,
    /// The text between the two streams.
    pub middle: String,
    /// The text at the end.
    pub tail: String,
}

/// The kinds of report there are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReportKind {
    /// JUnit XML.
    Junit,
    /// The Test Anything Protocol, version 14.
    Tap,
    /// All of it as data, which can be read again.
    Json,
    /// HTTP Archive 1.2.
    Har,
    /// One page.
    Html,
}

impl ReportKind {
    /// All kinds.
    pub const ALL: [ReportKind; 5] =
        [ReportKind::Junit, ReportKind::Tap, ReportKind::Json, ReportKind::Html, ReportKind::Har];

    /// The word for it on the command line.
    pub fn as_str(self) -> &'static str {
        match self {
            ReportKind::Junit => "junit",
            ReportKind::Tap => "tap",
            ReportKind::Json => "json",
            ReportKind::Har => "har",
            ReportKind::Html => "html",
        }
    }

    /// The kind of that name.
    pub fn of(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.as_str() == name)
    }

    /// True if it contains exchanges.
    pub fn has_exchanges(self) -> bool {
        matches!(self, ReportKind::Json | ReportKind::Har | ReportKind::Html)
    }

    /// One that writes it, of a run that began as `about` says.
    pub fn format(self, about: &RunInfo) -> Box<dyn Format> {
        match self {
            ReportKind::Junit => Box::new(junit::Junit::default()),
            ReportKind::Tap => Box::new(tap::Tap::default()),
            ReportKind::Json => Box::new(json::Json::default()),
            ReportKind::Har => Box::new(har::Har::new(about)),
            ReportKind::Html => Box::new(html::Html::default()),
        }
    }
}

impl fmt::Display for ReportKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}
