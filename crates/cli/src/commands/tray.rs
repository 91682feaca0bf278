//! `tray`.

use super::expect_known;
use crate::args::{Common, LazyArgs, Names, Tray, TrayAction};
use crate::clock;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::table::Cell;
use crate::output::{Out, data};
use crate::project::{Project, state};
use serde_json::json;
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_http::MASK;
use yieldtray_source::escape::escape_line;
use yieldtray_store::CapturedRow;
use yieldtray_workspace::secret::Masker;

/// Shows what responses yielded and is kept for the chosen environment, or drops some of it.
pub(crate) fn tray(common: &Common, args: Tray, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let project = Project::open(common, host, out, &[])?;
    let environment = state::environment(&project.settings).to_owned();
    let mut store = state::open_or_set_aside(&project, out)?;
    let rows = store.as_ref().map(|store| store.captured(&environment)).transpose()?.unwrap_or_default();
    match args.action {
        None => show(&project, &rows, out),
        Some(TrayAction::Clear(_)) => {
            let dropped = store.as_mut().map(|store| store.clear(&environment)).transpose()?.unwrap_or_default();
            print_dropped(&project, out, dropped)
        }
        Some(TrayAction::Drop(LazyArgs(Names { names }))) => {
            let known: Vec<&str> = rows.iter().map(|kept| kept.name.as_str()).collect();
            expect_known(&names, &known, |name| format!("no variable `{name}` on the tray"), "yieldtray tray")?;
            let mut dropped = 0;
            for name in &names {
                dropped += store.as_mut().map(|store| store.drop_value(&environment, name)).transpose()?.unwrap_or(0);
            }
            print_dropped(&project, out, dropped)
        }
    }
}

fn print_dropped(project: &Project, out: &mut Out, dropped: usize) -> Result<ExitCode, CommandError> {
    out.dropped(&project.heading(), dropped, "value", "values")?;
    Ok(ExitCode::Success)
}

fn show(project: &Project, rows: &[CapturedRow], out: &mut Out) -> Result<ExitCode, CommandError> {
    let mut masker = if project.reveal { Masker::revealing() } else { Masker::default() };
    masker.learn(rows.iter().filter(|kept| kept.secret).filter_map(state::value));
    let value = |kept: &CapturedRow| match &kept.value {
        None => "encrypted by another user or machine".to_owned(),
        Some(_) if kept.secret && !masker.reveals() => MASK.to_owned(),
        Some(value) => masker.mask(value).into_owned(),
    };
    if out.settings.json {
        let rows: Vec<serde_json::Value> = rows
            .iter()
            .map(|kept| {
                let mut row = json!({ "name": kept.name, "file": kept.file, "cell": kept.cell, "secret": kept.secret, "stored_at": kept.at });
                if !kept.secret || masker.reveals() {
                    row["value"] = serde_json::from_str(&value(kept)).unwrap_or_default();
                }
                row
            })
            .collect();
        writeln!(out.result(), "{}", json!({ "environment": project.settings.environment, "values": rows }))?;
        return Ok(ExitCode::Success);
    }
    out.print_header(&project.heading())?;
    let now = clock::now();
    let styles = out.settings.styles;
    let lines: Vec<Vec<Cell>> = rows
        .iter()
        .map(|kept| {
            vec![
                Cell::new(escape_line(&kept.name)).painted(styles.name(&escape_line(&kept.name))),
                Cell::new(escape_line(&value(kept))).shrinkable(),
                Cell::new(format!("{}#{}", kept.file, kept.cell)),
                Cell::new(data::age(now - kept.at)),
            ]
        })
        .collect();
    out.table(&lines)?;
    if rows.is_empty() && !out.settings.quiet {
        out.say("the tray is empty; sending a request with `% yield` stores a value")?;
    }
    Ok(ExitCode::Success)
}
