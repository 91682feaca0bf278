//! The last line on a terminal while a run goes on: how far it is.

use super::Out;
use super::table::{count, cut};
use std::io::{self, Write};
use std::time::{Duration, Instant};
use yieldtray_engine::Run;

/// A run that is over before anybody could read the line shows none.
const SHOW_AFTER: Duration = Duration::from_millis(300);

/// The line is drawn anew this often at most.
const REDRAW_INTERVAL: Duration = Duration::from_millis(90);

/// The line, and whether it is drawn now.
pub(crate) struct ProgressLine {
    /// False where there is no terminal, or data is printed: then nothing is ever drawn.
    shown: bool,
    began: Instant,
    drawn: bool,
    last: Option<Instant>,
}

impl ProgressLine {
    /// The line of a run that began then, where `out` can show one.
    pub(crate) fn new(began: Instant, out: &Out) -> Self {
        Self { shown: out.terminal && !out.json, began, drawn: false, last: None }
    }

    /// True if it is drawn at all: then the run must report its progress.
    pub(crate) fn is_shown(&self) -> bool {
        self.shown
    }

    /// Takes the line away, since something else is written.
    pub(crate) fn clear(&mut self, out: &mut Out) -> io::Result<()> {
        if std::mem::take(&mut self.drawn) {
            write!(out.result(), "\r\x1b[2K")?;
        }
        Ok(())
    }

    /// Draws it, if it is time to, of a run in which so many cells did not pass.
    pub(crate) fn draw(&mut self, out: &mut Out, run: &Run<'_>, failed: usize) -> io::Result<()> {
        let took = self.began.elapsed();
        if !self.shown || took < SHOW_AFTER || self.last.is_some_and(|last| last.elapsed() < REDRAW_INTERVAL) {
            return Ok(());
        }
        self.clear(out)?;
        let progress = run.progress();
        let name = progress.waits_for.map(|cell| &*run.workspace().cell(cell).name);
        let line = words((progress.done, progress.all), failed, run.summary().requests, took, name);
        let line = cut(&line, out.width.unwrap_or(80).saturating_sub(1));
        let line = out.look.faint(&line);
        write!(out.result(), "{line}")?;
        self.drawn = true;
        self.last = Some(Instant::now());
        out.flush()
    }
}

fn words(steps: (usize, usize), failed: usize, requests: usize, took: Duration, name: Option<&str>) -> String {
    let (done, all) = steps;
    let rate = requests as f64 / took.as_secs_f64().max(0.001);
    let rate = if rate < 9.95 { format!("{rate:.1}") } else { format!("{rate:.0}") };
    let requests = count(requests, "request", "requests");
    let waits = name.map(|name| format!(" · waiting for {name}")).unwrap_or_default();
    format!("{done} of {all} done · {failed} failed · {} left · {requests}, {rate} a second{waits}", all - done)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_line_says_how_far_and_how_fast() {
        let second = Duration::from_secs(1);
        assert_eq!(
            words((3, 12), 0, 1, second * 2, None),
            "3 of 12 done · 0 failed · 9 left · 1 request, 0.5 a second"
        );
        assert_eq!(
            words((11, 12), 2, 850, second, Some("weigh")),
            "11 of 12 done · 2 failed · 1 left · 850 requests, 850 a second · waiting for weigh"
        );
    }
}
