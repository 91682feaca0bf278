//! Records exchanges in the log.

use super::{Batch, RecordEntry};
use crate::clock;
use crate::output::Out;
use crate::project::revision::Revisions;
use crate::project::{Project, state};
use std::borrow::Cow;
use std::io;
use std::path::PathBuf;
use yieldtray_report::log::LoggedExchange;
use yieldtray_store::log::{ExchangePayload, ExchangeRow, Retention};
use yieldtray_store::{Error, Store};
use yieldtray_workspace::CellId;
use yieldtray_workspace::secret::Masker;

/// Where what is sent in a run is logged.
pub(crate) struct LogRecorder {
    root: PathBuf,
    environment: String,
    seed: u64,
    /// When the run began, in milliseconds since 1970.
    began: i64,
    keeping: Retention,
    revisions: Revisions,
    /// The state, once there was something to log.
    store: Option<Store>,
    /// The number of the last exchange.
    last: Option<i64>,
    /// Why nothing more is logged.
    failed: Option<Error>,
}

impl LogRecorder {
    /// A recorder for a run that begins now; `None` if nothing is to be logged.
    pub(crate) fn begin(project: &Project, cells: impl Iterator<Item = CellId>, wanted: bool) -> Option<Self> {
        let settings = project.workspace.config.log;
        // `--reveal` shows secrets, but must not write them down.
        if !wanted || !settings.is_on() || project.reveal {
            return None;
        }
        let mut sources: Vec<_> = cells.map(|cell| cell.source).collect();
        sources.sort_unstable();
        sources.dedup();
        let files = sources.into_iter().map(|source| project.workspace.shown_path(source));
        let files: Vec<String> = files.filter(|file| project.workspace.find_loaded(file).is_some()).collect();
        let began = clock::now_millis();
        let since = began - i64::from(settings.days()) * 86_400_000;
        let revisions = match files.is_empty() {
            true => Revisions::Known(None),
            false => Revisions::ask(&project.root, &files, &project.trust),
        };
        Some(Self {
            root: project.root.clone(),
            environment: state::environment(&project.settings).to_owned(),
            seed: project.random.seed(),
            began,
            keeping: Retention { exchanges: settings.exchanges(), since },
            revisions,
            store: None,
            last: None,
            failed: None,
        })
    }

    /// The logbook with the state that is open already.
    #[must_use]
    pub(crate) fn with_store(mut self, store: Option<Store>) -> Self {
        self.store = store;
        self
    }

    /// Logs the exchanges of a batch. After an error, no more is logged.
    pub(crate) fn write(&mut self, batch: &Batch) {
        let mut sent = batch.entries.iter().filter(|recorded| recorded.kept.is_some()).peekable();
        if self.failed.is_some() || sent.peek().is_none() {
            return;
        }
        let mut store = self.store.take();
        let written = state::made(&mut store, &self.root).and_then(|store| {
            let keeping = self.keeping;
            store.log(sent.filter_map(|recorded| self.row(recorded, &batch.masker)), keeping)
        });
        self.store = store;
        match written {
            Ok(last) => self.last = Some(last),
            Err(error) => self.failed = Some(error),
        }
    }

    fn row(&mut self, recorded: &RecordEntry, masker: &Masker) -> Option<(ExchangeRow, ExchangePayload)> {
        let (entry, kept) = (&recorded.entry, recorded.kept.as_ref()?);
        let past = LoggedExchange::of(Cow::Borrowed(entry), kept, masker, self.seed);
        let failed = entry.failures.len() + entry.failed_yields().count();
        let number = |number: usize| i64::try_from(number).unwrap_or(i64::MAX);
        let summary = ExchangeRow {
            at: self.began + i64::try_from(kept.began.as_millis()).unwrap_or_default(),
            environment: self.environment.clone(),
            file: entry.file.clone(),
            name: entry.name.clone(),
            row: entry.row.map(number),
            played_by: entry.played_by.clone(),
            method: entry.method.clone().unwrap_or_default(),
            url: entry.url.clone().unwrap_or_default(),
            status: entry.status,
            micros: i64::try_from(entry.elapsed().as_micros()).unwrap_or(i64::MAX),
            size: entry.size.map_or(0, |size| i64::try_from(size).unwrap_or(i64::MAX)),
            outcome: entry.outcome.as_str().to_owned(),
            checks: number(entry.checks),
            failed: number(failed),
            revision: self.revisions.of(&entry.file),
        };
        let (head, fields) = (past.head(), past.fields().to_owned());
        let (sent, received) = (past.sent.bytes.map(Cow::into_owned), past.received.bytes.map(Cow::into_owned));
        Some((summary, ExchangePayload { head, fields, sent, received }))
    }

    /// Says so if something could not be logged. Gives the number of the last exchange.
    pub(crate) fn end(self, out: &mut Out) -> io::Result<Option<i64>> {
        // A folder that is not this user's own was reported when the project was opened.
        if let Some(error) = self.failed.as_ref().filter(|error| !matches!(error, Error::Untrusted(_))) {
            state::report_state_error(&self.root, "cannot log this exchange", error, out)?;
            return Ok(None);
        }
        Ok(self.last)
    }
}
