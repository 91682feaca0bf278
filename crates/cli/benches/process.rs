//! Whole processes against the floor: what `cargo bench` prints are medians and ratios of runs that
//! take turns, so that a machine whose speed drifts still gives a ratio that holds.
//!
//! The bounds: `send`, kept and logged, at most 0.5 of `curl -s` and 2.5 of a bare client, at most 0.55 of `curl -s` with
//! values from the tray and a yield kept there; `replay` of 2,000 pairs at
//! most 1.3 of a bare loop, 1.35 with a JUnit and an HTML report, 1.35 with the log, its memory growing by less than 2 KiB a request; `replay --jobs 8` at least 0.6 of
//! the requests a second of a bare client on 8 connections; memory that does not grow with the rows of `% each`.

#![allow(clippy::print_stdout)]

mod common;

use common::{installed, peak_memory, ratio, run, shown, take_turns};
use std::path::{Path, PathBuf};
use std::process::Command;
use yieldtray_packhouse::{Packhouse, Server};

const RUNS: usize = 41;
const LOOP_RUNS: usize = 9;
const PAIRS: usize = 2000;

fn main() {
    let programs = tempfile::tempdir().expect("a temporary folder");
    let (bare, tool) = (installed(&bare_client(), programs.path()), common::tool(programs.path()));
    let tool = tool.as_path();
    let folder = tempfile::tempdir().expect("a temporary folder");
    let packhouse = Packhouse::start(Server::Local).expect("a packhouse");
    create_workspace(folder.path(), &packhouse.base());

    let url = format!("{}/lots/L-2039", packhouse.base());
    let send = |args: &[&str]| {
        run(Command::new(tool).args(["send", "requests/one.http"]).args(args).current_dir(folder.path()));
    };
    let times = take_turns(
        RUNS,
        &mut [
            &mut || send(&[]),
            &mut || run(Command::new("curl").args(["-s", &url])),
            &mut || run(Command::new(&bare).args(["get", &url])),
            &mut || send(&["--no-log"]),
        ],
    );
    println!("send, one check and one yield       {}", shown(times[0]));
    println!(
        "curl -s                             {}   send is {:.2} of it (bound 0.5)",
        shown(times[1]),
        ratio(times[0], times[1])
    );
    println!(
        "bare client                         {}   send is {:.2} of it (bound 2.5)",
        shown(times[2]),
        ratio(times[0], times[2])
    );

    println!(
        "send without the log                {}   {:.2} of the bare client (bound 2.5)",
        shown(times[3]),
        ratio(times[3], times[2])
    );

    let kept = || {
        let mut command = Command::new(tool);
        command.args(["send", "requests/kept.http#read"]).current_dir(folder.path());
        run(&mut command)
    };
    run(Command::new(tool).args(["send", "requests/kept.http#find"]).current_dir(folder.path()));
    let times = take_turns(RUNS, &mut [&mut || kept(), &mut || run(Command::new("curl").args(["-s", &url]))]);
    println!(
        "send, value and yield on the tray   {}   {:.2} of `curl -s` (bound 0.55)",
        shown(times[0]),
        ratio(times[0], times[1])
    );

    let count = PAIRS.to_string();
    let base = packhouse.base();
    let times = take_turns(
        LOOP_RUNS,
        &mut [
            &mut || {
                run(Command::new(tool).args(["replay", "requests/pairs.http", "--no-log"]).current_dir(folder.path()))
            },
            &mut || run(Command::new(&bare).args(["pairs", &base, Server::Local.api_key(), &count])),
            &mut || run(Command::new(tool).args(["replay", "requests/pairs.http"]).current_dir(folder.path())),
        ],
    );
    println!("replay of {PAIRS} pairs                {}", shown(times[0]));
    println!(
        "bare loop of {PAIRS} pairs             {}   replay is {:.2} of it (bound 1.3)",
        shown(times[1]),
        ratio(times[0], times[1])
    );
    println!(
        "the same with the log               {}   {:.2} of the bare loop (bound 1.35)",
        shown(times[2]),
        ratio(times[2], times[1])
    );

    let reported = || {
        let mut command = Command::new(tool);
        command.args(["replay", "requests/pairs.http", "--no-log"]);
        command.args(["--report", "junit=r.xml", "--report", "html=r.html"]);
        run(command.current_dir(folder.path()));
    };
    let times = take_turns(
        LOOP_RUNS,
        &mut [&mut || reported(), &mut || {
            run(Command::new(&bare).args(["pairs", &base, Server::Local.api_key(), &count]))
        }],
    );
    let page = std::fs::metadata(folder.path().join("r.html")).expect("a report").len();
    println!(
        "with a JUnit and an HTML report     {}   {:.2} of the bare loop (bound 1.35)",
        shown(times[0]),
        ratio(times[0], times[1])
    );
    println!(
        "the page of {} exchanges          {:.1} MB: {:.1} MB for 5,000 (bound 15)",
        PAIRS * 2,
        page as f64 / 1e6,
        page as f64 / 1e6 * 5000.0 / (PAIRS * 2) as f64
    );

    let beside = || {
        let mut command = Command::new(tool);
        command.args(["replay", "beside", "--jobs", "8"]).current_dir(folder.path());
        run(&mut command)
    };
    let all = (FILES * READS).to_string();
    let times = take_turns(
        LOOP_RUNS,
        &mut [&mut || beside(), &mut || run(Command::new(&bare).args(["beside", &base, "8", &all]))],
    );
    println!("--jobs 8 over {FILES} files of {READS}      {}", shown(times[0]));
    println!(
        "bare client on 8 connections        {}   the requests a second are {:.2} of its (bound 0.6)",
        shown(times[1]),
        ratio(times[1], times[0])
    );

    let peak = |file: &str| peak_memory(Command::new(tool).args(["replay", file]).current_dir(folder.path()));
    let (small, large) = (peak("requests/pairs.http"), peak("requests/pairs-4.http"));
    let requests = PAIRS * 2 * 3;
    println!(
        "peak memory                         {small} KiB, with 4 times the requests {large} KiB: {:.2} KiB a request (bound 2)",
        (large.saturating_sub(small)) as f64 / requests as f64
    );

    let reporting = |file: &str| {
        let mut command = Command::new(tool);
        command.args(["replay", file, "--report", "junit=r.xml", "--report", "html=r.html", "--report", "json=r.json"]);
        peak_memory(command.current_dir(folder.path()))
    };
    let (small, large) = (reporting("requests/rows.http"), reporting("requests/rows-10.http"));
    println!(
        "the same with three reports         {small} and {large} KiB: {:.3} KiB a row more (bound 0.1)",
        (large.saturating_sub(small)) as f64 / (ROWS * (TIMES_MORE - 1)) as f64
    );

    let (small, large) = (peak("requests/rows.http"), peak("requests/rows-10.http"));
    println!(
        "rows, {ROWS} and {}              {small} and {large} KiB: {:.3} KiB a row more (bound 0.1)",
        ROWS * TIMES_MORE,
        (large.saturating_sub(small)) as f64 / (ROWS * (TIMES_MORE - 1)) as f64
    );
}

/// Files that are replayed side by side, and the reads in each.
const FILES: usize = 64;
const READS: usize = 50;

/// Rows of `% each`, and so many times more.
const ROWS: usize = 10_000;
const TIMES_MORE: usize = 10;

/// Builds the bare client and says where it is.
fn bare_client() -> PathBuf {
    let status = Command::new(env!("CARGO"))
        .args(["build", "--quiet", "--release", "--package", "yieldtray-transport", "--example", "bare"])
        .status()
        .expect("cargo runs");
    assert!(status.success(), "the bare client builds");
    // The program is in the directory of its profile, examples in one below.
    let profile = Path::new(env!("CARGO_BIN_EXE_yieldtray")).parent().expect("a folder");
    profile.join("examples/bare")
}

fn create_workspace(folder: &Path, base: &str) {
    let config = format!(
        "[workspace]\nenvironment = \"bench\"\n[environments.bench.values]\nbase = \"{base}\"\nkey = \"{}\"\n",
        Server::Local.api_key()
    );
    std::fs::create_dir(folder.join("requests")).expect("a folder");
    let write = |name: &str, text: &str| std::fs::write(folder.join(name), text).expect("a file");
    write("yieldtray.toml", &config);
    write("requests/one.http", "GET /lots/L-2039\n\n% check body.bins == 18\n% yield grower = body.grower\n");
    write(
        "requests/kept.http",
        "%% Find\nGET /lots/L-2039\n\n% yield lot_id = body.id\n\n%% Read\nGET /lots/{{lot_id}}\n\n% check body.bins == 18\n% yield grower = body.grower\n",
    );
    std::fs::create_dir(folder.join("beside")).expect("a folder");
    for file in 0..FILES {
        let cell =
            |n: usize| format!("%% Read {n}\nGET /lots/L-2039\n\n% check status == 200\n% check body.bins == 18\n\n");
        write(&format!("beside/{file:02}.http"), &(0..READS).map(cell).collect::<String>());
    }
    for (name, rows) in [("rows", ROWS), ("rows-10", ROWS * TIMES_MORE)] {
        let lines = |row: usize| format!("L-2039,{row}\n");
        write(&format!("requests/{name}.csv"), &format!("lot,turn\n{}", (0..rows).map(lines).collect::<String>()));
        let cell = format!(
            "%% Read\n% each row in \"{name}.csv\"\nGET /lots/{{{{lot}}}}?turn={{{{turn}}}}\n\n% check body.id == lot\n"
        );
        write(&format!("requests/{name}.http"), &cell);
    }
    write("requests/pairs.http", &pairs(PAIRS));
    write("requests/pairs-4.http", &pairs(PAIRS * 4));
}

/// Each pair books a lot in and reads it back, with a yield and two checks.
fn pairs(count: usize) -> String {
    let pair = |n: usize| {
        let bins = n % 40 + 1;
        format!(
            "%% Book {n}\nPOST /lots\nX-Api-Key: {{{{key}}}}\n\n{{ \"grower\": \"G-11\", \"bins\": {bins} }}\n\n\
             % yield lot_id = body.id\n% check status == 201\n% check body.bins == {bins}\n\n\
             %% Read {n}\nGET /lots/{{{{lot_id}}}}\n\n% yield grower = body.grower\n% check status == 200\n% check body.id == lot_id\n\n"
        )
    };
    (0..count).map(pair).collect()
}
