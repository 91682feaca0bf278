//! The last line on a terminal while a run goes on: how far it is.

use super::Out;
use super::table::{count, cut};
use std::io::{self, Write};
use std::time::{Duration, Instant};
use yieldtray_core::replay::Summary;

/// A run that is over before anybody could read the line shows none.
const LATE: Duration = Duration::from_millis(300);

/// The line is drawn anew this often at most.
const OFTEN: Duration = Duration::from_millis(90);

/// The line, and whether it stands there now.
pub(crate) struct Progress {
    began: Instant,
    drawn: bool,
    last: Instant,
}

impl Progress {
    pub(crate) fn new(began: Instant) -> Self {
        Self { began, drawn: false, last: began }
    }

    /// Takes the line away, since something else is written.
    pub(crate) fn clear(&mut self, out: &mut Out) -> io::Result<()> {
        if std::mem::take(&mut self.drawn) {
            write!(out.result(), "\r\x1b[2K")?;
        }
        Ok(())
    }

    /// Draws it, if it is time to: how many of the plan's steps are done, how many there are, and the figures.
    pub(crate) fn draw(
        &mut self,
        out: &mut Out,
        steps: (usize, usize),
        failed: usize,
        figures: &Summary,
    ) -> io::Result<()> {
        let took = self.began.elapsed();
        if took < LATE || (self.last.elapsed() < OFTEN && self.last != self.began) {
            return Ok(());
        }
        self.clear(out)?;
        let line = words(steps, failed, figures.requests, took);
        let line = cut(&line, out.width.unwrap_or(80).saturating_sub(1));
        let line = out.look.faint(&line);
        write!(out.result(), "{line}")?;
        self.drawn = true;
        self.last = Instant::now();
        out.flush()
    }
}

fn words(steps: (usize, usize), failed: usize, requests: usize, took: Duration) -> String {
    let (done, all) = steps;
    let rate = requests as f64 / took.as_secs_f64().max(0.001);
    let rate = if rate < 9.95 { format!("{rate:.1}") } else { format!("{rate:.0}") };
    format!(
        "{done} of {all} done · {failed} failed · {} left · {}, {rate} a second",
        all - done,
        count(requests, "request", "requests")
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_line_says_how_far_and_how_fast() {
        let second = Duration::from_secs(1);
        assert_eq!(words((3, 12), 0, 1, second * 2), "3 of 12 done · 0 failed · 9 left · 1 request, 0.5 a second");
        assert_eq!(words((12, 12), 2, 850, second), "12 of 12 done · 2 failed · 0 left · 850 requests, 850 a second");
    }
}
