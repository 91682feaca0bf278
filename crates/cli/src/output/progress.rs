//! The last line on a terminal while a run goes on: how far it is.

use super::Out;
use super::table::{count, cut};
use crate::settings::OutputSettings;
use std::io::{self, Write};
use std::time::{Duration, Instant};
use yieldtray_engine::Run;

/// A run that is over before anybody could read the line shows none.
const SHOW_AFTER: Duration = Duration::from_millis(300);

/// The line is drawn anew this often at most.
const REDRAW_INTERVAL: Duration = Duration::from_millis(90);

/// Moves to the beginning of the line and erases it (ECMA-48 EL).
const CLEAR_LINE: &str = "\r\x1b[2K";

/// The line, and whether it is drawn now.
pub(crate) struct ProgressLine {
    /// False where there is no terminal, or data is printed: then nothing is ever drawn.
    shown: bool,
    began: Instant,
    drawn: bool,
    last: Option<Instant>,
}

impl ProgressLine {
    /// The line of a run that began then. It is shown on a terminal, unless data is printed.
    pub(crate) fn new(began: Instant, settings: &OutputSettings) -> Self {
        Self { shown: settings.terminal && !settings.json, began, drawn: false, last: None }
    }

    /// True if it is drawn at all: then the run must report its progress.
    pub(crate) fn is_shown(&self) -> bool {
        self.shown
    }

    /// The text of the line, if it is time to draw it again.
    fn text(&self, run: &Run<'_>, failed: usize, width: Option<usize>) -> Option<String> {
        let took = self.began.elapsed();
        if !self.shown || took < SHOW_AFTER || self.last.is_some_and(|last| last.elapsed() < REDRAW_INTERVAL) {
            return None;
        }
        let progress = run.progress();
        let name = progress.waits_for.map(|cell| &*run.workspace().cell(cell).name);
        let line = describe((progress.done, progress.all), failed, run.summary().requests, took, name);
        Some(cut(&line, width.unwrap_or(80).saturating_sub(1)))
    }
}

impl Out {
    /// Draws the progress line of a run in which `failed` cells did not pass, if it is time to.
    pub(crate) fn draw_progress(&mut self, line: &mut ProgressLine, run: &Run<'_>, failed: usize) -> io::Result<()> {
        let Some(text) = line.text(run, failed, self.settings.width) else { return Ok(()) };
        self.clear_progress(line)?;
        line.drawn = true;
        line.last = Some(Instant::now());
        let text = self.settings.styles.dim(&text);
        write!(self.result(), "{text}")?;
        self.flush()
    }

    /// Takes the progress line away before something else is written.
    pub(crate) fn clear_progress(&mut self, line: &mut ProgressLine) -> io::Result<()> {
        match std::mem::take(&mut line.drawn) {
            true => write!(self.result(), "{CLEAR_LINE}"),
            false => Ok(()),
        }
    }
}

fn describe(steps: (usize, usize), failed: usize, requests: usize, took: Duration, name: Option<&str>) -> String {
    let (done, all) = steps;
    let rate = requests as f64 / took.as_secs_f64().max(0.001);
    let rate = if rate < 9.95 { format!("{rate:.1}") } else { format!("{rate:.0}") };
    let requests = count(requests, "request", "requests");
    let on_tick = name.map(|name| format!(" · waiting for {name}")).unwrap_or_default();
    format!("{done} of {all} done · {failed} failed · {} left · {requests}, {rate} a second{on_tick}", all - done)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_line_says_how_far_and_how_fast() {
        let second = Duration::from_secs(1);
        assert_eq!(
            describe((3, 12), 0, 1, second * 2, None),
            "3 of 12 done · 0 failed · 9 left · 1 request, 0.5 a second"
        );
        assert_eq!(
            describe((11, 12), 2, 850, second, Some("weigh")),
            "11 of 12 done · 2 failed · 1 left · 850 requests, 850 a second · waiting for weigh"
        );
    }
}
