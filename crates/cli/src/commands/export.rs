//! `export`.

use crate::args::{Common, Export, OnOff};
use crate::error::CommandError;
use crate::export::{ExportOptions, export_cells, named};
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::table::Cell;
use crate::project::locator::Locator;
use crate::project::{Project, places};
use serde_json::json;
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_interchange::snippet::TARGETS;
use yieldtray_source::escape::escape_terminal;
use yieldtray_source::join_words;

/// Writes a request as code, as a command or in a format.
pub(crate) fn export(
    common: &Common,
    args: &Export,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    if args.targets {
        return list(out);
    }
    let place = args.place.clone().unwrap_or_default();
    let target = named(args.target.as_deref().unwrap_or_default())?;
    let places = places(common, std::slice::from_ref(&place))?;
    let mut project = Project::open_to_evaluate(common, host, out, &places)?;
    let cells = project.find(&places)?;
    match cells.as_slice() {
        [] => return Err(CommandError::refused(format!("`{place}` contains no requests"))),
        [only] => super::send::refuse_sequence(&project, *only)?,
        several if !target.supports_chains() => {
            let names = several.iter().take(12).map(|cell| &*project.workspace.cell(*cell).name);
            let chains = TARGETS.iter().filter(|target| target.supports_chains()).map(|target| target.name);
            let hint =
                format!("choose one: {}; whole files can be exported as {}", join_words(names), join_words(chains));
            let message = format!("`{place}` contains {} requests, but `{}` exports one", several.len(), target.name);
            return Err(CommandError::refused_with(message, hint));
        }
        _ => {}
    }
    // A file or a folder is a chain, with what its requests need of other files.
    let whole = cells.len() > 1 || target.supports_chains() && matches!(places.as_slice(), [Locator::Path(_)]);
    let options = ExportOptions { target, with_values: !args.keep_variables && args.with_values == OnOff::On, whole };
    let snippet = export_cells(&mut project, &cells, options, out)?;
    let reads: Vec<String> = snippet.reads.iter().map(|name| name.to_uppercase()).collect();
    if out.settings.json {
        let document = json!({ "as": target.name, "text": snippet.text, "reads": reads, "notes": snippet.notes });
        writeln!(out.result(), "{document}")?;
        return Ok(ExitCode::Success);
    }
    // Raw requests have no literals that would escape terminal control characters.
    let text = if out.settings.terminal { escape_terminal(&snippet.text) } else { snippet.text.as_str().into() };
    write!(out.result(), "{text}")?;
    if out.settings.quiet {
        return Ok(ExitCode::Success);
    }
    for note in &snippet.notes {
        out.say(&format!("{} {note}", out.settings.error_styles.warn("note")))?;
    }
    let styles = out.settings.error_styles;
    if !reads.is_empty() {
        out.say(&styles.dim(&format!("reads {} from the environment", join_words(reads.iter().map(String::as_str)))))?;
    }
    if snippet.files {
        out.say(&styles.dim("file paths are relative to the workspace root"))?;
    }
    Ok(ExitCode::Success)
}

fn list(out: &mut Out) -> Result<ExitCode, CommandError> {
    if out.settings.json {
        let targets = TARGETS
            .iter()
            .map(|target| json!({ "name": target.name, "about": target.about, "several": target.supports_chains() }));
        writeln!(out.result(), "{}", json!({ "targets": targets.collect::<Vec<_>>() }))?;
        return Ok(ExitCode::Success);
    }
    let styles = out.settings.styles;
    let rows: Vec<Vec<Cell>> = TARGETS
        .iter()
        .map(|target| {
            let several = if target.supports_chains() { "also whole files" } else { "" };
            vec![
                Cell::new(target.name).painted(styles.name(target.name)),
                Cell::new(target.about),
                Cell::new(several).painted(styles.dim(several)),
            ]
        })
        .collect();
    out.table(&rows)?;
    Ok(ExitCode::Success)
}
