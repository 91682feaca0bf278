use crate::args::{Common, Replay};
use crate::failure::Stop;
use crate::guard::guard;
use crate::host::Host;
use crate::kept;
use crate::options::options;
use crate::sending::{Saving, drive};
use crate::session::{Session, places};
use crate::show::cell::{CellLines, Columns, Heading, shown_name, summary};
use crate::show::{Out, data, table};
use std::borrow::Cow;
use std::io::{self, Write};
use std::time::Instant;
use yieldtray_core::problem::{Problem, SourceId};
use yieldtray_core::replay::{Event, Outcome, Plan, Run, Selection, Step};
use yieldtray_core::workspace::{CellId, Workspace};
use yieldtray_transport::{Client, Options};

/// Sends many requests in order and judges their checks.
pub(crate) fn replay(common: &Common, args: &Replay, host: &Host, out: &mut Out) -> Result<u8, Stop> {
    let Replay { places: texts, only, except, tag, shard, times, fail_fast, yes, onto_tray } = args;
    let places = places(common, texts)?;
    let mut session = Session::open(common, host, out, &places)?;
    let found = if places.is_empty() { session.find_all()? } else { session.find(&places)? };
    let selection = Selection {
        only: only.clone(),
        except: except.clone(),
        tags: tag.clone(),
        shard: shard.as_deref().map(share).transpose()?,
    };
    let chosen: Vec<CellId> = found.into_iter().filter(|cell| selection.takes(&session.workspace, *cell)).collect();
    if chosen.is_empty() {
        return Err(Stop::refused_with(
            "no request is chosen",
            "`yieldtray list` shows the requests there are; `--only`, `--except`, `--tag` and `--shard` may leave none",
        ));
    }
    let plan = Plan::new(&mut session.workspace, &chosen, true).times(*times as usize);
    guard(&session, &plan, *yes, host)?;
    let heading = session.heading();
    let workspace = &session.workspace;
    let columns = Columns::new(plan.steps.iter().map(|step| written(workspace, step)), out.width);
    let mut view = View {
        lines: CellLines { workspace, columns, look: out.look, base: heading.base.clone() },
        heading,
        file: None,
        shown: Vec::new(),
        began: Instant::now(),
    };
    let mut run = Run::new(workspace, &session.engine, session.settings.clone(), plan, *fail_fast);
    if session.reveal {
        run = run.revealing();
    }
    // Nothing here shows what connecting took.
    let client = Client::new(Options { time_connecting: false, ..options(&session) });
    let saving = Saving { root: &session.root, out: None, bar: false };
    drive(
        &mut run,
        &client,
        &saving,
        |_, _| {},
        |_, event| {
            if out.json {
                let seed = session.engine.made_up().seed_in_use();
                let line = data::event(workspace, &event, view.began.elapsed(), seed);
                writeln!(out.result(), "{line}")?;
                // One event a line while it runs: whoever reads along shall have it now.
                return out.flush();
            }
            view.show(out, &event)
        },
    )?;
    let code = run.summary().exit_code();
    out.seed(session.seed_to_tell(run.summary()))?;
    if *onto_tray {
        kept::keep(&session, None, &run, None, out)?;
    }
    Ok(code)
}

/// `I/N` of `--shard`.
fn share(text: &str) -> Result<(u32, u32), Stop> {
    let parts = text.split_once('/').and_then(|(own, all)| Some((own.parse().ok()?, all.parse().ok()?)));
    parts.filter(|(own, all)| (1..=*all).contains(own)).ok_or_else(|| {
        let hint = "write which share, and of how many, as in `--shard 2/4`";
        Stop::refused_with(format!("`--shard {text}` names no share"), hint)
    })
}

/// What is written in the file of a cell's name, method and target: enough to lay out columns.
fn written<'w>(workspace: &'w Workspace, step: &Step) -> (Cow<'w, str>, &'w str, &'w str) {
    let cell = step.cell;
    let mut name = shown_name(workspace, cell, step.played.map(|played| played.by));
    if workspace.rows_file(cell).is_some() {
        name += " row 99";
    }
    let text = &workspace.source(cell.source).text;
    let own = workspace.cell(cell);
    let request = own.request.as_ref();
    let method = request.and_then(|request| request.method).map_or("GET", |method| method.of(text));
    (name, method, request.map_or("", |request| request.target.of(text)))
}

/// The run as text.
struct View<'w> {
    lines: CellLines<'w>,
    heading: Heading,
    /// The file whose cells are shown now.
    file: Option<SourceId>,
    /// Problems that were shown: one of a preamble holds for many cells.
    shown: Vec<Problem>,
    began: Instant,
}

impl View<'_> {
    fn show(&mut self, out: &mut Out, event: &Event) -> io::Result<()> {
        match event {
            Event::Began { cells, .. } => {
                if !out.quiet {
                    let line = self.heading.text(out.look);
                    writeln!(out.result(), "{line}  {}", table::count(*cells, "request", "requests"))?;
                    if out.terminal {
                        out.flush()?;
                    }
                }
            }
            Event::Token(report) => {
                if !out.quiet {
                    let line = self.lines.token(report);
                    writeln!(out.result(), "{line}")?;
                }
            }
            Event::Cell(report) => {
                let bad = !matches!(report.outcome, Outcome::Passed | Outcome::Skipped(_));
                if bad || !out.quiet {
                    if self.file != Some(report.cell.source) {
                        self.file = Some(report.cell.source);
                        let path = self.lines.workspace.shown_path(report.cell.source);
                        let path = out.look.strong(&path);
                        writeln!(out.result(), "{path}")?;
                    }
                    for line in self.lines.cell(report) {
                        writeln!(out.result(), "{line}")?;
                    }
                    if out.terminal {
                        out.flush()?;
                    }
                }
                let fresh: Vec<Problem> =
                    report.problems.iter().filter(|problem| !self.shown.contains(problem)).cloned().collect();
                out.problems(self.lines.workspace, &fresh)?;
                self.shown.extend(fresh);
            }
            Event::Ended(figures) => {
                let line = summary(figures, self.began.elapsed(), out.look);
                writeln!(out.result(), "{line}")?;
            }
        }
        Ok(())
    }
}
