//! Past exchanges: a list of them here, what can be done with one in a file each.

mod compare;
mod resend;

mod export;
mod show;
mod trend;

use crate::args::{Common, LazyArgs, Log, LogAction, LogClear, LogDrop, LogFilter};
use crate::clock;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::log::{data, lines};
use crate::project::{Project, state};
use crate::run::response_source::LoggedResponse;
use serde_json::json;
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_report::log::LoggedExchange;
use yieldtray_store::Store;
use yieldtray_store::log::{ExchangePayload, Filter, NumberedExchange};

/// Shows past exchanges, or does something with them.
pub(crate) fn log(common: &Common, args: Log, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    match args.action {
        None => list(common, &args, host, out),
        Some(LogAction::Show(LazyArgs(args))) => show::show(common, &args, host, out),
        Some(LogAction::Resend(LazyArgs(args))) => resend::resend(common, args, host, out),
        Some(LogAction::Compare(LazyArgs(args))) => compare::compare(common, &args, host, out),
        Some(LogAction::Export(LazyArgs(args))) => export::export(common, &args, host, out),
        Some(LogAction::Trend(LazyArgs(args))) => trend::trend(common, &args, host, out),
        Some(LogAction::Drop(LazyArgs(LogDrop { numbers }))) => {
            let project = Project::open_any(common, host, out, &[])?;
            let mut store = opened(&project, out)?;
            for number in &numbers {
                one(&store, Some(*number))?;
            }
            let dropped = store.drop_exchanges(&numbers)?;
            out.dropped(&project.heading(), dropped, "exchange", "exchanges")?;
            Ok(ExitCode::Success)
        }
        Some(LogAction::Clear(LazyArgs(LogClear { older_than }))) => {
            let project = Project::open_any(common, host, out, &[])?;
            let store = state::open_or_set_aside(&project, out)?;
            let before = older_than.map(|since| since.0);
            let environment = common.env.last().map(String::as_str);
            let dropped = store.map(|mut store| store.clear_log(before, environment)).transpose()?;
            out.dropped(&project.heading(), dropped.unwrap_or_default(), "exchange", "exchanges")?;
            Ok(ExitCode::Success)
        }
    }
}

fn list(common: &Common, args: &Log, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let project = Project::open_any(common, host, out, &[])?;
    let store = state::open_or_set_aside(&project, out)?;
    // One more than is shown, to know whether there are more.
    let mut found = match store {
        Some(mut store) => {
            let found = find(&mut store, common, &args.filter, args.limit.saturating_add(1), out)?;
            if common.verbose {
                let (count, size) = store.log_size()?;
                tracing::info!("the log has {count} exchanges; the state takes {size} bytes");
            }
            store.close_fast();
            found
        }
        None => Vec::new(),
    };
    let more = found.len() > args.limit;
    found.truncate(args.limit);
    if out.settings.json {
        let exchanges: Vec<serde_json::Value> = found.iter().map(data).collect();
        writeln!(out.result(), "{}", json!({ "exchanges": exchanges, "truncated": more }))?;
        return Ok(ExitCode::Success);
    }
    out.print_header(&project.heading())?;
    let rows =
        lines(&found, &project.workspace.config, clock::now_millis(), out.settings.terminal, out.settings.styles);
    out.table(&rows)?;
    if more && !out.settings.quiet {
        let message = format!("more exchanges exist; use `--limit {}` to see them", args.limit.saturating_mul(10));
        out.say(&out.settings.error_styles.dim(&message))?;
    }
    if found.is_empty() && !out.settings.quiet {
        out.say(match is_plain(common, &args.filter) {
            true => "the log is empty; `send` and `replay` add to it",
            false => "no exchange matches",
        })?;
    }
    Ok(ExitCode::Success)
}

fn is_plain(common: &Common, filter: &LogFilter) -> bool {
    let LogFilter { name, status, since, failed, grep } = filter;
    common.env.is_empty() && name.is_none() && status.is_none() && since.is_none() && !failed && grep.is_none()
}

/// The newest exchanges that the filters leave, so many at most.
fn find(
    store: &mut Store,
    common: &Common,
    filter: &LogFilter,
    most: usize,
    out: &mut Out,
) -> Result<Vec<NumberedExchange>, CommandError> {
    let LogFilter { name, status, since, failed, grep } = filter;
    let (file, name) = name.as_deref().map(place).unzip();
    let filter = Filter {
        name: name.map(str::to_owned),
        file: file.flatten().map(str::to_owned),
        status: status.map(|range| (range.0, range.1)),
        since: since.map(|since| since.0),
        environment: common.env.last().cloned(),
        failed: *failed,
    };
    let mut found = Vec::new();
    let take = |listed: NumberedExchange| {
        found.push(listed);
        found.len() < most
    };
    match grep.as_deref().filter(|text| !text.is_empty()) {
        None => store.exchanges(&filter, take)?,
        Some(text) => {
            let mut announced = false;
            store.make_searchable(|left| {
                // Once there are many, it takes seconds.
                if left > 0 && !announced && out.settings.terminal && !out.settings.quiet {
                    announced = true;
                    let _ = out.say(&out.settings.error_styles.dim(&format!("indexing {left} exchanges")));
                }
            })?;
            store.search(text, &filter, take)?;
        }
    }
    Ok(found)
}

/// The file and the name of a cell, as `FILE.http#NAME` or a bare name.
fn place(text: &str) -> (Option<&str>, &str) {
    match text.rsplit_once('#') {
        Some((file, name)) => (Some(file), name),
        None => (None, text),
    }
}

/// The state, if there is any; a damaged one is set aside.
fn opened(project: &Project, out: &mut Out) -> Result<Store, CommandError> {
    state::open_or_set_aside(project, out)?.ok_or_else(nothing_logged)
}

pub(super) fn nothing_logged() -> CommandError {
    CommandError::refused_with("the log is empty", "`send` and `replay` add to it")
}

/// An exchange of the log by its number, or the last one.
fn one(store: &Store, number: Option<i64>) -> Result<(NumberedExchange, LoggedExchange<'static>), CommandError> {
    let last = store.last_exchange()?;
    let number = number.or(last).ok_or_else(nothing_logged)?;
    let Some((listed, payload)) = store.exchange(number)? else {
        let hint = "see `yieldtray log` for the numbers";
        return Err(CommandError::refused_with(format!("no exchange {number} in the log"), hint));
    };
    let exchange = read(&listed, payload)?;
    Ok((listed, exchange))
}

/// A row of the log.
fn read(listed: &NumberedExchange, payload: ExchangePayload) -> Result<LoggedExchange<'static>, CommandError> {
    let logged = LoggedResponse::read(listed, payload).map_err(CommandError::refused)?;
    Ok(logged.exchange)
}
