//! Past exchanges for other programs.

use super::{find, one, opened};
use crate::args::{Common, ExportFormat, LogExport};
use crate::error::CommandError;
use crate::files::AtomicFile;
use crate::host::HostFacts;
use crate::output::{Out, table};
use crate::project::Project;
use chrono::{DateTime, Utc};
use std::io::{self, Write};
use yieldtray_engine::ExitCode;
use yieldtray_report::{ReportKind, RunInfo, Streams};

/// Writes exchanges, the oldest first.
pub(super) fn export(
    common: &Common,
    args: &LogExport,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let project = Project::open_any(common, host, out, &[])?;
    let mut store = opened(&project, out)?;
    let mut numbers = args.numbers.clone();
    if numbers.is_empty() {
        let found = find(&mut store, common, &args.filter, usize::MAX, out)?;
        numbers = found.iter().map(|listed| listed.number).collect();
    }
    numbers.sort_unstable();
    numbers.dedup();
    let kind = match args.format {
        ExportFormat::Har => ReportKind::Har,
    };
    let file = args.output.as_ref().map(|file| project.path_from_here(file));
    let unwritten = |error: io::Error| {
        let name = args.output.as_ref().map_or_else(|| "standard output".to_owned(), |file| file.display().to_string());
        CommandError::refused(format!("cannot write `{name}`: {error}"))
    };
    let mut whole = file.as_deref().map(AtomicFile::new).transpose().map_err(unwritten)?;
    // All times count from the first one, so that none loses digits.
    let began =
        numbers.first().map(|number| one(&store, Some(*number))).transpose()?.map(|(first, _)| first.summary.at);
    let began = began.unwrap_or_default();
    let environment = project.settings.environment.clone();
    let about = RunInfo::new(DateTime::<Utc>::from_timestamp_millis(began).unwrap_or_default(), environment, None);
    let mut format = kind.format(&about);
    let frame = format.frame(&about);
    let mut write = |out: &mut Out, text: &str| match &mut whole {
        Some(file) => file.write_all(text.as_bytes()).map_err(unwritten),
        None => Ok(out.result().write_all(text.as_bytes())?),
    };
    write(out, &frame.head)?;
    for number in &numbers {
        let (listed, past) = one(&store, Some(*number))?;
        let mut entry = past.with_exchange();
        entry.started_ms = Some((listed.summary.at - began).max(0) as f64);
        let mut streams = Streams::default();
        format.entry(&entry, &mut streams);
        write(out, &streams.all)?;
    }
    write(out, &frame.tail)?;
    if let (Some(whole), Some(name)) = (whole, &args.output) {
        whole.finish().map_err(unwritten)?;
        if !out.settings.quiet && !out.settings.json {
            let count = table::count(numbers.len(), "exchange is", "exchanges are");
            out.say(&out.settings.error_styles.dim(&format!("{count} in {}", name.display())))?;
        }
    }
    Ok(ExitCode::Success)
}
