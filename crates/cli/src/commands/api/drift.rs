//! `api drift`: where logged responses and the description differ.

use super::{damaged, observe, opened_openapi};
use crate::args::{ApiDrift, Common};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::table::{self, Cell};
use serde_json::json;
use std::io::Write;
use yieldtray_description::Drift;
use yieldtray_engine::ExitCode;
use yieldtray_source::escape::escape_line;

/// Reports it.
pub(super) fn drift(
    common: &Common,
    args: &ApiDrift,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let (project, contract) = opened_openapi("api drift", common, args.which.api.as_deref(), host, out)?;
    let observations = observe::observations(&project, &contract, args.since.map(|since| since.0))?;
    if observations.is_empty() {
        let hint = "run `yieldtray replay` or `yieldtray send` first";
        return Err(CommandError::refused_with("the log has no response of this API", hint));
    }
    let found = yieldtray_description::drift(contract.api(), &observations).map_err(damaged)?;
    let counts = |own: &Drift| own.kind.is_undocumented() || args.strict;
    let failed = found.iter().any(counts);
    if out.settings.json {
        let document = json!({ "exchanges": observations.len(), "differences": found });
        writeln!(out.result(), "{document}")?;
        return Ok(ExitCode::failed_if(failed));
    }
    let styles = out.settings.styles;
    let rows: Vec<Vec<Cell>> = found
        .iter()
        .map(|own| {
            let mark = if counts(own) { styles.bad("✗") } else { styles.dim("·") };
            let word = own.kind.describe();
            let example = own.example.map(|number| format!("log {number}")).unwrap_or_default();
            let times = if own.example.is_some() { format!("{} ×", own.exchanges) } else { String::new() };
            vec![
                Cell::new(if counts(own) { "✗" } else { "·" }).painted(mark),
                Cell::new(word).painted(if counts(own) { styles.bad(word) } else { styles.dim(word) }),
                Cell::new(escape_line(&own.operation).into_owned()),
                Cell::new(escape_line(&own.subject).into_owned()).shrinkable(),
                Cell::new(times),
                Cell::new(example.clone()).painted(styles.dim(&example)),
            ]
        })
        .collect();
    out.table(&rows)?;
    if !out.settings.quiet {
        let undocumented = found.iter().filter(|own| own.kind.is_undocumented()).count();
        let exchanges = table::count(observations.len(), "exchange", "exchanges");
        let unseen = found.len() - undocumented;
        out.say(&match undocumented {
            0 => format!("{exchanges} compared: nothing undocumented, {unseen} never received"),
            _ => format!("{exchanges} compared: {undocumented} undocumented, {unseen} never received"),
        })?;
    }
    Ok(ExitCode::failed_if(failed))
}
