//! `api coverage`: what of the API the request files and the log exercise.

use super::{damaged, observe, opened_openapi, requests};
use crate::args::{ApiCoverage, Common, CoverageReportKind};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::table::{self, Cell};
use crate::project::places;
use serde_json::json;
use std::io::Write;
use yieldtray_description::{Coverage, OperationCoverage, Ratio};
use yieldtray_engine::ExitCode;
use yieldtray_report::coverage::{junit, page};
use yieldtray_source::escape::escape_line;

/// Reports it.
pub(super) fn coverage(
    common: &Common,
    args: &ApiCoverage,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let which = args.which.api.as_deref();
    let (mut project, contract) = opened_openapi("api coverage", common, which, host, out)?;
    let places = places(common, &args.places)?;
    let cells = if places.is_empty() { project.find_all()? } else { project.find(&places)? };
    let exercises = requests::exercises(&project, &cells, &contract);
    let observations = observe::observations(&project, &contract, args.since.map(|since| since.0))?;
    let coverage = Coverage::of(contract.api(), &exercises, &observations).map_err(damaged)?;
    for report in &args.report {
        let text = match report.kind {
            CoverageReportKind::Html => page(&coverage),
            CoverageReportKind::Junit => junit(&coverage),
            CoverageReportKind::Json => json!(coverage).to_string() + "\n",
        };
        let written = files::replace(&project.path_from_here(&report.file), text.as_bytes());
        written.map_err(|error| CommandError::refused(format!("cannot write `{}`: {error}", report.file.display())))?;
    }
    let percent = coverage.operation_ratio.percent();
    let failed = args.min.is_some_and(|min| percent < usize::from(min));
    if out.settings.json {
        writeln!(out.result(), "{}", json!(coverage))?;
    } else {
        print(&coverage, out)?;
        if failed && let Some(min) = args.min {
            let message = format!("{percent} % of the operations are covered, less than the {min} % of `--min`");
            out.say(&format!("{} {message}", out.settings.error_styles.bad("error:")))?;
        }
    }
    Ok(ExitCode::failed_if(failed))
}

fn print(coverage: &Coverage, out: &mut Out) -> Result<(), CommandError> {
    let styles = out.settings.styles;
    let fraction = |ratio: Ratio| match ratio.total {
        0 => String::new(),
        _ => format!("{}/{}", ratio.covered, ratio.total),
    };
    let mut rows = vec![
        ["", "", "", "requests", "statuses", "parameters", "members"]
            .map(|word| Cell::new(word).painted(styles.dim(word)))
            .to_vec(),
    ];
    for own in &coverage.operations {
        rows.push(row(own, &fraction, out));
    }
    out.table(&rows)?;
    for request in &coverage.unknown {
        let line = format!("{} is no operation of the description", escape_line(request));
        out.say(&out.settings.error_styles.warn(&line))?;
    }
    if !out.settings.quiet {
        let figure = |ratio: Ratio, what: &str| format!("{}/{} {what}", ratio.covered, ratio.total);
        let line = format!(
            "{} · {} · {} · {}",
            figure(coverage.operation_ratio, &format!("operations ({} %)", coverage.operation_ratio.percent())),
            figure(coverage.status_ratio, "statuses"),
            figure(coverage.parameter_ratio, "parameters"),
            figure(coverage.member_ratio, "members"),
        );
        out.say(&line)?;
        if coverage.status_ratio.covered == 0 {
            let note = "statuses and members count when the log has responses: run `yieldtray replay` first";
            out.say(&out.settings.error_styles.dim(note))?;
        }
    }
    Ok(())
}

fn row(own: &OperationCoverage, fraction: &dyn Fn(Ratio) -> String, out: &Out) -> Vec<Cell> {
    let styles = out.settings.styles;
    let mark = match own.is_covered() {
        true => Cell::new("●").painted(styles.good("●")),
        false => Cell::new("○").painted(styles.warn("○")),
    };
    let requests = match own.requests.len() {
        0 if own.exchanges > 0 => table::count(own.exchanges, "exchange", "exchanges"),
        0 => String::new(),
        several => several.to_string(),
    };
    vec![
        mark,
        Cell::new(own.operation.method.clone()),
        Cell::new(escape_line(&own.operation.path).into_owned()).shrinkable(),
        Cell::new(requests),
        Cell::new(fraction(own.status_ratio())),
        Cell::new(fraction(own.parameter_ratio())),
        Cell::new(fraction(own.member_ratio())),
    ]
}
