//! What the tests of core share: workspaces in a string, and answers from a table.

use crate::expression::{Engine, MadeUp, Value};
use crate::problem::Problem;
use crate::replay::{Event, Next, Plan, Run, Summary};
use crate::request::Prepared;
use crate::response::{Exchange, Failure, Timings};
use crate::workspace::{CellId, Files, Settings, Workspace};
use bytes::Bytes;
use chrono::DateTime;
use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

struct Memory(HashMap<PathBuf, Vec<u8>>);

impl Files for Memory {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.0.get(path).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

/// A workspace of the files in `fixture`: each begins with a line `#- PATH`.
pub(crate) fn workspace(fixture: &str) -> Workspace {
    let mut files = HashMap::new();
    for file in fixture.split("#- ").skip(1) {
        let (path, text) = file.split_once('\n').expect("a path and a text");
        files.insert(PathBuf::from(path), text.as_bytes().to_vec());
    }
    Workspace::open(Box::new(Memory(files)))
}

/// An engine whose made-up values and time repeat.
pub(crate) fn engine() -> Engine {
    let noon = DateTime::parse_from_rfc3339("2026-09-14T12:00:00+00:00").expect("a time");
    Engine::new(MadeUp::new(1, Box::new(move || noon)))
}

/// An answer with this status, these header fields and this body.
pub(crate) fn answer(status: u16, headers: &[(&str, &str)], body: &str) -> Exchange {
    Exchange {
        sent: Arc::new(Prepared::new("GET", "http://bench/lots".parse().expect("an address"))),
        hops: Vec::new(),
        status,
        reason: "As Told".to_owned(),
        version: "HTTP/1.1",
        headers: headers.iter().map(|(name, value)| ((*name).to_owned(), value.as_bytes().to_vec())).collect(),
        body: Bytes::copy_from_slice(body.as_bytes()),
        size: body.len() as u64,
        timings: Timings { total: Duration::from_millis(5), ..Timings::default() },
        proxy: None,
        cookies: Vec::new(),
    }
}

/// A JSON answer.
pub(crate) fn json_answer(status: u16, body: &str) -> Exchange {
    answer(status, &[("content-type", "application/json")], body)
}

/// What a run of all cells of a workspace's files came to.
pub(crate) struct Told {
    pub(crate) events: Vec<Event>,
    pub(crate) summary: Summary,
    pub(crate) sent: Vec<Arc<Prepared>>,
}

/// Replays `files` of `fixture`; `respond` answers.
pub(crate) fn replay(
    fixture: &str,
    files: &[&str],
    settings: Settings,
    mut respond: impl FnMut(&Prepared) -> Result<Exchange, Failure>,
) -> Told {
    let mut workspace = workspace(fixture);
    let engine = engine().with_functions(&workspace.config.functions);
    let sources: Vec<_> =
        files.iter().map(|file| workspace.load(Path::new(file)).expect("the file is there")).collect();
    let cells: Vec<CellId> = sources.iter().flat_map(|source| workspace.cells(*source)).collect();
    let plan = Plan::new(&mut workspace, &cells, true);
    let mut run = Run::new(&workspace, &engine, settings, plan, false);
    let (mut events, mut sent) = (Vec::new(), Vec::new());
    while let Some(next) = run.next() {
        let ready = match next {
            Next::Send(ready) => ready,
            // Nobody is there: each question is answered with itself.
            Next::Ask(question) => {
                run.answer(&question, Value::text(question.text.as_str()));
                continue;
            }
            Next::Pause(pause) => {
                run.resume(&pause);
                continue;
            }
            Next::Wait => unreachable!("one at a time, nothing is waited for"),
            Next::Authorize(request) => {
                sent.push(request.prepared.clone());
                let answer = respond(&request.prepared);
                run.authorize(&request, answer.as_ref());
                continue;
            }
        };
        sent.push(ready.prepared.clone());
        let answer = respond(&ready.prepared);
        run.complete(ready, answer.as_ref());
        events.extend(run.events());
    }
    events.extend(run.events());
    let summary = *run.summary();
    Told { events, summary, sent }
}

impl Told {
    /// The messages of all problems, with their places.
    pub(crate) fn problems(&self) -> Vec<&Problem> {
        self.reports().flat_map(|report| &report.problems).collect()
    }

    /// The reports of the cells.
    pub(crate) fn reports(&self) -> impl Iterator<Item = &crate::replay::CellReport> {
        self.events.iter().filter_map(|event| match event {
            Event::Cell(report) => Some(&**report),
            _ => None,
        })
    }
}

/// Settings with this environment and these values set.
pub(crate) fn settings(environment: Option<&str>, set: &[(&str, Value)]) -> Settings {
    Settings {
        environment: environment.map(str::to_owned),
        set: set.iter().map(|(name, value)| ((*name).to_owned(), value.clone())).collect(),
        process: vec![("SHIFT".to_owned(), "early".to_owned())],
        can_ask: true,
    }
}
