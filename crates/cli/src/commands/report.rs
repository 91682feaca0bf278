//! `report merge`: reports of shards or attempts become one.

use crate::args::{Common, LazyArgs, Report, ReportAction, ReportFile, ReportMerge};
use crate::error::CommandError;
use crate::output::cell::summary;
use crate::output::{Out, data, table};
use crate::project::here;
use crate::run::recording::Reports;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;
use yieldtray_engine::ExitCode;
use yieldtray_report::{LoadedReport, merge as merge_reports};

/// Works with reports.
pub(crate) fn report(common: &Common, args: &Report, out: &mut Out) -> Result<ExitCode, CommandError> {
    match &args.action {
        ReportAction::Merge(LazyArgs(ReportMerge { files, report })) => merge(common, files, report, out),
    }
}

/// Merges reports and writes the result. The exit code is that of a replay with these results.
fn merge(common: &Common, files: &[PathBuf], report: &[ReportFile], out: &mut Out) -> Result<ExitCode, CommandError> {
    let folder = here(common)?;
    let saved = files.iter().map(|file| read(&folder, file)).collect::<Result<Vec<_>, _>>()?;
    let LoadedReport { about, entries } = merge_reports(saved);
    let elapsed = Duration::try_from_secs_f64(about.elapsed_ms / 1e3).unwrap_or_default();
    let mut reports = Reports::begin(report, |file| folder.join(file), about.clone())?;
    entries.iter().for_each(|entry| reports.entry(entry));
    if out.settings.json {
        writeln!(out.result(), "{}", data::joined(&about, entries.len()))?;
    } else {
        let joined = table::count(files.len(), "report", "reports");
        let line = summary(&about.totals, elapsed, out.settings.styles);
        writeln!(out.result(), "{joined} · {line}")?;
    }
    let code = about.totals.exit_code();
    Ok(if reports.finish(out)? { code } else { code.max(ExitCode::InvalidInput) })
}

fn read(folder: &Path, file: &Path) -> Result<LoadedReport, CommandError> {
    let name = file.display();
    let text = std::fs::read(folder.join(file)).map_err(crate::files::plain);
    let text = text.map_err(|error| CommandError::refused(format!("cannot read `{name}`: {error}")))?;
    LoadedReport::read(&text).map_err(|wrong| {
        let place = wrong.place.map(|(line, column)| format!(":{line}:{column}")).unwrap_or_default();
        CommandError::refused_with(format!("cannot merge `{name}{place}`: {}", wrong.message), wrong.hint)
    })
}
