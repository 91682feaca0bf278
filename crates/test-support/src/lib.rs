//! Fixtures of tests: workspaces in a string, canned responses, and whole replays as one text.

mod replay_fixture;

use chrono::DateTime;
use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use yieldtray_credentials::oauth::{Step, TokenError, TokenFlow};
use yieldtray_engine::{Event, Next, ObtainedToken, Run, RunOptions, Summary};
use yieldtray_expression::{Engine, RandomSource, Value};
use yieldtray_http::{Exchange, Failure, FailureKind, PreparedRequest, Timings};
use yieldtray_source::Problem;
use yieldtray_source::files::FileSystem;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::scope::EvalSettings;
use yieldtray_workspace::{CellId, Workspace};

pub use replay_fixture::check_replay;

struct Memory(HashMap<PathBuf, Vec<u8>>);

impl FileSystem for Memory {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        assert!(path != Path::new("trap.json"), "the trap is sprung");
        self.0.get(path).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

/// A workspace of the files in `fixture`: each begins with a line `#- PATH`.
pub fn workspace(fixture: &str) -> Workspace {
    let mut files = HashMap::new();
    for file in fixture.split("#- ").skip(1) {
        let (path, text) = file.split_once('\n').expect("a path and a text");
        files.insert(PathBuf::from(path), text.as_bytes().to_vec());
    }
    Workspace::open(Box::new(Memory(files)))
}

/// An engine without functions of a workspace's own.
pub fn engine() -> Engine {
    Engine::default()
}

/// Random values and a time that repeat.
pub fn random() -> RandomSource {
    let noon = DateTime::parse_from_rfc3339("2026-09-14T12:00:00+00:00").expect("a time");
    RandomSource::new(1, Box::new(move || noon))
}

/// A response with this status, these header fields and this body.
pub fn answer(status: u16, headers: &[(&str, &str)], body: &str) -> Exchange {
    let sent = Arc::new(PreparedRequest::new("GET", "http://local/lots".parse().expect("an address")));
    let headers = headers.iter().map(|(name, value)| ((*name).to_owned(), value.as_bytes().to_vec())).collect();
    let timings = Timings { total: Duration::from_millis(5), ..Timings::default() };
    Exchange { reason: "As Told".to_owned(), timings, ..Exchange::new(sent, status, headers, body.to_owned()) }
}

/// A JSON response.
pub fn json_answer(status: u16, body: &str) -> Exchange {
    answer(status, &[("content-type", "application/json")], body)
}

/// The record of a run of all cells of a workspace's files.
pub struct RunRecord {
    /// The events, in order.
    pub events: Vec<Event>,
    /// The figures.
    pub summary: Summary,
    /// The requests that were sent, in order.
    pub sent: Vec<Arc<PreparedRequest>>,
}

/// Replays `files` of `fixture`; `respond` makes the responses.
pub fn replay(
    fixture: &str,
    files: &[&str],
    settings: EvalSettings,
    mut respond: impl FnMut(&PreparedRequest) -> Result<Exchange, Failure>,
) -> RunRecord {
    with_run(fixture, files, settings, 1, |run| {
        // Nobody is there: each question is answered with itself.
        side_by_side(run, 1, &mut |_| 0, &mut respond)
    })
}

/// Gives `work` a run of all cells of `files`, of this many rounds.
pub fn with_run<T>(
    fixture: &str,
    files: &[&str],
    settings: EvalSettings,
    rounds: usize,
    work: impl FnOnce(&mut Run<'_>) -> T,
) -> T {
    with_options(fixture, files, settings, rounds, RunOptions::default(), work)
}

/// The same with options.
pub fn with_options<T>(
    fixture: &str,
    files: &[&str],
    settings: EvalSettings,
    rounds: usize,
    options: RunOptions<'static>,
    work: impl FnOnce(&mut Run<'_>) -> T,
) -> T {
    let mut workspace = workspace(fixture);
    let engine = Engine::with_functions(&workspace.config.functions);
    let random = random();
    let sources: Vec<_> =
        files.iter().map(|file| workspace.load(Path::new(file)).expect("the file is there")).collect();
    let cells: Vec<CellId> = sources.iter().flat_map(|source| workspace.cells(*source)).collect();
    let plan = Plan::new(&mut workspace, &cells, true).times(rounds);
    work(&mut Run::new(&workspace, &engine, &random, settings, plan, options))
}

/// Drives a run with at most `jobs` requests under way; of those, `choose` says which one is answered next.
pub fn side_by_side(
    run: &mut Run<'_>,
    jobs: usize,
    choose: &mut dyn FnMut(usize) -> usize,
    respond: &mut dyn FnMut(&PreparedRequest) -> Result<Exchange, Failure>,
) -> RunRecord {
    let (mut events, mut sent, mut under_way) = (Vec::new(), Vec::new(), Vec::new());
    loop {
        while under_way.len() < jobs {
            match run.next() {
                Some(Next::Ask(question)) => run.answer(&question, Value::text(question.text.as_str())),
                Some(Next::Wait) | None => break,
                Some(work) => under_way.push(work),
            }
        }
        events.extend(run.events());
        if under_way.is_empty() {
            break;
        }
        match under_way.swap_remove(choose(under_way.len())) {
            Next::Send(ready) => {
                sent.push(ready.prepared.clone());
                let answer = respond(&ready.prepared);
                run.complete(ready, answer);
            }
            Next::Authorize(mut flow) => {
                let outcome = token_of(&mut flow, &mut |request| {
                    sent.push(Arc::clone(request));
                    respond(request)
                });
                run.authorize(flow.profile(), outcome);
            }
            Next::Pause(pause) => run.resume(&pause),
            Next::Ask(_) | Next::Wait => unreachable!("these are not under way"),
        }
    }
    let summary = *run.summary();
    RunRecord { events, summary, sent }
}

/// Takes the steps of a grant that needs nobody.
pub fn token_of(
    flow: &mut TokenFlow,
    respond: &mut dyn FnMut(&Arc<PreparedRequest>) -> Result<Exchange, Failure>,
) -> Result<ObtainedToken, Failure> {
    let now = random().now().timestamp();
    let refused = |error: TokenError| Failure {
        kind: FailureKind::NotAuthorized,
        message: error.to_string(),
        hint: None,
        elapsed: Duration::ZERO,
    };
    loop {
        match flow.next(now).map_err(refused)? {
            Step::Send(request) => flow.received(&respond(&request)?, now).map_err(refused)?,
            Step::Done(token) => {
                let url = flow.endpoint().map(ToString::to_string).unwrap_or_default();
                let renewed = flow.renewed();
                return Ok(ObtainedToken { token: *token, url, elapsed: Duration::ZERO, renewed });
            }
            step => panic!("this grant needs somebody: {step:?}"),
        }
    }
}

impl RunRecord {
    /// The messages of all problems, with their places.
    pub fn problems(&self) -> Vec<&Problem> {
        self.reports().flat_map(|report| &report.problems).collect()
    }

    /// The reports of the cells.
    pub fn reports(&self) -> impl Iterator<Item = &yieldtray_engine::CellReport> {
        self.events.iter().filter_map(|event| match event {
            Event::CellFinished(report) => Some(&**report),
            _ => None,
        })
    }
}

/// Settings with this environment and these values set.
pub fn settings(environment: Option<&str>, set: &[(&str, Value)]) -> EvalSettings {
    EvalSettings {
        environment: environment.map(str::to_owned),
        set: set.iter().map(|(name, value)| ((*name).to_owned(), value.clone())).collect(),
        variables: vec![("SHIFT".to_owned(), "early".to_owned())].into(),
        can_ask: true,
        ..EvalSettings::default()
    }
}
