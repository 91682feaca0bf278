//! The last line of a terminal while one request is under way: how long it is waited for, and how much arrived.

use super::body;
use std::io::{self, Write};
use std::time::{Duration, Instant};

/// Who is answered sooner reads no line.
const SHOW_AFTER: Duration = Duration::from_millis(700);

/// Moves to the beginning of the line and erases it (ECMA-48 EL).
const CLEAR_LINE: &str = "\r\x1b[2K";

/// The line, on standard error.
pub(crate) struct WaitingLine {
    began: Instant,
    drawn: bool,
}

impl WaitingLine {
    /// The line of a request that is sent now.
    pub(crate) fn new() -> Self {
        Self { began: Instant::now(), drawn: false }
    }

    /// Draws it, if the wait is long: with the bytes that arrived.
    pub(crate) fn draw(&mut self, name: &str, received: u64) -> io::Result<()> {
        let waited = self.began.elapsed();
        if waited < SHOW_AFTER {
            return Ok(());
        }
        self.drawn = true;
        let seconds = waited.as_secs_f64();
        let line = match received {
            0 => format!("waiting for {name} · {seconds:.1} s · Ctrl-C ends it"),
            bytes => format!("receiving {name} · {} in {seconds:.1} s · Ctrl-C ends it", body::size(bytes)),
        };
        let mut stderr = io::stderr();
        write!(stderr, "{CLEAR_LINE}\x1b[2m{line}\x1b[0m")?;
        stderr.flush()
    }

    /// Takes it away before something else is written.
    pub(crate) fn clear(&mut self) -> io::Result<()> {
        if std::mem::take(&mut self.drawn) {
            let mut stderr = io::stderr();
            stderr.write_all(CLEAR_LINE.as_bytes())?;
            stderr.flush()?;
        }
        Ok(())
    }
}
