//! How the time and size of one request went on.

use super::{opened, place};
use crate::args::{Common, LogTrend};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::output::{Out, plot};
use crate::project::{Project, state};
use serde_json::json;
use std::collections::BTreeSet;
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_report::log::{Point, Trend, TrendChart};
use yieldtray_store::log::{Filter, NumberedExchange};

/// Draws it, on the terminal or into a file.
pub(super) fn trend(
    common: &Common,
    args: &LogTrend,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let project = Project::open(common, host, out, &[])?;
    let store = opened(&project, out)?;
    let (file, name) = place(&args.name);
    let environment = state::environment(&project.settings).to_owned();
    let filter = Filter {
        name: Some(name.to_owned()),
        file: file.map(str::to_owned),
        since: args.since.map(|since| since.0),
        environment: Some(environment.clone()),
        ..Filter::default()
    };
    let (mut points, mut files) = (Vec::new(), BTreeSet::new());
    store.exchanges(&filter, |NumberedExchange { number, summary }| {
        files.insert(summary.file);
        points.extend(summary.status.map(|status| Point {
            number,
            at: summary.at,
            micros: u64::try_from(summary.micros).unwrap_or_default(),
            size: u64::try_from(summary.size).unwrap_or_default(),
            status,
            revision: summary.revision,
        }));
        true
    })?;
    if files.len() > 1 {
        let named: Vec<String> = files.iter().map(|file| format!("{file}#{name}")).collect();
        let message = format!("requests named `{name}` were logged from {} files", files.len());
        let hint = format!("choose one of {}", yieldtray_source::join_words(named));
        return Err(CommandError::refused_with(message, hint));
    }
    points.reverse();
    let Some(trend) = Trend::of(points) else {
        let message = format!("the log has no response to `{}`{}", args.name, in_environment(&environment));
        return Err(CommandError::refused_with(message, "see `yieldtray log`"));
    };
    let title = format!("{name}{}", in_environment(&environment));
    if let Some(path) = &args.output {
        let drawn = TrendChart { title: &title, trend: &trend };
        let text = match path.extension().and_then(|extension| extension.to_str()) {
            Some("svg") => drawn.svg(),
            Some("html") => drawn.page(),
            _ => {
                return Err(CommandError::refused_with(
                    format!("`{}` is neither an SVG nor an HTML file", path.display()),
                    "use a file name that ends in `.svg` or `.html`",
                ));
            }
        };
        let written = files::replace(&project.path_from_here(path), text.as_bytes());
        written.map_err(|error| CommandError::refused(format!("cannot write `{}`: {error}", path.display())))?;
        if !out.settings.quiet && !out.settings.json {
            out.say(&out.settings.error_styles.dim(&format!("plot written to {}", path.display())))?;
        }
        return Ok(ExitCode::Success);
    }
    if out.settings.json {
        writeln!(out.result(), "{}", data(&args.name, &environment, &trend))?;
        return Ok(ExitCode::Success);
    }
    out.print_header(&project.heading())?;
    for line in plot::trend(&title, &trend, out.settings.styles, out.settings.width) {
        writeln!(out.result(), "{line}")?;
    }
    Ok(ExitCode::Success)
}

fn in_environment(environment: &str) -> String {
    if environment.is_empty() { String::new() } else { format!(" in {environment}") }
}

fn data(name: &str, environment: &str, trend: &Trend) -> serde_json::Value {
    let millis = |micros: u64| micros as f64 / 1e3;
    let point = |point: &Point| {
        json!({
            "number": point.number,
            "at": crate::output::log::rfc3339(point.at),
            "elapsed_ms": millis(point.micros),
            "size": point.size,
            "status": point.status,
            "commit": point.revision,
        })
    };
    let jump = |jump: &yieldtray_report::log::ChangePoint| {
        let at = &trend.points[jump.at];
        json!({
            "number": at.number,
            "commit": at.revision,
            "before_ms": millis(jump.before),
            "after_ms": millis(jump.after),
        })
    };
    json!({
        "name": name,
        "environment": if environment.is_empty() { None } else { Some(environment) },
        "median_ms": millis(trend.median),
        "median_size": trend.median_size,
        "slowest": trend.points[trend.slowest].number,
        "changepoints": trend.jumps.iter().map(jump).collect::<Vec<_>>(),
        "points": trend.points.iter().map(point).collect::<Vec<_>>(),
    })
}
