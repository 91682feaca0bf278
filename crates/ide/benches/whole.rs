//! The commands that read a whole workspace, `lint` and `values`, against only parsing its files.
//! The bound: at most 6 times as long, over 10,000 cells in 500 files. And `lint` of 100,000 cells in one file.

#![allow(clippy::print_stdout)]

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use yieldtray_expression::Engine;
use yieldtray_ide::lint::lint;
use yieldtray_source::SourceId;
use yieldtray_source::files::FileSystem;
use yieldtray_syntax::parse;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::scope::{EvalContext, EvalSettings, list_values};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace};

const FILES: usize = 500;
const CELLS: usize = 20;
const RUNS: usize = 9;

#[derive(Clone)]
struct Memory(HashMap<PathBuf, Vec<u8>>);

impl FileSystem for Memory {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.0.get(path).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

/// Files as people write them: what one cell yields the next one uses, checks differ from cell to cell.
fn files() -> HashMap<PathBuf, Vec<u8>> {
    let config = "[values]\nseason = 2026\n[environments.bench.values]\nbase = 'http://bench'\ngrower = 'G-11'\nkey = { from = 'env:KEY', secret = true }\n\
                  [environments.live.values]\nbase = 'http://live'\ngrower = 'G-13'\nkey = { from = 'env:KEY', secret = true }\n";
    let common = "% header Accept: application/json\n% check ok: status >= 200 && status < 300\n% check quick: elapsed < duration('2s')\n";
    let mut files: HashMap<PathBuf, Vec<u8>> =
        [("yieldtray.toml", config), ("_common.http", common)].map(|(path, text)| (path.into(), text.into())).into();
    for file in 0..FILES {
        let mut text = format!("# Intake desk {file}\n\n% let delivery = 'gate-' + string(season)\n% tag intake\n\n");
        for cell in 0..CELLS / 2 {
            let bins = (file * 7 + cell) % 40 + 1;
            text.push_str(&format!(
                "%% Book lot {cell}\n# The truck is at the gate: so many bins of one grower.\nPOST /lots\nX-Api-Key: {{{{key}}}}\n\n\
                 {{\n  \"grower\": \"{{{{grower}}}}\",\n  \"variety\": \"gala\",\n  \"bins\": {bins},\n  \"ref\": \"{{{{delivery}}}}/{{{{uuid()}}}}\"\n}}\n\n\
                 % yield lot_{cell} = body.id\n% check status == 201\n% check body.bins == {bins} else \"the gate scale counts bins: was the truck full?\"\n\n\
                 %% Read lot {cell}\n% needs book-lot-{cell}\nGET /lots/{{{{lot_{cell}}}}}\n\n% check body.id == lot_{cell}\n% check body.grower == grower\n\n"
            ));
        }
        files.insert(format!("desk-{file:03}.http").into(), text.into_bytes());
    }
    files
}

fn engine() -> Engine {
    Engine::default()
}

fn load(memory: &Memory) -> (Workspace, Vec<CellId>) {
    let mut workspace = Workspace::open(Box::new(memory.clone()));
    let paths = (0..FILES).map(|file| format!("desk-{file:03}.http"));
    let sources: Vec<SourceId> = paths.map(|path| workspace.load(Path::new(&path)).expect("a file")).collect();
    let cells = sources.iter().flat_map(|source| workspace.cells(*source)).collect();
    (workspace, cells)
}

fn main() {
    let memory = Memory(files());
    let texts: Vec<String> = memory.0.values().map(|bytes| String::from_utf8_lossy(bytes).into_owned()).collect();
    let settings = EvalSettings {
        environment: Some("bench".to_owned()),
        variables: vec![("KEY".to_owned(), "bench-key-4616".to_owned())].into(),
        ..EvalSettings::default()
    };
    let mut found = (0, 0);
    let mut times = [Vec::new(), Vec::new(), Vec::new()];
    for run in 0..=RUNS {
        let parsing = timed(|| {
            for text in &texts {
                std::hint::black_box(parse(text, SourceId(0), "desk"));
            }
        });
        let linting = timed(|| {
            let (mut workspace, cells) = load(&memory);
            found.0 = lint(&mut workspace, &engine(), &settings, &cells).len();
        });
        let surveying = timed(|| {
            let (mut workspace, cells) = load(&memory);
            let plan = Plan::new(&mut workspace, &cells, true);
            let scopes: Vec<_> = plan.steps.into_iter().map(|step| (step.cell, step.needs)).collect();
            let engine = engine();
            let context = EvalContext::static_of(&workspace, &engine, &settings);
            found.1 = list_values(context, &scopes, true, &mut Masker::default()).len();
        });
        if run > 0 {
            for (times, time) in times.iter_mut().zip([parsing, linting, surveying]) {
                times.push(time);
            }
        }
    }
    let [parsing, linting, surveying] = times.map(median);
    println!("{} cells in {FILES} files", FILES * CELLS);
    println!("parsing                  {:>8.2} ms", parsing * 1e3);
    println!(
        "lint                     {:>8.2} ms   {:.2} of parsing (bound 6), {} findings",
        linting * 1e3,
        linting / parsing,
        found.0
    );
    println!(
        "values                   {:>8.2} ms   {:.2} of parsing (bound 6), {} rows",
        surveying * 1e3,
        surveying / parsing,
        found.1
    );
    long_file();
}

/// One file of 100,000 cells, whose names other cells yield, and an environment without `base`.
fn long_file() {
    let cells = 100_000;
    let mut text = String::new();
    for cell in 0..cells {
        let needs = if cell % 2 == 1 { format!("% needs lot-{}\n", cell - 1) } else { String::new() };
        text.push_str(&format!(
            "%% Lot {cell}\n{needs}GET /lots/{{{{lot_{}}}}}\n\n% yield lot_{cell} = body.id\n% check status == 200\n\n",
            cell - cell % 2
        ));
    }
    let memory = Memory(
        [
            ("yieldtray.toml", "[environments.bench.values]\nbase = 'http://bench'\n[environments.live]\n"),
            ("lots.http", &text),
        ]
        .map(|(path, text)| (path.into(), text.into()))
        .into(),
    );
    let mut found = 0;
    let linting = timed(|| {
        let mut workspace = Workspace::open(Box::new(memory.clone()));
        let source = workspace.load(Path::new("lots.http")).expect("a file");
        let cells: Vec<CellId> = workspace.cells(source).collect();
        found = lint(&mut workspace, &engine(), &EvalSettings::default(), &cells).len();
    });
    println!("lint of {cells} cells in one file: {:.2} s (bound 5), {found} findings", linting.as_secs_f64());
}

fn timed(work: impl FnOnce()) -> Duration {
    let start = Instant::now();
    work();
    start.elapsed()
}

fn median(mut times: Vec<Duration>) -> f64 {
    times.sort_unstable();
    times[times.len() / 2].as_secs_f64()
}
