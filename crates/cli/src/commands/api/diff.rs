//! `api diff`: what differs between two descriptions.

use super::damaged;
use crate::args::{ApiDiff, Common};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::table::{self, Cell};
use crate::project::{Project, description};
use serde_json::json;
use std::fmt::Display;
use std::io::Write;
use std::path::Path;
use yieldtray_description::{Api, changes, index};
use yieldtray_engine::ExitCode;
use yieldtray_source::escape::escape_line;

/// The largest description, in bytes.
const MAX_BYTES: u64 = 256 << 20;

/// Lists the differences; with one that breaks clients, the exit code is 1.
pub(super) fn diff(common: &Common, args: &ApiDiff, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let project = Project::open(common, host, out, &[])?;
    let old = read(&project, &args.old)?;
    let new = match &args.new {
        Some(file) => read(&project, file)?,
        None => {
            let settings = description::chosen(project.description_context(), args.which.api.as_deref())?;
            description::open(project.description_context(), settings)?.api
        }
    };
    let found = changes(&old, &new).map_err(damaged)?;
    let breaking = found.iter().filter(|change| change.breaking).count();
    let code = ExitCode::failed_if(breaking > 0);
    if out.settings.json {
        writeln!(out.result(), "{}", json!({ "breaking": breaking, "changes": found }))?;
        return Ok(code);
    }
    let styles = out.settings.styles;
    let rows: Vec<Vec<Cell>> = found
        .iter()
        .map(|change| {
            let word = if change.breaking { "breaking" } else { "" };
            vec![
                Cell::new(word).painted(styles.bad(word)),
                Cell::new(escape_line(&change.subject).into_owned()),
                Cell::new(escape_line(&change.message).into_owned()).shrinkable(),
            ]
        })
        .collect();
    out.table(&rows)?;
    if !out.settings.quiet {
        out.say(&match (found.len(), breaking) {
            (0, _) => "no differences".to_owned(),
            (all, breaking) => format!("{}, {breaking} breaking", table::count(all, "change", "changes")),
        })?;
    }
    Ok(code)
}

/// Reads a description of the command line, and what it refers to beside it.
fn read(project: &Project, file: &Path) -> Result<Api, CommandError> {
    let refused = |error: &dyn Display| CommandError::refused(format!("cannot read `{}`: {error}", file.display()));
    let path = project.path_from_here(file);
    let bytes = files::read_regular(&path, MAX_BYTES).map_err(|error| refused(&error))?;
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned();
    let index =
        index(&bytes, |other| files::read_beside(&folder, other, MAX_BYTES)).map_err(|error| refused(&error))?;
    Api::open(Box::new(index)).map_err(damaged)
}
