//! Records a run while it goes on, into reports and the log. Entries are collected in batches, and a thread of its own
//! writes batch after batch.
//!
//! ```text
//! Event ─→ RecordEntry ─→ Batch ─→ (Writer: its thread) ─→ RecordSinks ─→ Reports, LogRecorder
//! ```

mod batch_writer;
mod drop_queue;
mod log_recorder;
mod report_writer;

use crate::run::RunObserver;
use batch_writer::{BatchSink, Writer};
use drop_queue::DropQueue;
pub(crate) use log_recorder::LogRecorder;
pub(crate) use report_writer::Reports;
use std::io;
use std::sync::Arc;
use std::time::{Duration, Instant};
use yieldtray_engine::{CellReport, Event, Run};
use yieldtray_http::CapturedExchange;
use yieldtray_report::{Entry, millis};
use yieldtray_workspace::secret::Masker;

/// The cells of a batch: enough to be worth a transaction, few enough that little is left when a run is over.
const MAX_BATCH_CELLS: usize = 64;

/// The bytes of bodies in a batch.
const MAX_BATCH_BYTES: usize = 8 << 20;

/// The time that a cell waits to be written, as long as others follow it.
const MAX_BATCH_AGE: Duration = Duration::from_secs(1);

/// A cell that is done, as it is written down: secrets and all, until somebody masks it.
pub(crate) struct RecordEntry {
    entry: Entry<'static>,
    /// The exchange, if the cell was sent.
    kept: Option<Arc<CapturedExchange>>,
}

impl RecordEntry {
    /// The entry for a report.
    pub(crate) fn of(run: &Run<'_>, report: &CellReport) -> Self {
        let kept = report.captured.clone();
        let mut entry = Entry::of(run.workspace(), report);
        entry.started_ms = kept.as_ref().map(|kept| millis(kept.began));
        Self { entry, kept }
    }

    fn size(&self) -> usize {
        self.kept.as_ref().and_then(|kept| kept.answer.as_ref()).map_or(0, |answer| answer.body.len())
    }
}

/// The entries that are written together.
pub(crate) struct Batch {
    entries: Vec<RecordEntry>,
    /// All that is known to be secret by then.
    masker: Masker,
}

impl Batch {
    /// A page with all of this on it.
    pub(crate) fn of(run: &Run<'_>, entries: Vec<RecordEntry>) -> Self {
        Self { entries, masker: run.masker().hiding().into_owned() }
    }
}

/// The destinations of batches.
#[derive(Default)]
pub(crate) struct RecordSinks {
    /// The reports, if there are any.
    pub(crate) reports: Option<Reports>,
    /// The log, if anything is logged.
    pub(crate) logbook: Option<LogRecorder>,
}

impl BatchSink for RecordSinks {
    type Batch = Batch;

    fn write(&mut self, batch: &Batch) {
        if let Some(reports) = &mut self.reports {
            batch.entries.iter().for_each(|entries| reports.write_entry(entries, &batch.masker));
        }
        if let Some(logbook) = &mut self.logbook {
            logbook.write(batch);
        }
    }

    fn on_panic(&mut self) {
        if let Some(reports) = &mut self.reports {
            reports.on_panic();
        }
    }
}

/// Records events on their way to another observer.
pub(crate) struct Recording<A> {
    audience: A,
    /// The current batch; `None` without destinations.
    record: Option<Record>,
}

impl<A> Recording<A> {
    /// One that writes into `sinks`.
    pub(crate) fn new(audience: A, sinks: RecordSinks) -> Self {
        let wanted = sinks.reports.is_some() || sinks.logbook.is_some();
        Self { audience, record: wanted.then(|| Record::new(sinks)) }
    }

    /// The audience, and the books with all of the run in them.
    pub(crate) fn end(self, run: &Run<'_>) -> (A, RecordSinks) {
        (self.audience, self.record.map_or_else(RecordSinks::default, |record| record.end(run)))
    }
}

/// The entries that are not yet on their way to the destinations.
struct Record {
    entries: Vec<RecordEntry>,
    size: usize,
    /// The time of the first of those.
    since: Option<Instant>,
    spent: DropQueue<RecordEntry>,
    writer: Writer<RecordSinks>,
}

impl Record {
    fn new(sinks: RecordSinks) -> Self {
        Self {
            entries: Vec::with_capacity(MAX_BATCH_CELLS),
            size: 0,
            since: None,
            spent: DropQueue::new(),
            writer: Writer::new(sinks),
        }
    }

    fn take(&mut self, run: &Run<'_>, report: &CellReport) {
        self.spent.drop_one();
        let entries = RecordEntry::of(run, report);
        self.size += entries.size();
        self.entries.push(entries);
        let since = *self.since.get_or_insert_with(Instant::now);
        if self.entries.len() >= MAX_BATCH_CELLS || self.size >= MAX_BATCH_BYTES || since.elapsed() >= MAX_BATCH_AGE {
            let batch = self.batch(run);
            let written = self.writer.put(batch);
            self.spent.take(written.into_iter().map(|batch| batch.entries));
        }
    }

    fn batch(&mut self, run: &Run<'_>) -> Batch {
        (self.size, self.since) = (0, None);
        Batch::of(run, std::mem::replace(&mut self.entries, Vec::with_capacity(MAX_BATCH_CELLS)))
    }

    fn end(mut self, run: &Run<'_>) -> RecordSinks {
        let batch = self.batch(run);
        self.writer.end(batch)
    }
}

impl<A: RunObserver> RunObserver for Recording<A> {
    fn on_event(&mut self, run: &Run<'_>, event: Event) -> io::Result<()> {
        if let (Event::CellFinished(report), Some(record)) = (&event, &mut self.record) {
            record.take(run, report);
        }
        self.audience.on_event(run, event)
    }

    fn wants_ticks(&self) -> bool {
        self.audience.wants_ticks()
    }

    fn on_tick(&mut self, run: &Run<'_>) -> io::Result<()> {
        self.audience.on_tick(run)
    }

    fn release_terminal(&mut self) -> io::Result<()> {
        self.audience.release_terminal()
    }
}
