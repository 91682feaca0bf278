//! The log when it is long, as whole processes in turns.
//!
//! The bounds: `log` and `log show` of 200,000 exchanges at most twice their time of 200; `log --grep` over
//! them at least 20 times as fast as `grep` over the same exported as text.

#![allow(clippy::print_stdout)]

mod common;

use common::{ratio, run, shown, take_turns};
use std::path::Path;
use std::process::Command;
use std::time::Instant;
use yieldtray_packhouse::{Packhouse, Server};
use yieldtray_store::Store;
use yieldtray_store::log::Retention;

const RUNS: usize = 21;
const MANY: i64 = 200_000;
const FEW: i64 = 200;

fn main() {
    let packhouse = Packhouse::start(Server::Local).expect("a packhouse");
    let programs = tempfile::tempdir().expect("a folder");
    let tool = &*common::tool(programs.path());
    let few = create_workspace(tool, &packhouse.base(), FEW);
    let many = create_workspace(tool, &packhouse.base(), MANY);
    let log = |folder: &Path, args: &[&str]| run(Command::new(tool).arg("log").args(args).current_dir(folder));

    for args in [&[][..], &["show", "120"]] {
        let times = take_turns(RUNS, &mut [&mut || log(few.path(), args), &mut || log(many.path(), args)]);
        let name = format!("log {}", args.join(" "));
        println!("{name:<16} of {FEW}            {}", shown(times[0]));
        println!(
            "{name:<16} of {MANY}         {}   {:.2} of that (bound 2)",
            shown(times[1]),
            ratio(times[1], times[0])
        );
    }

    let begun = Instant::now();
    log(many.path(), &["--grep", "nothing-like-it"]);
    println!("the first search of {MANY}       {}   (it makes them searchable)", shown(begun.elapsed()));
    log(many.path(), &["export", "har", "--out", "all.har"]);
    let size = std::fs::metadata(many.path().join("all.har")).expect("it was exported").len();
    let grep = || run(Command::new("grep").args(["-c", "L-123456", "all.har"]).current_dir(many.path()));
    let times = take_turns(9, &mut [&mut || log(many.path(), &["--grep", "L-123456"]), &mut || grep()]);
    println!("log --grep                       {}", shown(times[0]));
    println!(
        "grep over {:.0} MB of text          {}   log --grep is {:.0} times as fast (bound 20)",
        size as f64 / 1e6,
        shown(times[1]),
        ratio(times[1], times[0])
    );
}

/// A workspace with so many exchanges in its log, each like one that was really sent.
fn create_workspace(tool: &Path, base: &str, count: i64) -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    let config = format!("[values]\nbase = \"{base}\"\n[log]\nexchanges = 1_000_000\n");
    std::fs::write(folder.path().join("yieldtray.toml"), config).expect("a file");
    std::fs::write(folder.path().join("lot.http"), "GET /lots/L-2039\n\n% check body.bins == 18\n").expect("a file");
    run(Command::new(tool).args(["send", "lot.http"]).current_dir(folder.path()));
    let mut store = Store::open_or_make(folder.path(), None).expect("a store");
    let (listed, message) = store.exchange(1).expect("a row").expect("it was logged");
    let like = |number: i64| {
        let (mut summary, mut message) = (listed.summary.clone(), message.clone());
        summary.url = summary.url.replace("L-2039", &format!("L-{number}"));
        message.head = message.head.replace("L-2039", &format!("L-{number}"));
        let body = String::from_utf8_lossy(message.received.as_deref().unwrap_or_default()).into_owned();
        message.received = Some(body.replace("L-2039", &format!("L-{number}")).into_bytes());
        (summary, message)
    };
    let keeping = Retention { exchanges: 1_000_000, since: 0 };
    for from in (2..=count).step_by(1_000) {
        let group: Vec<_> = (from..(from + 1_000).min(count + 1)).map(like).collect();
        store.log(&group, keeping).expect("they are logged");
    }
    folder
}
