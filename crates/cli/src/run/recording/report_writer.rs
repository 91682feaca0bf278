//! Writing reports: each is made beside its place, entry by entry, and gets its name when it is whole.

use super::RecordEntry;
use crate::args::ReportFile;
use crate::error::CommandError;
use crate::files::AtomicFile;
use crate::output::Out;
use std::fs::File;
use std::io::{self, Seek, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;
use yieldtray_engine::Run;
use yieldtray_report::{Entry, Format, ReportKind, RunInfo, Streams, millis};
use yieldtray_source::join_words;
use yieldtray_workspace::secret::Masker;

/// Text is put aside in pieces of about so many bytes.
const BUFFER_BYTES: usize = 64 << 10;

/// The reports that are being written.
pub(crate) struct Reports {
    about: RunInfo,
    all: Vec<Report>,
}

struct Report {
    /// As the command line names it.
    name: String,
    path: PathBuf,
    kind: ReportKind,
    format: Box<dyn Format>,
    streams: Streams,
    /// Where the streams are put aside.
    first: SpillBuffer,
    rest: SpillBuffer,
    file: AtomicFile,
    /// Why it cannot be written; the run goes on.
    failed: Option<io::Error>,
}

impl Reports {
    /// Begins reports; a file that cannot be written is known before anything is sent.
    pub(crate) fn begin(
        files: &[ReportFile],
        path: impl Fn(&Path) -> PathBuf,
        about: RunInfo,
    ) -> Result<Self, CommandError> {
        let mut all: Vec<Report> = Vec::with_capacity(files.len());
        for ReportFile { kind, file } in files {
            let (name, path) = (file.display().to_string(), path(file));
            if all.iter().any(|other| other.path == path) {
                let message = format!("two reports cannot both be written to `{name}`");
                return Err(CommandError::refused_with(message, "use a separate file for each"));
            }
            let file = AtomicFile::new(&path).map_err(|error| CommandError::refused(cannot_write(&name, &error)))?;
            all.push(Report {
                name,
                path,
                kind: *kind,
                format: kind.format(&about),
                streams: Streams::default(),
                first: SpillBuffer::default(),
                rest: SpillBuffer::default(),
                file,
                failed: None,
            });
        }
        Ok(Self { about, all })
    }

    /// True if one of them contains exchanges.
    pub(crate) fn tell_exchanges(&self) -> bool {
        self.all.iter().any(|report| report.kind.has_exchanges())
    }

    /// Their files, as far as they lie below `root`, relative to it.
    pub(crate) fn below(&self, root: &Path) -> Vec<PathBuf> {
        self.all.iter().filter_map(|report| report.path.strip_prefix(root).map(Path::to_owned).ok()).collect()
    }

    /// Whether there are any.
    pub(crate) fn are_wanted(&self) -> bool {
        !self.all.is_empty()
    }

    /// Adds a cell, with its exchange.
    pub(super) fn write_entry(&mut self, recorded: &RecordEntry, masker: &Masker) {
        match &recorded.kept {
            Some(kept) => self.entry(&recorded.entry.clone().with_exchange(kept, masker)),
            None => self.entry(&recorded.entry),
        }
    }

    /// Notes that the program itself failed at them: they are not whole.
    pub(super) fn on_panic(&mut self) {
        for report in &mut self.all {
            report.failed.get_or_insert_with(|| io::Error::other("yieldtray itself failed"));
        }
    }

    /// Tells of an entry.
    pub(crate) fn entry(&mut self, entry: &Entry<'_>) {
        for report in self.all.iter_mut().filter(|report| report.failed.is_none()) {
            report.format.entry(entry, &mut report.streams);
            report.failed = report.quarantine().err();
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

    /// Moves each report into place. Returns `false` if some could not be written, which is reported.
    pub(crate) fn finish(self, out: &mut Out) -> io::Result<bool> {
        let (mut written, mut all_well) = (Vec::new(), true);
        for report in self.all {
            let name = report.name.clone();
            match report.finish(&self.about) {
                Ok(()) => written.push(name),
                Err(error) => {
                    all_well = false;
                    out.refusal(None, &cannot_write(&name, &error), None)?;
                }
            }
        }
        if !(written.is_empty() || out.settings.json || out.settings.quiet) {
            let are = if written.len() == 1 { "report" } else { "reports" };
            let line = format!("{are} written to {}", join_words(&written).replace('`', ""));
            out.say(&out.settings.error_styles.dim(&line))?;
        }
        Ok(all_well)
    }
}

fn cannot_write(name: &str, error: &io::Error) -> String {
    format!("cannot write the report `{name}`: {error}")
}

impl Report {
    fn quarantine(&mut self) -> io::Result<()> {
        self.first.take(&mut self.streams.first)?;
        self.rest.take(&mut self.streams.all)
    }

    fn finish(mut self, about: &RunInfo) -> io::Result<()> {
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

/// Text that waits for the text before it: in an unnamed file, once it is long.
#[derive(Default)]
struct SpillBuffer(Option<File>);

impl SpillBuffer {
    /// Takes the text, if it is long.
    fn take(&mut self, text: &mut String) -> io::Result<()> {
        if text.len() < BUFFER_BYTES {
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
    fn give(&mut self, last: &str, to: &mut AtomicFile) -> io::Result<()> {
        if let Some(file) = &mut self.0 {
            file.rewind()?;
            to.append(file)?;
        }
        to.write_all(last.as_bytes())
    }
}
