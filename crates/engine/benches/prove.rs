//! Evaluating the checks of a mutated response against those of the response itself. The bound: twice the time.

#![allow(clippy::print_stdout)]

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use yieldtray_engine::{Event, Next, Run, RunOptions};
use yieldtray_expression::{Engine, RandomSource};
use yieldtray_http::{Exchange, Timings};
use yieldtray_source::files::FileSystem;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::scope::EvalSettings;
use yieldtray_workspace::{CellId, Workspace};

const CELLS: usize = 400;
const RUNS: usize = 9;

struct Memory(HashMap<PathBuf, Vec<u8>>);

impl FileSystem for Memory {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.0.get(path).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

fn main() {
    let members: Vec<String> = (0..20).map(|n| format!("\"field_{n}\": \"value {n}\"")).collect();
    let lot = format!("{{\"id\": \"L-2039\", \"bins\": 18, {}}}", members.join(", "));
    let lots = format!("[{}]", vec![lot.clone(); 500].join(","));
    let of_one = "% yield lot_id = body.id\n% check status == 200\n% check body.bins == 18\n% check body.id == lot_id\n\
                  % check headers['content-type'].startsWith('application/json')\n% check body.field_3.startsWith('value')\n";
    let of_many = "% check status == 200\n% check size(body) == 500\n% check body.all(lot, lot.bins == 18)\n";
    for (name, body, checks, cells) in [("one object", lot, of_one, CELLS), ("a list of 500", lots, of_many, 4)] {
        let (mut plain, mut proving, mut altered) = (Vec::new(), Vec::new(), 0);
        for turn in 0..=RUNS {
            let (own, _) = run(&body, checks, cells, false);
            let (all, copies) = run(&body, checks, cells, true);
            altered = copies;
            if turn > 0 {
                plain.push(own);
                proving.push(all);
            }
        }
        let (plain, proving) = (median(plain), median(proving));
        let (own, each) = (plain / cells as f64, (proving - plain) / altered as f64);
        println!(
            "{name:<16} judged in {:>8.2} µs, an altered copy in {:>8.2} µs: {:.2} of it (bound 2), {} copies",
            own * 1e6,
            each * 1e6,
            each / own,
            altered / cells
        );
    }
}

/// How long judging took, and how many altered copies there were.
fn run(body: &str, checks: &str, cells: usize, prove: bool) -> (Duration, usize) {
    let text: String = (0..cells).map(|n| format!("%% Read {n}\nGET http://bench/lots/L-2039\n\n{checks}\n")).collect();
    let mut workspace = Workspace::open(Box::new(Memory([("lots.http".into(), text.into_bytes())].into())));
    let source = workspace.load(Path::new("lots.http")).expect("a file");
    let all: Vec<CellId> = workspace.cells(source).collect();
    let plan = Plan::new(&mut workspace, &all, true);
    let (engine, random) = (Engine::default(), RandomSource::fixed());
    let options = RunOptions { mutate_responses: prove, ..RunOptions::default() };
    let mut run = Run::new(&workspace, &engine, &random, EvalSettings::default(), plan, options);
    let (mut took, mut altered) = (Duration::ZERO, 0);
    while let Some(next) = run.next() {
        let Next::Send(ready) = next else { unreachable!("every cell is sent") };
        let headers = vec![
            ("content-type".to_owned(), b"application/json".to_vec()),
            ("etag".to_owned(), b"\"L-2039-1\"".to_vec()),
            ("date".to_owned(), b"Mon, 14 Sep 2026 12:00:00 GMT".to_vec()),
        ];
        let timings = Timings { total: Duration::from_millis(5), ..Timings::default() };
        let answer = Exchange { timings, ..Exchange::new(Arc::clone(&ready.prepared), 200, headers, body.to_owned()) };
        let start = Instant::now();
        run.complete(ready, Ok(answer));
        // Checks may be evaluated only when events are asked for.
        let events: Vec<Event> = run.events().collect();
        took += start.elapsed();
        for event in events {
            if let Event::CellFinished(report) = event {
                assert!(report.failures.is_empty(), "the checks hold");
                altered += report.mutation.map_or(0, |proof| proof.mutants);
            }
        }
    }
    (took, altered)
}

fn median(mut times: Vec<Duration>) -> f64 {
    times.sort_unstable();
    times[times.len() / 2].as_secs_f64()
}
