//! Keeping what was sent and came back in the log: gathered while a run goes on, written in groups.

use crate::kept;
use crate::revision::Revisions;
use crate::sending::Audience;
use crate::session::Session;
use crate::show::Out;
use std::borrow::Cow;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};
use yieldtray_core::log::Past;
use yieldtray_core::replay::{CellReport, Event, Kept, Run};
use yieldtray_core::report::Entry;
use yieldtray_core::secret::Masker;
use yieldtray_core::workspace::CellId;
use yieldtray_store::log::{Keeping, Message, Summary};
use yieldtray_store::{Error, Store};

/// So many exchanges are written in one go at most: few enough that little is left to write when a run is over.
const GROUP: usize = 200;

/// So many bytes of heads and bodies are gathered at most.
const LARGE_GROUP: usize = 8 << 20;

/// So long an exchange waits to be written at most, as long as others follow it.
const LONGEST: Duration = Duration::from_secs(1);

/// So many groups wait to be written at most; a run that is faster than the disk waits for it.
const GROUPS_WAITING: usize = 2;

/// What is written together.
struct Group {
    exchanges: Vec<Gathered>,
    /// All that is known to be secret by then.
    masker: Masker,
}

/// An exchange before it is made ready for the log, secrets and all.
struct Gathered {
    entry: Entry<'static>,
    kept: Arc<Kept>,
}

/// What gathers exchanges.
pub(crate) struct Logbook {
    gathered: Vec<Gathered>,
    size: usize,
    /// When the first of those was.
    since: Option<Instant>,
    pages: Pages,
}

/// Where groups are written.
struct Pages {
    root: PathBuf,
    environment: String,
    seed: u64,
    /// When the run began, in milliseconds since 1970.
    began: i64,
    keeping: Keeping,
    revisions: Revisions,
}

impl Logbook {
    /// One for a run that begins now; nothing where nothing is to be logged.
    pub(crate) fn begin(session: &Session, cells: impl Iterator<Item = CellId>, wanted: bool) -> Option<Self> {
        let settings = session.workspace.config.log;
        // Who asked to see secrets did not ask to have them written down.
        if !wanted || !settings.is_on() || session.reveal {
            return None;
        }
        let mut sources: Vec<_> = cells.map(|cell| cell.source).collect();
        sources.sort_unstable();
        sources.dedup();
        let files = sources.into_iter().map(|source| session.workspace.shown_path(source));
        let files: Vec<String> = files.filter(|file| session.workspace.find_loaded(file).is_some()).collect();
        let began = kept::now_millis();
        let since = began - i64::from(settings.days()) * 86_400_000;
        let revisions = match files.is_empty() {
            true => Revisions::Known(None),
            false => Revisions::ask(&session.root, &files),
        };
        let keeping = Keeping { exchanges: settings.exchanges(), since };
        let pages = Pages {
            root: session.root.clone(),
            environment: kept::environment(&session.settings).to_owned(),
            seed: session.engine.made_up().seed(),
            began,
            keeping,
            revisions,
        };
        Some(Self { gathered: Vec::new(), size: 0, since: None, pages })
    }

    /// Takes what was sent and came back, as far as a run kept it.
    pub(crate) fn take(&mut self, run: &Run<'_>, report: &CellReport) {
        let Some(kept) = &report.kept else { return };
        self.size += kept.answer.as_ref().map_or(0, |answer| answer.body.len());
        self.gathered.push(Gathered { entry: Entry::of(run.workspace(), report), kept: Arc::clone(kept) });
        self.since.get_or_insert_with(Instant::now);
    }

    /// Whether it is time to write.
    fn is_due(&self) -> bool {
        self.gathered.len() >= GROUP
            || self.size >= LARGE_GROUP
            || self.since.is_some_and(|since| since.elapsed() >= LONGEST)
    }

    /// What was gathered, to be written.
    fn group(&mut self, run: &Run<'_>) -> Group {
        (self.size, self.since) = (0, None);
        Group { exchanges: std::mem::take(&mut self.gathered), masker: run.masker().hiding().into_owned() }
    }

    /// Writes what was gathered, into `store` if it is open. Gives the number of the last exchange.
    pub(crate) fn write(mut self, run: &Run<'_>, store: &mut Option<Store>, out: &mut Out) -> io::Result<Option<i64>> {
        let group = self.group(run);
        match self.pages.write(group, store) {
            Ok(last) => Ok(last),
            Err(error) => not_logged(&self.pages.root, &error, out).map(|()| None),
        }
    }
}

impl Pages {
    /// Writes a group. Gives the number of its last exchange.
    fn write(&mut self, group: Group, store: &mut Option<Store>) -> Result<Option<i64>, Error> {
        let Group { exchanges, masker } = group;
        if exchanges.is_empty() {
            return Ok(None);
        }
        let rows: Vec<(Summary, Message)> = exchanges.into_iter().map(|own| self.row(own, &masker)).collect();
        kept::made(store, &self.root)?.log(&rows, self.keeping).map(Some)
    }

    fn row(&mut self, Gathered { entry, kept }: Gathered, masker: &Masker) -> (Summary, Message) {
        let past = Past::of(entry, &kept, masker, self.seed);
        let message = Message {
            head: past.head(),
            fields: past.fields().to_owned(),
            sent: past.sent.bytes.map(Cow::into_owned),
            came: past.came.bytes.map(Cow::into_owned),
        };
        let entry = past.entry;
        let failed = entry.failures.len() + entry.failed_yields().count();
        let number = |number: usize| i64::try_from(number).unwrap_or(i64::MAX);
        let summary = Summary {
            at: self.began + i64::try_from(kept.began.as_millis()).unwrap_or_default(),
            environment: self.environment.clone(),
            row: entry.row.map(number),
            micros: i64::try_from(entry.elapsed().as_micros()).unwrap_or(i64::MAX),
            status: entry.status,
            size: entry.size.map_or(0, |size| i64::try_from(size).unwrap_or(i64::MAX)),
            outcome: entry.outcome.as_str().to_owned(),
            checks: number(entry.checks),
            failed: number(failed),
            revision: self.revisions.of(&entry.file),
            method: entry.method.unwrap_or_default(),
            url: entry.url.unwrap_or_default(),
            file: entry.file,
            name: entry.name,
            played_by: entry.played_by,
        };
        (summary, message)
    }

    /// The same for a thread of its own; what git answers goes with it.
    fn hand_over(&mut self) -> Self {
        Self {
            root: self.root.clone(),
            environment: self.environment.clone(),
            revisions: std::mem::replace(&mut self.revisions, Revisions::Known(None)),
            ..*self
        }
    }
}

fn not_logged(root: &std::path::Path, error: &Error, out: &mut Out) -> io::Result<()> {
    kept::trouble(root, "what was sent is not logged", error, out)
}

/// Lets a log hear what another audience hears.
pub(crate) struct Logging<A> {
    audience: A,
    log: Log,
}

/// The log of a run. Groups are written by a thread, so that the run does not wait for the disk.
pub(crate) struct Log {
    logbook: Option<Logbook>,
    writer: Option<Writer>,
}

/// A thread that writes groups as they come.
struct Writer {
    groups: SyncSender<Group>,
    thread: JoinHandle<Result<(), Error>>,
}

impl<A> Logging<A> {
    /// One that writes what `logbook` takes.
    pub(crate) fn new(audience: A, logbook: Option<Logbook>) -> Self {
        Self { audience, log: Log { logbook, writer: None } }
    }

    /// The audience and the log, when the run is over.
    pub(crate) fn into_parts(self) -> (A, Log) {
        (self.audience, self.log)
    }

    /// The log alone, when the run is over.
    pub(crate) fn into_log(self) -> Log {
        self.log
    }
}

impl Log {
    fn take(&mut self, run: &Run<'_>, report: &CellReport) {
        let Some(logbook) = &mut self.logbook else { return };
        logbook.take(run, report);
        if logbook.is_due() {
            let group = logbook.group(run);
            self.write(group);
        }
    }

    fn write(&mut self, group: Group) {
        let Some(logbook) = &mut self.logbook else { return };
        let writer = self.writer.get_or_insert_with(|| Writer::start(logbook.pages.hand_over()));
        // One that failed tells why at the end.
        let _ = writer.groups.send(group);
    }

    /// Writes what is left, and says so if something could not be logged.
    pub(crate) fn end(mut self, run: &Run<'_>, out: &mut Out) -> io::Result<()> {
        let Some(mut logbook) = self.logbook.take() else { return Ok(()) };
        let Some(Writer { groups, thread }) = self.writer.take() else {
            return logbook.write(run, &mut None, out).map(drop);
        };
        let _ = groups.send(logbook.group(run));
        drop(groups);
        match thread.join() {
            Ok(Ok(())) => Ok(()),
            Ok(Err(error)) => not_logged(&logbook.pages.root, &error, out),
            // A panic was told by its hook.
            Err(_) => Ok(()),
        }
    }
}

impl Writer {
    fn start(mut pages: Pages) -> Self {
        let (groups, waiting) = sync_channel::<Group>(GROUPS_WAITING);
        let thread = thread::spawn(move || {
            stand_back();
            let mut store = None;
            waiting.iter().try_for_each(|group| pages.write(group, &mut store).map(drop))
        });
        Self { groups, thread }
    }
}

/// Gives this thread the time that nobody else wants: the servers may be on the same machine. Where that is not
/// granted, it has its share.
#[cfg(unix)]
fn stand_back() {
    let _ = rustix::process::nice(19);
}

#[cfg(not(unix))]
fn stand_back() {}

impl<A: Audience> Audience for Logging<A> {
    fn happened(&mut self, run: &Run<'_>, event: Event) -> io::Result<()> {
        if let Event::Cell(report) = &event {
            self.log.take(run, report);
        }
        self.audience.happened(run, event)
    }

    fn is_waiting(&self) -> bool {
        self.audience.is_waiting()
    }

    fn waits(&mut self, run: &Run<'_>) -> io::Result<()> {
        self.audience.waits(run)
    }

    fn gives_way(&mut self) -> io::Result<()> {
        self.audience.gives_way()
    }
}
