//! Standard output, with what has to be known of what was written to it.

use crate::settings::OutputSettings;
use std::borrow::Cow;
use std::fmt::Write as _;
use std::io::{self, BufWriter, Stdout, Write};
use yieldtray_source::escape::is_control_or_bidi;

/// Standard output.
pub(super) struct Stream {
    inner: BufWriter<Stdout>,
    /// Whether what was written last ended a line.
    ends_line: bool,
    /// Whether standard error is shown in the same place.
    shares_place: bool,
    /// Whether characters that drive a terminal are escaped as JSON allows it (RFC 8259 7).
    escapes: bool,
    /// Whether whoever writes goes on when nobody reads any more.
    outlives_reader: bool,
    /// The beginning of a character whose other bytes are still to come.
    begun: Vec<u8>,
}

impl Stream {
    pub(super) fn new(settings: &OutputSettings) -> Self {
        let shares_place = (settings.terminal && settings.error_terminal) || is_same_file();
        let escapes = settings.json && settings.terminal;
        let inner = BufWriter::new(io::stdout());
        Self { inner, ends_line: true, shares_place, escapes, outlives_reader: false, begun: Vec::new() }
    }

    /// From now on nothing fails since nobody reads any more: what is done is worth doing all the same.
    pub(super) fn outlive_reader(&mut self) {
        self.outlives_reader = true;
    }

    /// The outcome of a write.
    fn written<T>(&self, outcome: io::Result<T>, all: T) -> io::Result<T> {
        match outcome {
            Err(error) if self.outlives_reader && error.kind() == io::ErrorKind::BrokenPipe => Ok(all),
            other => other,
        }
    }

    /// Begins a new line before something else is written in the same place.
    pub(super) fn end_line(&mut self) -> io::Result<()> {
        if self.shares_place && !std::mem::replace(&mut self.ends_line, true) {
            io::stderr().write_all(b"\n")?;
        }
        Ok(())
    }
}

impl Write for Stream {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let Some(last) = bytes.last() else { return Ok(0) };
        self.ends_line = *last == b'\n';
        if !self.escapes {
            let written = self.inner.write(bytes);
            return self.written(written, bytes.len());
        }
        let mut whole = std::mem::take(&mut self.begun);
        whole.extend_from_slice(bytes);
        let complete = match std::str::from_utf8(&whole) {
            Ok(_) => whole.len(),
            Err(error) if error.error_len().is_none() => error.valid_up_to(),
            Err(_) => whole.len(),
        };
        self.begun = whole.split_off(complete);
        let written = match std::str::from_utf8(&whole) {
            Ok(text) => self.inner.write_all(escaped(text).as_bytes()),
            Err(_) => self.inner.write_all(&whole),
        };
        self.written(written, ())?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        let flushed = self.inner.flush();
        self.written(flushed, ())
    }
}

/// JSON without control characters in its strings. Outside of strings there are none.
fn escaped(json: &str) -> Cow<'_, str> {
    let is_escaped = |c: char| is_control_or_bidi(c) && c != '\r';
    if !json.contains(is_escaped) {
        return Cow::Borrowed(json);
    }
    let mut out = String::with_capacity(json.len() + 32);
    for c in json.chars() {
        match is_escaped(c) {
            // Writing to a string does not fail.
            true => drop(write!(out, "\\u{:04x}", c as u32)),
            false => out.push(c),
        }
    }
    Cow::Owned(out)
}

/// Whether both streams go to one file, pipe or device.
#[cfg(unix)]
fn is_same_file() -> bool {
    let place = |fd: rustix::fd::BorrowedFd<'_>| rustix::fs::fstat(fd).ok().map(|about| (about.st_dev, about.st_ino));
    let out = place(rustix::stdio::stdout());
    out.is_some() && out == place(rustix::stdio::stderr())
}

#[cfg(not(unix))]
fn is_same_file() -> bool {
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_drives_a_terminal_is_escaped() {
        assert_eq!(escaped("{\"a\":\"\u{9b}2J\u{7f}\u{202e}\"}\n"), "{\"a\":\"\\u009b2J\\u007f\\u202e\"}\n");
        assert!(matches!(escaped("{\"a\":\"K\u{e4}the\"}\n"), Cow::Borrowed(_)));
    }
}
