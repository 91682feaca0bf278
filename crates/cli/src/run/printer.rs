//! A replay as it is shown while it runs: as text for a person, or an event a line for a program.

use crate::output::cell::{CellLines, Heading, summary, time};
use crate::output::progress::ProgressLine;
use crate::output::{Out, data, table};
use crate::run::RunObserver;
use std::io::{self, Write};
use std::time::{Duration, Instant};
use yieldtray_engine::{CellReport, Event, Run};
use yieldtray_expression::RandomSource;
use yieldtray_source::{Problem, SourceId};

/// The number of slowest requests that are listed.
const SLOWEST_SHOWN: usize = 5;

/// Shows a run.
pub(crate) struct RunPrinter<'o, 'w> {
    out: &'o mut Out,
    lines: CellLines<'w>,
    heading: Heading,
    /// Says which seed was used.
    random: &'w RandomSource,
    /// The file whose cells are shown now.
    file: Option<SourceId>,
    /// Problems that were shown: one of a preamble holds for many cells.
    shown: Vec<Problem>,
    began: Instant,
    /// Cells that did not pass.
    failed: usize,
    progress: ProgressLine,
    /// The slowest requests so far, if they are asked for: time, place and name.
    slowest: Option<Vec<(Duration, String)>>,
}

impl<'o, 'w> RunPrinter<'o, 'w> {
    pub(crate) fn new(
        out: &'o mut Out,
        lines: CellLines<'w>,
        heading: Heading,
        random: &'w RandomSource,
        verbose: bool,
    ) -> Self {
        let began = Instant::now();
        let progress = ProgressLine::new(began, &out.settings);
        let slowest = verbose.then(Vec::new);
        Self { out, lines, heading, random, file: None, shown: Vec::new(), began, failed: 0, progress, slowest }
    }

    fn show(&mut self, event: &Event) -> io::Result<()> {
        match event {
            Event::RunStarted { cells, .. } => {
                if !self.out.settings.quiet {
                    let line = self.heading.text(self.out.settings.styles);
                    writeln!(self.out.result(), "{line}  {}", table::count(*cells, "request", "requests"))?;
                }
            }
            Event::TokenObtained(report) => {
                if !self.out.settings.quiet {
                    let line = self.lines.token(report);
                    writeln!(self.out.result(), "{line}")?;
                }
            }
            Event::CellFinished(report) => self.cell(report)?,
            Event::RunFinished(figures) => {
                let took = self.began.elapsed();
                self.print_slowest()?;
                let line = summary(figures, took, self.out.settings.styles);
                writeln!(self.out.result(), "{line}")?;
            }
        }
        if self.out.settings.terminal { self.out.flush() } else { Ok(()) }
    }

    fn cell(&mut self, report: &CellReport) -> io::Result<()> {
        let bad = !report.outcome.is_fine();
        self.failed += usize::from(bad);
        if bad || !self.out.settings.quiet {
            if self.file != Some(report.cell.source) {
                self.file = Some(report.cell.source);
                let path = self.lines.workspace.shown_path(report.cell.source);
                let path = self.out.settings.styles.strong(&path);
                writeln!(self.out.result(), "{path}")?;
            }
            for line in self.lines.cell(report) {
                writeln!(self.out.result(), "{line}")?;
            }
        }
        self.note_time(report);
        let fresh: Vec<Problem> =
            report.problems.iter().filter(|problem| !self.shown.contains(problem)).cloned().collect();
        self.out.problems(self.lines.workspace, &fresh)?;
        self.shown.extend(fresh);
        Ok(())
    }

    fn note_time(&mut self, report: &CellReport) {
        let Some(slowest) = &mut self.slowest else { return };
        let is_slow = slowest.len() < SLOWEST_SHOWN || slowest.last().is_some_and(|(least, _)| report.elapsed > *least);
        if report.status.is_some() && is_slow {
            let workspace = self.lines.workspace;
            let row = report.row.map(|row| format!(" row {row}")).unwrap_or_default();
            let place = workspace.shown_cell(report.cell);
            slowest.push((report.elapsed, format!("{place}  {}{row}", workspace.cell(report.cell).name)));
            slowest.sort_by_key(|(time, _)| std::cmp::Reverse(*time));
            slowest.truncate(SLOWEST_SHOWN);
        }
    }

    fn print_slowest(&mut self) -> io::Result<()> {
        let Some(slowest) = self.slowest.take().filter(|slowest| !slowest.is_empty()) else { return Ok(()) };
        let styles = self.out.settings.styles;
        writeln!(self.out.result(), "{}", styles.strong("slowest"))?;
        for (took, place) in slowest {
            writeln!(self.out.result(), "  {}  {place}", table::right(&time(took), 7))?;
        }
        Ok(())
    }
}

impl RunObserver for RunPrinter<'_, '_> {
    fn on_event(&mut self, run: &Run<'_>, event: Event) -> io::Result<()> {
        if self.out.settings.json {
            let seed = self.random.seed_in_use();
            let line = data::event(self.lines.workspace, &event, self.began.elapsed(), seed);
            writeln!(self.out.result(), "{line}")?;
            // One event a line while it runs: whoever reads along shall have it now.
            return self.out.flush();
        }
        self.release_terminal()?;
        self.show(&event)?;
        if matches!(event, Event::RunFinished(_)) { Ok(()) } else { self.on_tick(run) }
    }

    fn wants_ticks(&self) -> bool {
        self.progress.is_shown()
    }

    fn on_tick(&mut self, run: &Run<'_>) -> io::Result<()> {
        self.out.draw_progress(&mut self.progress, run, self.failed)
    }

    fn release_terminal(&mut self) -> io::Result<()> {
        self.out.clear_progress(&mut self.progress)
    }
}
