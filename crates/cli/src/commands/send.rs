//! `send`.

use crate::append::Append;
use crate::args::{Common, DisplayArgs, Needs, Part, Send};
use crate::confirm::guard;
use crate::described_request;
use crate::edit;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::answer::ResponseView;
use crate::output::result_lines::ResultLines;
use crate::output::{Out, body, data, exchange};
use crate::project::{Project, places};
use crate::prompt::Terminal;
use crate::run::send_one::{SendParams, SendPlan, SendResult};
use crate::run::service::{PrepareResult, RunService};
use serde_json::{Value, json};
use std::io::Write;
use std::path::{Path, PathBuf};
use yieldtray_engine::ExitCode;
use yieldtray_expression::{ConstantError, JsonPath};
use yieldtray_source::{Code, join_words};
use yieldtray_syntax::typed_field;
use yieldtray_workspace::CellId;

/// Sends one request and shows the response.
pub(crate) fn send(common: &Common, args: Send, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let Send { place, text, display, output: file, needs, yes, dry_run, headers, edit, append, no_log } = args;
    let headers = headers.iter().map(|line| header(line)).collect::<Result<Vec<_>, _>>()?;
    let (text, place) = match text {
        Some(text) => (Some(text), Vec::new()),
        None => request_of_arguments(place)?,
    };
    let places = places(common, &place)?;
    let mut project = Project::open_to_evaluate(common, host, out, &places)?;
    let cell = match text {
        Some(text) => {
            let text = described_request::complete(&project.workspace, &text, edit).map_err(|error| {
                CommandError::refused(format!("the description of the API cannot be used for a request: {error}"))
            })?;
            project.take_text("<command line>", text)?
        }
        None => one(&project.find(&places)?, &project, place.first().map(String::as_str).unwrap_or_default())?,
    };
    refuse_sequence(&project, cell)?;
    if edit {
        edit_body(&mut project, cell)?;
    }
    let append = append.map(|file| project.path_from_here(&file));
    let append = append.as_deref().map(|file| to_append(&project, cell, file, &headers)).transpose()?;
    if let Some(expression) = &display.pick {
        check_pick(&project, expression)?;
    }
    print_header(out, &project, cell)?;
    let prompter = Terminal::opening_pages(host, project.trust.allows());
    let prelude = SendPlan::of(&mut project, cell, if dry_run { Needs::Never } else { needs }, &prompter, out)?;
    let service = RunService::new(&project, &prompter);
    if dry_run {
        return print_dry_run(&project, &service, prelude, cell, headers, out);
    }
    guard(&project, &prelude.plan.unsafe_requests(&project.workspace), yes, &prompter)?;
    out.outlive_reader();
    let to_output = file.as_deref() == Some(Path::new("-"));
    if to_output && (out.settings.json || display.pick.is_some() || !display.show.is_empty()) {
        let hint = "omit one of them: `--output -` writes only the body to standard output";
        return Err(CommandError::refused_with(
            "`--output -` cannot be combined with another output to standard output",
            hint,
        ));
    }
    let file = file.map(|file| if to_output { file } else { project.path_from_here(&file) });
    let held = out.settings.json || display.pick.is_some() || display.wants(Part::Body);
    let how = SendParams { headers, file: file.clone().map(|file| (file, held)), no_log, ..SendParams::default() };
    let bar = host.errors_are_terminal && !out.settings.quiet;
    let is_live = display.pick.is_none() && display.show.is_empty() && !to_output;
    let done = service.send_one(prelude, cell, how, bar, is_live.then_some(&mut *out))?;
    show(&project, cell, &done, &Showing { display: &display, file, then: None }, host, out)?;
    if let Some(append) = append {
        add(append, done.answer.is_some(), out)?;
    }
    // The response is printed before the disk is touched.
    out.flush()?;
    Ok(done.keep(out)?.0)
}

/// The request that the arguments are, such as a URL or a method and a URL; or the place they name.
fn request_of_arguments(arguments: Vec<String>) -> Result<(Option<String>, Vec<String>), CommandError> {
    let is_url = |text: &str| ["http://", "https://", "ws://", "wss://"].iter().any(|scheme| text.starts_with(scheme));
    let is_method = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_uppercase());
    match arguments.as_slice() {
        [url] if is_url(url) => Ok((Some(format!("GET {url}")), Vec::new())),
        [line] if line.split_once(' ').is_some_and(|(method, _)| is_method(method)) => {
            Ok((Some(line.clone()), Vec::new()))
        }
        [method, target] if is_method(method) => Ok((Some(format!("{method} {target}")), Vec::new())),
        [first, _] => Err(CommandError::refused_with(
            format!("`send` sends one request, but `{first}` is followed by another argument"),
            "pass one request, or a method and a URL; `yieldtray replay` sends several",
        )),
        _ => Ok((None, arguments)),
    }
}

/// How a result is shown.
pub(super) struct Showing<'a> {
    /// The parts of the response.
    pub(super) display: &'a DisplayArgs,
    /// The file its body went to.
    pub(super) file: Option<PathBuf>,
    /// The differences from an earlier response, as data.
    pub(super) then: Option<Value>,
}

/// Shows the result of a request: its status, response and checks.
pub(super) fn show(
    project: &Project,
    cell: CellId,
    done: &SendResult<'_>,
    showing: &Showing<'_>,
    host: &HostFacts,
    out: &mut Out,
) -> Result<(), CommandError> {
    let Showing { display, file, then } = showing;
    let (run, workspace) = (&done.run, &project.workspace);
    let lines = ResultLines { run, heading: project.heading(), styles: out.settings.error_styles };
    if out.settings.json {
        let reports = done.before.iter().chain(&done.report).map(|report| data::cell_report(workspace, report));
        let mut document = json!({ "environment": project.settings.environment, "cells": reports.collect::<Vec<_>>() });
        if !done.tokens.is_empty() {
            document["tokens"] = done.tokens.iter().map(data::token).collect();
        }
        if let Some(exchange) = &done.answer {
            document["request"] = data::request(&exchange.sent, run.masker());
            document["response"] = data::response(exchange, run.masker());
        }
        if let Some(then) = then {
            document["then"] = then.clone();
        }
        writeln!(out.result(), "{document}")?;
    } else {
        if !out.settings.quiet {
            out.messages(&lines.prerequisites(&done.tokens, &done.before, out.settings.width))?;
        }
        if let Some(report) = &done.report {
            out.problems(workspace, &report.problems)?;
        }
        if let Some(exchange) = done.answer.as_ref().filter(|_| !out.settings.quiet) {
            out.messages(&lines.status(exchange))?;
        }
    }
    if let Some(exchange) = &done.answer {
        if let Some(file) =
            file.as_ref().filter(|file| !out.settings.quiet && !out.settings.json && *file != Path::new("-"))
        {
            let message = format!("body written to {} ({})", file.display(), body::size(exchange.size));
            out.say(&out.settings.error_styles.dim(&message))?;
        }
        let is_graphql = workspace.cell(cell).is_graphql();
        let shown = ResponseView { answer: exchange, masker: run.masker(), in_file: file.is_some(), is_graphql };
        match &display.pick {
            Some(expression) => out.picked(&shown.pick(run, cell, expression)?)?,
            None if out.settings.json || done.streamed => {}
            None => out.response(&shown, display, host)?,
        }
    }
    if !out.settings.json {
        out.messages(&lines.verdict(out.settings.width, out.settings.quiet, done.report.as_ref()))?;
        out.seed(project.seed_to_tell(run.summary()))?;
    }
    Ok(())
}

/// Compiles the expression of `--pick` first, so that no request is sent if its value could not be shown.
fn check_pick(project: &Project, expression: &str) -> Result<(), CommandError> {
    let refused = |why: String, hint: Option<String>| CommandError::Refused {
        code: Some(Code::BadExpression),
        message: format!("invalid `--pick` expression `{expression}`: {why}; nothing was sent"),
        hint,
    };
    if expression.starts_with('$') {
        return JsonPath::parse(expression)
            .map(drop)
            .map_err(|error| refused(ConstantError::JsonPath(error).to_string(), None));
    }
    match project.engine.compile(expression) {
        Ok(_) => Ok(()),
        Err(faults) => {
            let first = faults.first();
            let why = faults.iter().map(|fault| fault.message.as_str()).collect::<Vec<_>>().join("; ");
            Err(refused(why, first.and_then(|fault| fault.hint.clone())))
        }
    }
}

/// A sequence has no request that could be sent alone.
pub(super) fn refuse_sequence(project: &Project, cell: CellId) -> Result<(), CommandError> {
    if !project.workspace.cell(cell).plays() {
        return Ok(());
    }
    let name = &project.workspace.cell(cell).name;
    let message = format!("`{name}` is a sequence and has no request of its own");
    Err(CommandError::refused_with(message, format!("run it with `yieldtray replay {name}`")))
}

/// `Name: value` of `--header`.
fn header(line: &str) -> Result<(String, String), CommandError> {
    if !line.contains(':') {
        let message = format!("`-H {line}` is not a header: the colon is missing");
        return Err(CommandError::refused_with(message, format!("write `{line}: VALUE`, or `{line}:` to remove it")));
    }
    let (name, value) = typed_field(line)?;
    Ok((name.to_owned(), value.to_owned()))
}

/// Opens the body of a cell in the user's editor and puts what comes back in its place.
fn edit_body(project: &mut Project, cell: CellId) -> Result<(), CommandError> {
    let workspace = &project.workspace;
    let text = &workspace.source(cell.source).text;
    let before = workspace.cell(cell).body.of(text);
    let extension = match before.trim_start().chars().next() {
        Some('{' | '[') => ".json",
        Some('<') => ".xml",
        _ => ".txt",
    };
    let edited = edit::edit(before, extension)?;
    Ok(project.workspace.replace_body(cell, edited.trim_end())?)
}

/// The cell that a request of no file makes in `file`.
fn to_append<'f>(
    project: &Project,
    cell: CellId,
    file: &'f Path,
    headers: &[(String, String)],
) -> Result<Append<'f>, CommandError> {
    let workspace = &project.workspace;
    let source = workspace.source(cell.source);
    if workspace.find_loaded(&workspace.shown_path(cell.source)).is_some() {
        let hint = "`--append` requires `--text` or `-`";
        return Err(CommandError::refused_with("this request is already in a file", hint));
    }
    let mut text = source.text.clone();
    if let Some(request) = &workspace.cell(cell).request {
        let fields = headers.iter().map(|(name, value)| format!("\n{name}: {value}"));
        text.insert_str(request.span.end(), &fields.collect::<String>());
    }
    Append::prepare(file, &text)
}

fn add(append: Append<'_>, answered: bool, out: &mut Out) -> Result<(), CommandError> {
    if !answered {
        return Ok(out.say(&out.settings.error_styles.warn("nothing was appended: there was no response"))?);
    }
    let name = append.write()?;
    if !out.settings.quiet && !out.settings.json {
        out.say(&out.settings.error_styles.dim(&format!("appended as `{name}`")))?;
    }
    Ok(())
}

/// Shows what would be sent, and sends nothing.
fn print_dry_run(
    project: &Project,
    service: &RunService<'_>,
    prelude: SendPlan,
    cell: CellId,
    headers: Vec<(String, String)>,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let PrepareResult { run, request, problems } = service.prepare_only(prelude, cell, headers)?;
    let Some(request) = request else {
        out.problems(&project.workspace, &problems)?;
        return Ok(run.summary().exit_code());
    };
    if !out.settings.json {
        out.problems(&project.workspace, &problems)?;
    }
    if out.settings.json {
        let document = json!({
            "environment": project.settings.environment,
            "request": data::request(&request, run.masker()),
            "diagnostics": data::problems(&project.workspace, &problems),
        });
        writeln!(out.result(), "{document}")?;
    } else {
        if out.settings.terminal {
            let version = exchange::version_to_send(&request);
            let text = exchange::request_text(&request, version, run.masker(), out.settings.styles);
            write!(out.result(), "{text}")?;
        } else {
            exchange::write_wire(out.result(), &request, run.masker())?;
        }
        if !out.settings.quiet {
            out.say(&out.settings.error_styles.dim("nothing was sent"))?;
        }
    }
    Ok(ExitCode::Success)
}

/// Prints environment, URL and place first, so that the destination is known before any prompt.
pub(super) fn print_header(out: &mut Out, project: &Project, cell: CellId) -> Result<(), CommandError> {
    if out.settings.quiet || out.settings.json {
        return Ok(());
    }
    let (workspace, styles) = (&project.workspace, out.settings.error_styles);
    let heading = project.heading_of([cell]).text(styles);
    let place = workspace.shown_cell(cell);
    Ok(out.say(&format!("{heading}  {}  {}", styles.dim(&place), workspace.cell(cell).name))?)
}

/// The one cell that a place names.
pub(super) fn one(cells: &[CellId], project: &Project, place: &str) -> Result<CellId, CommandError> {
    match cells {
        [only] => Ok(*only),
        [] => Err(CommandError::refused_with(
            format!("`{place}` contains no requests"),
            "see `yieldtray list` for the requests",
        )),
        several => {
            let names = several.iter().take(12).map(|cell| &*project.workspace.cell(*cell).name);
            let hint = format!("choose one: `{place}#NAME` with {}; `replay` sends all of them", join_words(names));
            Err(CommandError::refused_with(format!("`{place}` contains {} requests", several.len()), hint))
        }
    }
}
