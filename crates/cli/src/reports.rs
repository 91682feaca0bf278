//! Writing reports: each is made beside its place, entry by entry, and gets its name when it is whole. A thread of
//! its own does it: a run does not wait for what is told of it.

use crate::args::ReportFile;
use crate::disk::Unfinished;
use crate::failure::Stop;
use crate::sending::Audience;
use crate::show::Out;
use anyhow::Context;
use std::fs::File;
use std::io::{self, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::{self, JoinHandle};
use std::time::Duration;
use yieldtray_core::problem::enumerate;
use yieldtray_core::replay::{Event, Kept, Run};
use yieldtray_core::report::{About, Entry, Format, Kind, Streams, millis};
use yieldtray_core::secret::Masker;

/// Text is put aside in pieces of about so many bytes.
const PIECE: usize = 64 << 10;

/// So many entries are handed over at once: to wake a thread for each costs more than the entry.
const TOGETHER: usize = 32;

/// So many times that may wait to be written; then the run waits, so that it does not grow.
const WAITING: usize = 8;

/// The reports that are being written.
pub(crate) struct Reports {
    about: About,
    files: Vec<Place>,
    /// Entries that are not handed over yet.
    batch: Vec<Told>,
    /// Hides what is secret in what is handed over; shared until more becomes known.
    masker: Arc<Masker>,
    /// Who writes, if anything is written.
    writer: Option<Writer>,
}

/// Where a report goes.
struct Place {
    /// As the command line names it.
    name: String,
    path: PathBuf,
    kind: Kind,
}

/// An entry on its way to the writer.
struct Told {
    entry: Entry,
    kept: Option<Box<Kept>>,
    masker: Arc<Masker>,
}

struct Writer {
    entries: SyncSender<Vec<Told>>,
    thread: JoinHandle<Vec<Report>>,
}

/// One report, as the writer has it.
struct Report {
    format: Box<dyn Format>,
    streams: Streams,
    /// Where the streams are put aside.
    first: Aside,
    rest: Aside,
    file: Unfinished,
    /// Why it cannot be written; the run goes on.
    failed: Option<io::Error>,
}

impl Reports {
    /// Begins reports; a file that cannot be written is known before anything is sent.
    pub(crate) fn begin(files: &[ReportFile], path: impl Fn(&Path) -> PathBuf, about: About) -> Result<Self, Stop> {
        let (mut places, mut reports): (Vec<Place>, Vec<Report>) = Default::default();
        for ReportFile { kind, file } in files {
            let (name, path) = (file.display().to_string(), path(file));
            if places.iter().any(|other| other.path == path) {
                let message = format!("two reports cannot both be `{name}`");
                return Err(Stop::refused_with(message, "name a file of its own for each"));
            }
            let file = match path.is_dir() {
                true => Err(io::Error::new(io::ErrorKind::IsADirectory, "it is a folder")),
                false => Unfinished::new(&path),
            };
            let file = file.map_err(|error| Stop::refused(cannot_write(&name, &error)))?;
            let (first, rest) = (Aside::default(), Aside::default());
            reports.push(Report {
                format: kind.format(&about),
                streams: Streams::default(),
                first,
                rest,
                file,
                failed: None,
            });
            places.push(Place { name, path, kind: *kind });
        }
        let writer = (!reports.is_empty()).then(|| Writer::start(reports)).transpose();
        let writer = writer.context("cannot start to write reports")?;
        Ok(Self { about, files: places, batch: Vec::new(), masker: Arc::default(), writer })
    }

    /// Whether one of them tells what was sent and what came back.
    pub(crate) fn tell_exchanges(&self) -> bool {
        self.files.iter().any(|file| file.kind.tells_exchanges())
    }

    /// Their files, as far as they lie below `root`, relative to it.
    pub(crate) fn below(&self, root: &Path) -> Vec<PathBuf> {
        self.files.iter().filter_map(|file| file.path.strip_prefix(root).map(Path::to_owned).ok()).collect()
    }

    /// Tells of an entry; `kept` is masked by what is known as secret now.
    pub(crate) fn entry(&mut self, entry: Entry, kept: Option<Box<Kept>>, masker: &Masker) {
        if self.writer.is_none() {
            return;
        }
        if self.masker.forms() != masker.forms() {
            self.masker = Arc::new(masker.clone());
        }
        self.batch.push(Told { entry, kept, masker: Arc::clone(&self.masker) });
        if self.batch.len() >= TOGETHER {
            self.hand_over();
        }
    }

    fn hand_over(&mut self) {
        let batch = std::mem::take(&mut self.batch);
        if let Some(writer) = &self.writer {
            // Should it have failed, that is known when it is waited for.
            let _ = writer.entries.send(batch);
        }
    }

    /// Takes what is known of a run only when it is over.
    pub(crate) fn end(&mut self, run: &Run<'_>, elapsed: Duration, seed: Option<u64>) {
        let about = &mut self.about;
        about.elapsed_ms = millis(elapsed);
        about.totals = *run.summary();
        about.seed = seed;
        about.base = about.base.take().map(|base| run.masker().mask(&base).into_owned());
    }

    /// Gives each report its name. Those that cannot be written are told; then it is `false`.
    pub(crate) fn finish(mut self, out: &mut Out) -> io::Result<bool> {
        self.hand_over();
        let Some(Writer { entries, thread }) = self.writer.take() else { return Ok(true) };
        drop(entries);
        // A writer that failed has told where, and left nothing behind.
        let reports = thread.join().unwrap_or_default();
        let mut reports = reports.into_iter();
        let mut written = Vec::new();
        for file in &self.files {
            let report = reports.next().ok_or_else(|| io::Error::other("the program itself failed at it"));
            match report.and_then(|report| report.finish(&self.about)) {
                Ok(()) => written.push(file.name.as_str()),
                Err(error) => out.refusal(None, &cannot_write(&file.name, &error), None)?,
            }
        }
        if !(written.is_empty() || out.json || out.quiet) {
            let are = if written.len() == 1 { "report is" } else { "reports are" };
            let line = format!("the {are} in {}", enumerate(&written).replace('`', ""));
            out.say(&out.error_look.faint(&line))?;
        }
        Ok(written.len() == self.files.len())
    }
}

fn cannot_write(name: &str, error: &io::Error) -> String {
    format!("cannot write the report `{name}`: {error}")
}

impl Writer {
    fn start(reports: Vec<Report>) -> io::Result<Self> {
        let (entries, told) = sync_channel(WAITING);
        let thread = thread::Builder::new().name("reports".to_owned()).spawn(move || write(reports, &told))?;
        Ok(Self { entries, thread })
    }
}

/// Writes what comes until nothing more does.
fn write(mut reports: Vec<Report>, told: &Receiver<Vec<Told>>) -> Vec<Report> {
    for Told { entry, kept, masker } in told.iter().flatten() {
        let entry = match &kept {
            Some(kept) => entry.with_exchange(kept, &masker),
            None => entry,
        };
        for report in reports.iter_mut().filter(|report| report.failed.is_none()) {
            report.format.entry(&entry, &mut report.streams);
            report.failed = report.put_aside().err();
        }
    }
    reports
}

impl Report {
    fn put_aside(&mut self) -> io::Result<()> {
        self.first.take(&mut self.streams.first)?;
        self.rest.take(&mut self.streams.all)
    }

    fn finish(mut self, about: &About) -> io::Result<()> {
        if let Some(error) = self.failed {
            return Err(error);
        }
        let frame = self.format.frame(about);
        self.file.write_all(frame.head.as_bytes())?;
        self.first.give(&self.streams.first, &mut self.file)?;
        self.file.write_all(frame.middle.as_bytes())?;
        self.rest.give(&self.streams.all, &mut self.file)?;
        self.file.write_all(frame.tail.as_bytes())?;
        self.file.finish()
    }
}

/// Text that waits for what stands before it: in a file without a name, once it is long.
#[derive(Default)]
struct Aside(Option<File>);

impl Aside {
    /// Takes the text, if it is long.
    fn take(&mut self, text: &mut String) -> io::Result<()> {
        if text.len() < PIECE {
            return Ok(());
        }
        let file = match &mut self.0 {
            Some(file) => file,
            None => self.0.insert(tempfile::tempfile()?),
        };
        file.write_all(text.as_bytes())?;
        text.clear();
        Ok(())
    }

    /// Gives back all it took, and the last piece.
    fn give(&mut self, last: &str, to: &mut Unfinished) -> io::Result<()> {
        if let Some(file) = &mut self.0 {
            file.rewind()?;
            to.append(file)?;
        }
        to.write_all(last.as_bytes())
    }
}

/// Lets reports hear what another audience hears.
pub(crate) struct Reporting<'r, A> {
    pub(crate) audience: A,
    pub(crate) reports: &'r mut Reports,
}

impl<A: Audience> Audience for Reporting<'_, A> {
    fn happened(&mut self, run: &Run<'_>, mut event: Event) -> io::Result<()> {
        if let Event::Cell(report) = &mut event
            && self.reports.writer.is_some()
        {
            let entry = Entry::of(run.workspace(), report);
            self.reports.entry(entry, report.kept.take(), run.masker());
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
