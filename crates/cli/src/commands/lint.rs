//! `lint`.

use crate::args::{Common, DiagnosticsFile, Lint};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::output::{Out, data, problems, table};
use crate::project::configuration::read_configuration;
use crate::project::disk::Disk;
use crate::project::staged::{StagedFiles, known_paths, staged_paths};
use crate::project::trust::Trust;
use crate::project::{Project, here, places, root_for};
use anyhow::Context;
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_ide::lint::{UsageIndex, index_usage, lint_configuration, lint_files};
use yieldtray_report::sarif;
use yieldtray_source::{Problem, SourceId};
use yieldtray_workspace::{COMMON_FILE, CellId};

/// Finds errors and oddities without sending anything.
pub(crate) fn lint(common: &Common, args: &Lint, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let places = places(common, &args.places)?;
    let mut project = match args.staged {
        true => staged(common, host, out)?,
        false => Project::open(common, host, out, &places)?,
    };
    let all = match args.staged {
        true => known_cells(&mut project)?,
        false if places.is_empty() => project.find_all()?,
        false => project.find_all().unwrap_or_default(),
    };
    // The linted files, those without requests too; problems of others are not reported.
    let (files, cells) = match (args.staged, places.is_empty()) {
        (true, _) => {
            let files = staged_files(&project)?;
            let cells = all.iter().copied().filter(|cell| files.contains(&cell.source)).collect();
            (files, cells)
        }
        (false, true) => (project.looked_at.clone(), all.clone()),
        (false, false) => {
            project.forget_files();
            let cells = project.find(&places)?;
            (project.looked_at.clone(), cells)
        }
    };
    let mut ties = UsageIndex::default();
    if args.staged || !places.is_empty() {
        // Another file may be the one that uses what these give.
        let Project { workspace, engine, settings, .. } = &mut project;
        index_usage(workspace, engine, settings, &all, &mut ties);
    }
    let Project { workspace, engine, settings, .. } = &mut project;
    let mut found = lint_files(workspace, engine, settings, &files, &cells, &mut ties);
    found.extend(lint_configuration(workspace, &cells));
    found.append(&mut project.unreadable);
    found.extend(out.last_warning.take());
    if let Some(DiagnosticsFile(file)) = &args.report {
        let file = project.path_from_here(file);
        let text = format!("{:#}\n", sarif(&project.workspace, &found));
        let refused = |error| CommandError::refused(format!("cannot write `{}`: {error}", file.display()));
        files::replace(&file, text.as_bytes()).map_err(refused)?;
    }
    show(&project, &files, &cells, &found, out)
}

/// The workspace as the next commit would have it.
fn staged(common: &Common, host: &HostFacts, out: &mut Out) -> Result<Project, CommandError> {
    let here = here(common)?;
    let root = root_for(&here, &[]);
    // Whether git may be started is known once the configuration is read.
    let trust = Trust::default();
    trust.decide(&root, &read_configuration(&root)?, common, host);
    if !trust.allows() {
        let hint = format!("run `yieldtray allow {}` if you trust this workspace", root.display());
        return Err(CommandError::refused_with("`--staged` runs git, which this workspace is not allowed to do", hint));
    }
    let disk = Disk::new(&root, &trust).with_context(|| format!("cannot open `{}`", root.display()))?;
    let files = StagedFiles::over(disk, &root)?;
    let project = Project::over(Box::new(files), trust, root, here, common, host, out)?;
    project.check_choice()?;
    Ok(project)
}

/// The cells of all request files that git knows.
fn known_cells(project: &mut Project) -> Result<Vec<CellId>, CommandError> {
    let mut cells = Vec::new();
    for path in known_paths(&project.root)? {
        let is_request = path.extension().is_some_and(|extension| extension == "http");
        let named = path.file_name().is_some_and(|name| name != COMMON_FILE);
        if is_request && named && path.starts_with(&project.workspace.config.requests) {
            // One that the next commit removes is not there.
            let Ok(source) = project.workspace.load(&path) else { continue };
            project.looked_at.push(source);
            cells.extend(project.workspace.cells(source));
        }
    }
    Ok(cells)
}

/// The request files that the next commit changes; all below a `_common.http` that it changes.
fn staged_files(project: &Project) -> Result<Vec<SourceId>, CommandError> {
    let paths = staged_paths(&project.root)?;
    let is_common = |path: &std::path::PathBuf| path.file_name().is_some_and(|name| name == COMMON_FILE);
    let folders: Vec<_> = paths.iter().filter(|path| is_common(path)).filter_map(|path| path.parent()).collect();
    let changed = |source: &SourceId| {
        let path = &project.workspace.source(*source).path;
        paths.contains(path) || folders.iter().any(|folder| path.starts_with(folder))
    };
    Ok(project.looked_at.iter().copied().filter(changed).collect())
}

fn show(
    project: &Project,
    files: &[SourceId],
    cells: &[CellId],
    found: &[Problem],
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let workspace = &project.workspace;
    let errors = found.iter().filter(|problem| problem.is_error()).count();
    let code = ExitCode::invalid_input_if(errors > 0);
    if out.settings.json {
        let document = serde_json::json!({ "diagnostics": data::problems(workspace, found) });
        writeln!(out.result(), "{document}")?;
        return Ok(code);
    }
    out.print_header(&project.heading())?;
    let styles = out.settings.styles;
    let quiet = out.settings.quiet;
    for problem in found.iter().filter(|problem| problem.is_error() || !quiet) {
        let text = problems::snippet(workspace, problem, styles);
        writeln!(out.result(), "{text}")?;
    }
    if !quiet || errors > 0 {
        let mut files: Vec<_> = cells.iter().map(|cell| cell.source).chain(files.iter().copied()).collect();
        files.sort_unstable();
        files.dedup();
        let mut parts =
            vec![table::count(files.len(), "file", "files"), table::count(cells.len(), "request", "requests")];
        let warnings = found.len() - errors;
        if found.is_empty() {
            parts.push(styles.good("no problems found"));
        }
        if errors > 0 {
            parts.push(styles.bad(&table::count(errors, "error", "errors")));
        }
        if warnings > 0 {
            parts.push(styles.warn(&table::count(warnings, "warning", "warnings")));
        }
        writeln!(out.result(), "{}", parts.join(" · "))?;
    }
    Ok(code)
}
