//! Judging the checks as they are now on answers of the log. Nothing is sent.

use super::log::nothing_logged;
use crate::clock;
use crate::error::CommandError;
use crate::output::Out;
use crate::output::cell::{CellLines, shown_name};
use crate::output::data::age;
use crate::output::log::rfc3339;
use crate::output::table::count;
use crate::project::Project;
use crate::project::state;
use crate::prompt;
use crate::run::RunObserver;
use crate::run::printer::RunPrinter;
use serde_json::json;
use std::cell::RefCell;
use std::collections::HashMap;
use std::io::Write;
use std::rc::Rc;
use yieldtray_engine::ExitCode;
use yieldtray_engine::RunOptions;
use yieldtray_engine::{Event, Next, Outcome};
use yieldtray_report::log::LoggedExchange;
use yieldtray_source::join_words;
use yieldtray_store::Store;
use yieldtray_store::log::CellRef;
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::Plan;

/// What is told of a cell of which the log has no answer.
const NOTHING_LOGGED: &str = "the log has no answer to it";

/// An answer, and when it came.
type Logged = Rc<(i64, LoggedExchange<'static>)>;

/// The cell and row that were asked for last, and what was found.
type LastFound = ((CellId, Option<usize>), Option<Logged>);

/// Finds the last answer to a cell, for a row if it has rows; the last one found is kept at hand.
struct LoggedAnswers<'s> {
    session: &'s Project,
    store: Store,
    numbers: HashMap<CellRef, i64>,
    last: RefCell<Option<LastFound>>,
}

impl LoggedAnswers<'_> {
    fn find(&self, cell: CellId, row: Option<usize>) -> Option<Logged> {
        let mut last = self.last.borrow_mut();
        if let Some((_, logged)) = last.as_ref().filter(|(own, _)| *own == (cell, row)) {
            return logged.clone();
        }
        let workspace = &self.session.workspace;
        let row_number = row.and_then(|row| i64::try_from(row).ok());
        let place = (workspace.shown_path(cell.source), workspace.cell(cell).name.to_string(), row_number);
        // What cannot be read is as good as not there; it is told as that.
        let number = self.numbers.get(&place);
        let found = number.and_then(|number| self.store.exchange(*number).ok().flatten());
        let logged = found.and_then(|(listed, message)| {
            Some(Rc::new((
                listed.summary.at,
                LoggedExchange::read(&message.head, message.fields, message.sent, message.came).ok()?,
            )))
        });
        *last = Some(((cell, row), logged.clone()));
        logged
    }
}

/// Judges the cells of a plan. Gives the exit code of a replay with these results.
pub(super) fn recall(
    session: &Project,
    plan: Plan,
    fail_fast: bool,
    verbose: bool,
    lines: CellLines<'_>,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let store = state::open_or_set_aside(session, out)?.ok_or_else(nothing_logged)?;
    let numbers = store.last_answers(state::environment(&session.settings))?;
    let answers = LoggedAnswers { session, store, numbers, last: RefCell::default() };
    let workspace = &session.workspace;
    let seeds = |cell, row| answers.find(cell, row).map(|logged| logged.1.seed);
    let options = RunOptions {
        fail_fast,
        logged_seeds: Some(Box::new(seeds)),
        reveal_secrets: session.reveal,
        ..RunOptions::default()
    };
    let mut run = session.run(plan, options);
    let mut told = RecallSummary { times: None, count: 0, masked: Vec::new() };
    {
        let mut audience = RunPrinter::new(out, lines, session.heading(), &session.random, verbose);
        loop {
            let next = run.next();
            let over = matches!(next, Some(Next::Wait | Next::Authorize(_) | Next::Pause(_)) | None);
            match next {
                Some(Next::Send(ready)) => match answers.find(ready.cell, ready.row) {
                    Some(logged) => {
                        told.take(logged.0);
                        match logged.1.exchange() {
                            Some(exchange) => run.complete(ready, Ok(exchange)),
                            None => run.skip(ready, NOTHING_LOGGED),
                        }
                    }
                    None => run.skip(ready, NOTHING_LOGGED),
                },
                Some(Next::Ask(question)) => {
                    audience.gives_way()?;
                    let value = prompt::question(&question)?;
                    run.answer(&question, value);
                }
                _ => {}
            }
            let events: Vec<Event> = run.events().collect();
            for event in events {
                if let Event::CellFinished(report) = &event
                    && report.outcome == Outcome::Failed
                    && answers.find(report.cell, report.row).is_some_and(|logged| logged.1.is_masked())
                {
                    told.masked.push(shown_name(workspace, report.cell, report.played_by).into_owned());
                }
                audience.happened(&run, event)?;
            }
            if over {
                break;
            }
        }
    }
    told.tell(out)?;
    Ok(run.summary().exit_code())
}

/// What is told about all of them.
struct RecallSummary {
    /// When the oldest and the newest answer came.
    times: Option<(i64, i64)>,
    count: usize,
    /// Cells that failed, and whose answers hold masked secrets.
    masked: Vec<String>,
}

impl RecallSummary {
    fn take(&mut self, at: i64) {
        self.count += 1;
        let (oldest, newest) = self.times.unwrap_or((at, at));
        self.times = Some((oldest.min(at), newest.max(at)));
    }

    fn tell(&self, out: &mut Out) -> Result<(), CommandError> {
        if out.json {
            let (oldest, newest) = self.times.map(|(oldest, newest)| (rfc3339(oldest), rfc3339(newest))).unzip();
            let event = json!({ "event": "from-log", "answers": self.count, "oldest": oldest, "newest": newest });
            writeln!(out.result(), "{event}")?;
            return Ok(());
        }
        let now = clock::now_millis();
        let ages = self.times.map(|(oldest, newest)| (age((now - oldest) / 1_000), age((now - newest) / 1_000)));
        let ages = match ages {
            Some((oldest, newest)) if oldest == newest => format!(", from {oldest}"),
            Some((oldest, newest)) => format!(", the oldest from {oldest}, the newest from {newest}"),
            None => String::new(),
        };
        let words = format!("nothing was sent: {} of the log{ages}", count(self.count, "answer", "answers"));
        let words = out.look.odd(&words);
        writeln!(out.result(), "{words}")?;
        if !self.masked.is_empty() {
            let words = format!(
                "secrets are masked in the log: a check that reads one cannot hold there ({})",
                join_words(&self.masked).replace('`', "")
            );
            out.say(&out.error_look.faint(&words))?;
        }
        Ok(())
    }
}
