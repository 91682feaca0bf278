use crate::append::Append;
use crate::args::{Common, Needs, Part, Send};
use crate::ask;
use crate::edit;
use crate::failure::Stop;
use crate::guard::guard;
use crate::host::Host;
use crate::kept::{self, Cookies, Kept};
use crate::options::options;
use crate::sending::{Audience, Saving, Senders, drive};
use crate::session::{Session, places};
use crate::show::pager::Pager;
use crate::show::verdict::Told;
use crate::show::{Out, body, data, exchange};
use serde_json::json;
use std::cell::RefCell;
use std::io::{self, Write};
use std::path::Path;
use std::sync::Arc;
use yieldtray_core::replay::{CellReport, Event, Link, Next, Plan, Run, TokenReport, chain};
use yieldtray_core::response::Exchange;
use yieldtray_core::secret::Masker;
use yieldtray_core::syntax::typed_field;
use yieldtray_core::workspace::{CellId, Tray, Workspace};
use yieldtray_transport::Client;

/// Sends one request and shows the answer.
pub(crate) fn send(common: &Common, args: Send, host: &Host, out: &mut Out) -> Result<u8, Stop> {
    let Send { place, text, show, pick, out: file, needs, yes, dry, headers, edit, append, no_pager } = args;
    let headers = headers.iter().map(|line| header(line)).collect::<Result<Vec<_>, _>>()?;
    let places = places(common, place.as_slice())?;
    let mut session = Session::open(common, host, out, &places)?;
    let cell = match text {
        Some(text) => session.take_text("the command line", text)?,
        None => one(&session.find(&places)?, &session, place.as_deref().unwrap_or_default())?,
    };
    if session.workspace.cell(cell).plays() {
        let name = &session.workspace.cell(cell).name;
        let message = format!("`{name}` plays other cells and has no request of its own");
        return Err(Stop::refused_with(message, format!("`yieldtray replay {name}` plays them")));
    }
    if edit {
        edit_body(&mut session, cell)?;
    }
    let append = append.map(|file| session.path_from_here(&file));
    let append = append.as_deref().map(|file| to_append(&session, cell, file, &headers)).transpose()?;
    if !out.quiet && !out.json {
        introduce(out, &session, cell)?;
    }
    // The plan with all needs loads every file that a kept value can come from.
    let all = Plan::new(&mut session.workspace, &[cell], true);
    let kept = kept::read(&session, out)?;
    let needs = if dry { Needs::Never } else { needs };
    let plan = plan(&mut session, all, &kept.tray, cell, needs, host)?;
    if dry {
        return look(&session, plan, kept, cell, headers, out);
    }
    guard(&session, &plan, yes, host)?;
    let workspace = &session.workspace;
    let Kept { tray, tokens, jar, store } = kept;
    let mut run = Run::new(workspace, &session.engine, session.settings.clone(), plan, true)
        .with_tray(tray)
        .with_tokens(tokens)
        .with_headers(cell, headers)
        .one_row()
        .keeping(u64::MAX);
    if session.reveal {
        run = run.revealing();
    }
    let cookies_before = jar.kept();
    let client = Arc::new(Client::new(options(&session)).with_jar(jar));
    let wants = |part: Part| show.contains(&part) || show.contains(&Part::All);
    let held = out.json || pick.is_some() || wants(Part::Body);
    let file = file.map(|file| session.path_from_here(&file));
    let saving = Saving {
        root: &session.root,
        out: file.clone().map(|file| (cell, file, held)),
        bar: host.errors_are_terminal && !out.quiet,
        saved: RefCell::default(),
    };
    let mut came = Came { cell, answer: None, report: None, before: Vec::new(), tokens: Vec::new() };
    drive(&mut run, &mut Senders::one(Arc::clone(&client)), &saving, 1, &mut came)?;
    let Came { answer, report, before, tokens, .. } = came;
    let code = run.summary().exit_code();
    let told = Told { run: &run, cell, heading: session.heading(), look: out.error_look };
    if out.json {
        let reports = before.iter().chain(&report).map(|report| data::cell_report(workspace, report));
        let mut document = json!({ "environment": session.settings.environment, "cells": reports.collect::<Vec<_>>() });
        if !tokens.is_empty() {
            document["tokens"] = tokens.iter().map(data::token).collect();
        }
        if let Some(exchange) = &answer {
            document["request"] = data::request(&exchange.sent, run.masker());
            document["response"] = data::response(exchange, run.masker());
        }
        writeln!(out.result(), "{document}")?;
    } else {
        told.needs(out, &tokens, &before)?;
        if let Some(report) = &report {
            out.problems(workspace, &report.problems)?;
        }
        if let Some(exchange) = &answer {
            told.status(out, exchange)?;
        }
    }
    if let Some(exchange) = &answer {
        if let Some(file) = file.as_ref().filter(|_| !out.quiet && !out.json) {
            let words = format!("the body is in {} ({})", file.display(), body::size(exchange.size));
            out.say(&out.error_look.faint(&words))?;
        }
        if let Some(expression) = &pick {
            told.pick(out, expression, exchange)?;
        } else if !out.json {
            let pager = Pager::of(host).filter(|_| !no_pager);
            print(out, exchange, run.masker(), &show, file.is_some(), pager.as_ref())?;
        }
    }
    if !out.json {
        told.verdict(out, report.as_ref())?;
        out.seed(session.seed_to_tell(run.summary()))?;
    }
    if let Some(append) = append {
        add(append, answer.is_some(), out)?;
    }
    // The answer is on its way to whoever waits for it before the disk is touched.
    out.flush()?;
    let cookies = Cookies { before: &cookies_before, after: &client.jar() };
    kept::keep(&session, store, &run, Some(&cookies), out)?;
    Ok(code)
}

/// What came of a request and of those before it.
struct Came {
    cell: CellId,
    answer: Option<Exchange>,
    report: Option<CellReport>,
    before: Vec<CellReport>,
    tokens: Vec<TokenReport>,
}

impl Audience for Came {
    fn happened(&mut self, _run: &Run<'_>, event: Event) -> io::Result<()> {
        match event {
            Event::Cell(mut own) if own.cell == self.cell => {
                self.answer = own.kept.take().and_then(|kept| kept.answer);
                self.report = Some(*own);
            }
            Event::Cell(need) => self.before.push(*need),
            Event::Token(got) => self.tokens.push(got),
            Event::Began { .. } | Event::Ended(_) => {}
        }
        Ok(())
    }
}

/// `Name: value` of `--header`.
fn header(line: &str) -> Result<(String, String), Stop> {
    let (name, value) = typed_field(line)?;
    Ok((name.to_owned(), value.to_owned()))
}

/// Opens the body of a cell in the user's editor and puts what comes back in its place.
fn edit_body(session: &mut Session, cell: CellId) -> Result<(), Stop> {
    let workspace = &session.workspace;
    let text = &workspace.source(cell.source).text;
    let before = workspace.cell(cell).body.of(text);
    let extension = match before.trim_start().chars().next() {
        Some('{' | '[') => ".json",
        Some('<') => ".xml",
        _ => ".txt",
    };
    let edited = edit::edit(before, extension)?;
    Ok(session.workspace.replace_body(cell, edited.trim_end())?)
}

/// The cell that a request of no file makes in `file`.
fn to_append<'f>(
    session: &Session,
    cell: CellId,
    file: &'f Path,
    headers: &[(String, String)],
) -> Result<Append<'f>, Stop> {
    let workspace = &session.workspace;
    let source = workspace.source(cell.source);
    if workspace.find_loaded(&workspace.shown_path(cell.source)).is_some() {
        let hint = "`--append` is for a request of `--text` or `-`";
        return Err(Stop::refused_with("this request stands in a file already", hint));
    }
    let mut text = source.text.clone();
    if let Some(request) = &workspace.cell(cell).request {
        let fields = headers.iter().map(|(name, value)| format!("\n{name}: {value}"));
        text.insert_str(request.span.end(), &fields.collect::<String>());
    }
    Append::prepare(file, &text)
}

fn add(append: Append<'_>, answered: bool, out: &mut Out) -> Result<(), Stop> {
    if !answered {
        return Ok(out.say(&out.error_look.odd("nothing was appended: there was no answer"))?);
    }
    append.write()?;
    if !out.quiet && !out.json {
        out.say(&out.error_look.faint(&format!("appended as `{}`", append.name)))?;
    }
    Ok(())
}

/// Shows what would be sent, and sends nothing.
fn look(
    session: &Session,
    plan: Plan,
    kept: Kept,
    cell: CellId,
    headers: Vec<(String, String)>,
    out: &mut Out,
) -> Result<u8, Stop> {
    let run = Run::new(&session.workspace, &session.engine, session.settings.clone(), plan, true);
    let mut run = run.with_tray(kept.tray).with_tokens(kept.tokens).with_headers(cell, headers).one_row().dry();
    if session.reveal {
        run = run.revealing();
    }
    let ready = loop {
        match run.next() {
            Some(Next::Ask(question)) => {
                let value = ask::question(&question)?;
                run.answer(&question, value);
            }
            Some(Next::Send(ready)) => break Some(ready),
            Some(Next::Authorize(_) | Next::Pause(_) | Next::Wait) | None => break None,
        }
    };
    let events: Vec<Event> = run.events().collect();
    for event in &events {
        if let Event::Cell(report) = event {
            out.problems(&session.workspace, &report.problems)?;
        }
    }
    let Some(ready) = ready else { return Ok(run.summary().exit_code()) };
    out.problems(&session.workspace, ready.remarks())?;
    let request = Client::new(options(session)).with_jar(kept.jar).with_cookies(&ready.prepared);
    if out.json {
        let document =
            json!({ "environment": session.settings.environment, "request": data::request(&request, run.masker()) });
        writeln!(out.result(), "{document}")?;
    } else {
        let person = out.terminal.then_some(out.look);
        exchange::wire(out.result(), &request, run.masker(), person)?;
        if !out.quiet {
            out.say(&out.error_look.faint("nothing was sent"))?;
        }
    }
    Ok(0)
}

/// Environment, address and place: said first, so that who is asked something knows where it goes.
fn introduce(out: &mut Out, session: &Session, cell: CellId) -> Result<(), Stop> {
    let (workspace, look) = (&session.workspace, out.error_look);
    let heading = session.heading().text(look);
    let place = format!("{}:{}", workspace.shown_path(cell.source), workspace.line_of(cell));
    Ok(out.say(&format!("{heading}  {}  {}", look.faint(&place), workspace.cell(cell).name))?)
}

/// Which cells are sent: this one alone, or others first that give it what it lacks.
fn plan(session: &mut Session, all: Plan, tray: &Tray, cell: CellId, needs: Needs, host: &Host) -> Result<Plan, Stop> {
    if needs == Needs::Never || (needs == Needs::Ask && !host.can_ask) {
        return Ok(Plan::new(&mut session.workspace, &[cell], false));
    }
    let Session { workspace, engine, settings, .. } = session;
    let links = chain(workspace, engine, settings, tray, cell);
    if needs == Needs::Send {
        return Ok(if links.is_empty() { all } else { Plan::chained(workspace, &links, cell, true) });
    }
    if links.is_empty() || !ask::confirm(&offer(workspace, &links), true)? {
        return Ok(Plan::new(workspace, &[cell], false));
    }
    Ok(Plan::chained(workspace, &links, cell, false))
}

/// What is missing, who yields it, and the question.
fn offer(workspace: &Workspace, links: &[Link]) -> String {
    let name = |cell: &CellId| format!("`{}`", workspace.cell(*cell).name);
    // What the cell itself lacks comes last in the order of sending, and first to mind.
    let reasons = links.iter().rev().map(|link| {
        format!(
            "{} lacks {}, which {} yields.",
            name(&link.to),
            yieldtray_core::problem::enumerate(&link.names),
            name(&link.cell)
        )
    });
    let order = yieldtray_core::problem::enumerate(links.iter().map(|link| &*workspace.cell(link.cell).name));
    format!("{} Send {order} first?", reasons.collect::<Vec<_>>().join(" "))
}

/// The one cell that a place names.
fn one(cells: &[CellId], session: &Session, place: &str) -> Result<CellId, Stop> {
    match cells {
        [only] => Ok(*only),
        [] => Err(Stop::refused_with(
            format!("`{place}` holds no requests"),
            "`yieldtray list` shows the requests there are",
        )),
        several => {
            let names = several.iter().take(12).map(|cell| &*session.workspace.cell(*cell).name);
            let hint = format!(
                "name one: `{place}#NAME` with {}; `replay` sends them all",
                yieldtray_core::problem::enumerate(names)
            );
            Err(Stop::refused_with(format!("`{place}` holds {} requests", several.len()), hint))
        }
    }
}

/// What goes to standard output: the parts that are asked for, else the body.
fn print(
    out: &mut Out,
    answer: &Exchange,
    masker: &Masker,
    show: &[Part],
    kept: bool,
    pager: Option<&Pager>,
) -> Result<(), Stop> {
    let (look, terminal, width) = (out.look, out.terminal, out.width);
    let wants = |part: Part| show.contains(&part) || show.contains(&Part::All);
    let body = wants(Part::Body) || (show.is_empty() && !kept);
    if show.is_empty() && !terminal {
        if body {
            body::for_a_program(out.result(), answer, masker)?;
        }
        return Ok(out.flush()?);
    }
    let mut page = Vec::new();
    if wants(Part::Sent) {
        exchange::sent(&mut page, answer, masker, look)?;
    }
    if wants(Part::Timeline) {
        exchange::timeline(&mut page, answer, masker, look, width)?;
    }
    if wants(Part::Cookies) {
        exchange::cookies(&mut page, answer, look)?;
    }
    if wants(Part::Head) {
        exchange::head(&mut page, answer, masker, look)?;
    }
    if body {
        body::for_a_person(&mut page, answer, masker, look)?;
    }
    out.flush()?;
    if !pager.map_or(Ok(false), |pager| pager.show(&page))? {
        out.result().write_all(&page)?;
    }
    Ok(out.flush()?)
}
