//! Streams of events: how many are printed to a pipe in a second, and what memory an endless stream takes.
//!
//! The bounds: 100,000 events a second, and the same memory after ten times as many events.

#![allow(clippy::print_stdout)]

mod common;

use common::{peak_memory, shown, take_turns};
use std::io::Read;
use std::process::{Command, Stdio};
use yieldtray_packhouse::{Packhouse, Server};

const RUNS: usize = 5;
const EVENTS: u64 = 300_000;

/// Runs a program and reads what it writes to a pipe.
fn run(command: &mut Command) {
    let mut child = command.stdout(Stdio::piped()).spawn().expect("it starts");
    let (mut pipe, mut block) = (child.stdout.take().expect("a pipe"), vec![0; 1 << 16]);
    while pipe.read(&mut block).expect("it can be read") > 0 {}
    assert!(child.wait().expect("it ends").success(), "{command:?} fails");
}

fn main() {
    let packhouse = Packhouse::start(Server::Local).expect("a packhouse");
    let folder = tempfile::tempdir().expect("a temporary folder");
    std::fs::write(folder.path().join("yieldtray.toml"), "[send]\ntimeout = '5m'\n").expect("a file");
    let send = |events: u64, format: &str| {
        let url = format!("{}/scale/readings?count={events}&every=0&batch=200&format={format}", packhouse.base());
        let mut command = Command::new(env!("CARGO_BIN_EXE_yieldtray"));
        command.args(["send", &url, "-q"]).current_dir(folder.path()).stdout(Stdio::piped());
        command
    };
    for format in ["sse", "jsonl"] {
        let times = take_turns(
            RUNS,
            &mut [&mut || run(&mut send(EVENTS, format)), &mut || {
                let url =
                    format!("{}/scale/readings?count={EVENTS}&every=0&batch=200&format={format}", packhouse.base());
                run(Command::new("curl").args(["-sN", &url]).stdout(Stdio::piped()))
            }],
        );
        let rate = EVENTS as f64 / times[0].as_secs_f64();
        println!("{format:<6} to a pipe           {}   {rate:>9.0} events a second (bound 100000)", shown(times[0]));
        println!("{format:<6} by curl             {}", shown(times[1]));
    }
    let (few, many) = (peak_memory(&mut send(EVENTS, "sse")), peak_memory(&mut send(EVENTS * 10, "sse")));
    println!("peak memory                {few} kB, with ten times as many events {many} kB (bound: the same)");
}
