use crate::args::{Common, Needs, Part, Send};
use crate::ask;
use crate::disk;
use crate::failure::Stop;
use crate::guard::guard;
use crate::host::Host;
use crate::kept;
use crate::sending::drive;
use crate::session::{Session, places};
use crate::show::cell::{CellLines, Columns, Heading, time};
use crate::show::{Out, body, data, look::Look, safe::safe_line, table};
use anyhow::Context;
use serde_json::json;
use std::io::{self, Write};
use yieldtray_core::replay::{CellReport, Event, Link, Outcome, Plan, Run, chain};
use yieldtray_core::response::Exchange;
use yieldtray_core::secret::Masker;
use yieldtray_core::workspace::{CellId, Tray, Workspace};
use yieldtray_transport::Options;

/// Sends one request and shows the answer.
pub(crate) fn send(common: &Common, args: Send, host: &Host, out: &mut Out) -> Result<u8, Stop> {
    let Send { place, text, show, pick, out: file, needs, yes } = args;
    let places = places(common, place.as_slice())?;
    let mut session = Session::open(common, host, out, &places)?;
    let cell = match text {
        Some(text) => session.take_text("the command line", text)?,
        None => one(&session.find(&places)?, &session, place.as_deref().unwrap_or_default())?,
    };
    if !out.quiet && !out.json {
        introduce(out, &session, cell)?;
    }
    // The plan with all needs loads every file that a kept value can come from.
    let all = Plan::new(&mut session.workspace, &[cell], true);
    let (tray, store) = kept::read(&session, out)?;
    let plan = plan(&mut session, all, &tray, cell, needs, host)?;
    guard(&session, &plan, yes, host)?;
    let heading = session.heading();
    let workspace = &session.workspace;
    let mut run = Run::new(workspace, &session.engine, session.settings.clone(), plan, true).with_tray(tray);
    if session.reveal {
        run = run.revealing();
    }
    let (mut answer, mut report, mut before) = (None, None, Vec::new());
    drive(
        &mut run,
        Options::default(),
        |sent, exchange| {
            if sent == cell {
                answer = Some(exchange.clone());
            }
        },
        |_, event| {
            match event {
                Event::Cell(own) if own.cell == cell => report = Some(own),
                Event::Cell(need) => before.push(need),
                Event::Began { .. } | Event::Ended(_) => {}
            }
            Ok(())
        },
    )?;
    let code = run.summary().exit_code();
    let shown = Shown { run: &run, cell, heading, look: out.error_look };
    if out.json {
        let reports = before.iter().chain(&report).map(|report| data::cell_report(workspace, report));
        let mut document = json!({ "environment": session.settings.environment, "cells": reports.collect::<Vec<_>>() });
        if let Some(exchange) = &answer {
            document["response"] = data::response(exchange, run.masker());
        }
        writeln!(out.result(), "{document}")?;
    } else {
        shown.needs(out, &before)?;
        if let Some(report) = &report {
            out.problems(workspace, &report.problems)?;
        }
        if let Some(exchange) = &answer {
            shown.status(out, exchange)?;
        }
    }
    if let Some(exchange) = &answer {
        if let Some(file) = &file {
            disk::replace(file, &exchange.body).with_context(|| format!("cannot write `{}`", file.display()))?;
            if !out.quiet && !out.json {
                let words = format!("the body is in {} ({})", file.display(), body::size(exchange.body.len()));
                out.say(&out.error_look.faint(&words))?;
            }
        }
        if let Some(expression) = &pick {
            shown.pick(out, expression, exchange)?;
        } else if !out.json {
            print(out, exchange, run.masker(), &show, file.is_some())?;
        }
    }
    if !out.json {
        shown.verdict(out, report.as_deref())?;
        out.seed(session.seed_to_tell(run.summary()))?;
    }
    // The answer is on its way to whoever waits for it before the disk is touched.
    out.flush()?;
    kept::keep(&session, store, &run, out)?;
    Ok(code)
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
fn print(out: &mut Out, exchange: &Exchange, masker: &Masker, show: &[Part], kept: bool) -> Result<(), Stop> {
    let (look, terminal) = (out.look, out.terminal);
    let wants = |part: Part| show.contains(&part) || show.contains(&Part::All);
    let result = out.result();
    if wants(Part::Sent) {
        sent(result, exchange, masker, look)?;
    }
    if wants(Part::Timeline) {
        timeline(result, exchange, look)?;
    }
    if wants(Part::Head) {
        head(result, exchange, masker, look)?;
    }
    let body = wants(Part::Body) || (show.is_empty() && !kept);
    if body && (terminal || !show.is_empty()) {
        body::for_a_person(result, exchange, masker, look)?;
    } else if body {
        body::for_a_program(result, exchange, masker)?;
    }
    Ok(out.flush()?)
}

fn sent(out: &mut impl Write, exchange: &Exchange, masker: &Masker, look: Look) -> io::Result<()> {
    for hop in &exchange.hops {
        let line =
            format!("{} {} was answered with {}, which leads to {}", hop.method, hop.url, hop.status, hop.location);
        writeln!(out, "{}", look.faint(&safe_line(&masker.mask(&line))))?;
    }
    let line = format!("{} {} {}", exchange.sent.method, exchange.sent.url, exchange.version);
    writeln!(out, "{}", look.strong(&safe_line(&masker.mask(&line))))?;
    for (name, value) in exchange.sent.wire_headers() {
        writeln!(out, "{}: {}", look.name(&safe_line(&name)), safe_line(&data::header_value(&name, &value, masker)))?;
    }
    if let Some(body) = &exchange.sent.body {
        let text = String::from_utf8_lossy(body);
        writeln!(out, "\n{}", crate::show::safe::safe(&masker.mask(&text)))?;
    }
    writeln!(out)
}

fn timeline(out: &mut impl Write, exchange: &Exchange, look: Look) -> io::Result<()> {
    let timings = &exchange.timings;
    let phases = [
        ("look up", timings.lookup),
        ("connect", timings.connect),
        ("wait", Some(timings.wait)),
        ("receive", Some(timings.receive)),
        ("in all", Some(timings.total)),
    ];
    for (phase, took) in phases {
        let took =
            took.map_or_else(|| look.faint("not needed"), |took| format!("{:>8.2} ms", took.as_secs_f64() * 1e3));
        writeln!(out, "{}  {took}", table::left(phase, 8))?;
    }
    writeln!(out)
}

fn head(out: &mut impl Write, exchange: &Exchange, masker: &Masker, look: Look) -> io::Result<()> {
    let line = format!("{} {} {}", exchange.version, exchange.status, exchange.reason);
    writeln!(out, "{}", look.strong(&safe_line(&line)))?;
    for (name, value) in &exchange.headers {
        let value = data::header_value(name, &String::from_utf8_lossy(value), masker);
        writeln!(out, "{}: {}", look.name(&safe_line(name)), safe_line(&value))?;
    }
    writeln!(out)
}

/// What is said about the answer, on standard error.
struct Shown<'r, 'w> {
    run: &'r Run<'w>,
    cell: CellId,
    heading: Heading,
    look: Look,
}

impl Shown<'_, '_> {
    fn lines(&self, width: Option<usize>, reports: &[Box<CellReport>]) -> CellLines<'_> {
        let workspace = self.run.workspace();
        let cells = reports
            .iter()
            .map(|report| (&*workspace.cell(report.cell).name, report.method.as_str(), report.url.as_str()));
        CellLines { workspace, columns: Columns::new(cells, width), look: self.look, base: self.heading.base.clone() }
    }

    /// What was sent before.
    fn needs(&self, out: &mut Out, before: &[Box<CellReport>]) -> Result<(), Stop> {
        if out.quiet {
            return Ok(());
        }
        let workspace = self.run.workspace();
        let lines = self.lines(out.width, before);
        for report in before {
            for line in lines.cell(report) {
                out.say(&line)?;
            }
            out.problems(workspace, &report.problems)?;
        }
        Ok(())
    }

    /// Status, time, size, media type; a redirect is told.
    fn status(&self, out: &mut Out, exchange: &Exchange) -> Result<(), Stop> {
        if out.quiet {
            return Ok(());
        }
        for hop in &exchange.hops {
            let line = format!("{} {} → {} {}", hop.method, hop.url, hop.status, hop.location);
            out.say(&self.look.odd(&safe_line(&self.run.masker().mask(&line))))?;
        }
        let status = format!("{} {}", exchange.status, exchange.reason);
        let status = match exchange.status {
            200..400 => self.look.good(safe_line(&status).trim_end()),
            _ => self.look.bad(safe_line(&status).trim_end()),
        };
        let url = self.run.masker().mask(exchange.sent.url.as_str());
        let url = safe_line(&url);
        let media = exchange.media_type();
        let request = format!("{} {url}", exchange.sent.method);
        let parts = [
            request,
            status,
            time(exchange.timings.total),
            body::size(exchange.body.len()),
            safe_line(&media).into_owned(),
        ];
        out.say(&parts.into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("  "))?;
        Ok(())
    }

    fn pick(&self, out: &mut Out, expression: &str, exchange: &Exchange) -> Result<(), Stop> {
        let value = self.run.pick(self.cell, expression, exchange);
        let value = value.map_err(|message| {
            let message = self.run.masker().mask(&message).into_owned();
            Stop::refused(format!("`--pick {expression}` has no value: {message}"))
        })?;
        let text = value.as_text().map_or_else(|| value.show(), str::to_owned);
        let text = self.run.masker().mask(&text).into_owned();
        let text = if out.terminal { crate::show::safe::safe(&text).into_owned() } else { text };
        writeln!(out.result(), "{text}")?;
        Ok(())
    }

    /// Checks and yields, or why nothing was sent or answered.
    fn verdict(&self, out: &mut Out, report: Option<&CellReport>) -> Result<(), Stop> {
        let Some(report) = report else {
            out.say(&self.look.bad("not sent: a cell it needs did not pass"))?;
            return Ok(());
        };
        let lines = self.lines(out.width, &[]);
        if let Outcome::NotSent(need) = &report.outcome {
            out.say(&self.look.bad(&format!("not sent: {need} did not pass")))?;
        }
        if let Some(failure) = &report.failure {
            out.say(&self.look.bad(&safe_line(&failure.message)))?;
            if let Some(hint) = &failure.hint {
                out.say(&self.look.faint(&safe_line(hint)))?;
            }
        }
        let failed = report.failures.len();
        let mut parts = Vec::new();
        match (report.checks, failed) {
            (0, _) => {}
            (all, 0) => parts.push(self.look.good(&format!("{} passed", table::count(all, "check", "checks")))),
            (all, failed) => {
                parts.push(self.look.bad(&format!("{failed} of {} failed", table::count(all, "check", "checks"))))
            }
        }
        for taken in &report.yields {
            if let Ok(value) = &taken.value {
                parts.push(self.look.name(&table::cut(&safe_line(&format!("{} = {value}", taken.name)), 72)));
            }
        }
        if !parts.is_empty() && (failed > 0 || !out.quiet) {
            out.say(&parts.join(" · "))?;
        }
        for line in report.failures.iter().flat_map(|failure| lines.failure(failure)) {
            out.say(&line)?;
        }
        for line in report.yields.iter().filter_map(|taken| lines.failed_yield(taken)) {
            out.say(&line)?;
        }
        Ok(())
    }
}
