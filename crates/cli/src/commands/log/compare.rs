//! Compares two responses: two of the log, one and the one before it, or those of two environments.

use super::{one, opened, read};
use crate::args::{Common, CompareArgs, DisplayArgs, LogCompare, Needs};
use crate::clock;
use crate::commands::send::{self, Showing};
use crate::confirm::guard;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::comparison::ComparedExchange;
use crate::output::{Out, comparison};
use crate::project::{Project, places};
use crate::prompt::Terminal;
use crate::run::send_one::{SendParams, SendPlan};
use crate::run::service::RunService;
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_http::Exchange;
use yieldtray_report::log::{CompareOptions, Ignore, LoggedExchange};
use yieldtray_store::log::NumberedExchange;

/// How to compare, as the options say.
pub(super) fn comparing(options: &CompareArgs) -> Result<CompareOptions, CommandError> {
    let ignore = options.ignore.iter().map(|text| {
        Ignore::parse(text).map_err(|why| {
            let hint = "for example `--ignore headers.x-lane` or `--ignore 'body.lots[*].weighed_at'`";
            CommandError::refused_with(format!("invalid `--ignore {text}`: {why}"), hint)
        })
    });
    Ok(CompareOptions { ignore: ignore.collect::<Result<_, _>>()?, shape: options.shape })
}

/// Compares, and exits with 1 if something differs.
pub(super) fn compare(
    common: &Common,
    args: &LogCompare,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let how = comparing(&args.comparing)?;
    let [(left, ours), (right, theirs)] = match common.env.as_slice() {
        [first, second] => both(common, [first, second], args, host, out)?,
        [] | [_] => logged(common, args, host, out)?,
        _ => {
            return Err(CommandError::refused_with("`--env` was given more than two environments", "pass exactly two"));
        }
    };
    let found = yieldtray_report::log::compare(&ours, &theirs, &how);
    if out.settings.json {
        writeln!(out.result(), "{}", comparison::data([&left, &right], &found))?;
    } else {
        let lines =
            comparison::lines([&left, &right], &found, out.settings.styles, out.settings.width, out.settings.terminal);
        for line in lines {
            writeln!(out.result(), "{line}")?;
        }
    }
    Ok(ExitCode::failed_if(!found.is_same()))
}

/// Two of the log, or one and the one before it of the same cell.
fn logged(
    common: &Common,
    args: &LogCompare,
    host: &HostFacts,
    out: &mut Out,
) -> Result<[(ComparedExchange, Exchange); 2], CommandError> {
    let numbers = args.what.iter().map(|text| {
        let hint = "pass one or two numbers from `yieldtray log`, or a request and two environments with `-e`";
        text.parse().map_err(|_| CommandError::refused_with(format!("`{text}` is not a number"), hint))
    });
    let numbers: Vec<i64> = numbers.collect::<Result<_, _>>()?;
    let project = Project::open_any(common, host, out, &[])?;
    let store = opened(&project, out)?;
    let answered = |(listed, past): (NumberedExchange, LoggedExchange<'_>)| match past.exchange() {
        Some(exchange) => Ok((ComparedExchange::of(&listed), exchange)),
        None => Err(CommandError::refused(format!("exchange {} has no response to compare", listed.number))),
    };
    match numbers.as_slice() {
        [first, second] => Ok([answered(one(&store, Some(*first))?)?, answered(one(&store, Some(*second))?)?]),
        _ => {
            let (listed, past) = one(&store, numbers.first().copied())?;
            let own = &listed.summary;
            let before = store.answer_before(listed.number, &own.environment, (&own.file, &own.name), own.row)?;
            let Some((older, payload)) = before else {
                let message = format!("the log has no response to `{}` before {}", own.name, listed.number);
                return Err(CommandError::refused_with(message, "pass two numbers to compare those"));
            };
            let older_past = read(&older, payload)?;
            Ok([answered((older, older_past))?, answered((listed, past))?])
        }
    }
}

/// The responses of two environments to the same request, which is sent to both.
fn both(
    common: &Common,
    environments: [&String; 2],
    args: &LogCompare,
    host: &HostFacts,
    out: &mut Out,
) -> Result<[(ComparedExchange, Exchange); 2], CommandError> {
    let [place] = args.what.as_slice() else {
        return Err(CommandError::refused_with(
            "comparing two environments requires exactly one request",
            "pass one request",
        ));
    };
    let mut answers = Vec::new();
    for environment in environments {
        let common = Common { env: vec![environment.clone()], ..common.clone() };
        let places = places(&common, std::slice::from_ref(place))?;
        let mut project = Project::open_to_evaluate(&common, host, out, &places)?;
        let prompter = Terminal::opening_pages(host, project.trust.allows());
        let cell = send::one(&project.find(&places)?, &project, place)?;
        send::refuse_sequence(&project, cell)?;
        let prelude = SendPlan::of(&mut project, cell, Needs::Send, &prompter, out)?;
        guard(&project, &prelude.plan.unsafe_requests(&project.workspace), args.yes, &prompter)?;
        let at = clock::now_millis();
        let done = RunService::new(&project, &prompter).send_one(prelude, cell, SendParams::default(), false, None)?;
        let past = done.past();
        let Some(answer) = past.as_ref().and_then(LoggedExchange::exchange) else {
            // Errors are reported as `send` does.
            let showing = Showing { display: &DisplayArgs::default(), file: None, then: None };
            send::print_header(out, &project, cell)?;
            send::show(&project, cell, &done, &showing, host, out)?;
            done.keep(out)?;
            return Err(CommandError::refused(format!("no response from environment `{environment}` to compare")));
        };
        let mut side = ComparedExchange {
            number: None,
            environment: environment.clone(),
            at,
            name: project.workspace.cell(cell).name.to_string(),
            method: answer.sent.method.clone(),
            url: answer.sent.address().into_owned(),
            status: Some(answer.status),
            elapsed: answer.timings.total,
        };
        drop(past);
        side.number = done.keep(out)?.1;
        answers.push((side, answer));
    }
    answers.try_into().map_err(|_| CommandError::refused("two responses were expected"))
}
