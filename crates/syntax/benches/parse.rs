//! Parsing 100,000 cells (about 30 MB) against going over the same lines, and ten times as many.
//!
//! The bounds: at least a quarter of the speed of `str::lines`, memory below 6 times the text, cost
//! growing in a line.

#![allow(clippy::print_stdout)]

use std::fmt::Write;
use std::hint::black_box;
use std::time::{Duration, Instant};
use yieldtray_source::SourceId;
use yieldtray_syntax::parse;

const CELLS: usize = 100_000;
const RUNS: usize = 9;

fn main() {
    let text = file(CELLS);
    let megabytes = text.len() as f64 / 1e6;
    let (mut parsing, mut going_over) = (Vec::new(), Vec::new());
    let before = memory();
    let kept = parse(&text, SourceId(0), "bench");
    assert!(kept.problems.is_empty() && kept.file.cells.len() == CELLS, "{:?}", kept.problems.first());
    let grown = memory().saturating_sub(before) as f64 * 1024.0 / text.len() as f64;
    for _ in 0..RUNS {
        parsing.push(time(|| drop(black_box(parse(&text, SourceId(0), "bench")))));
        going_over.push(time(|| {
            let text = std::str::from_utf8(text.as_bytes()).expect("text");
            black_box(text.lines().map(str::len).sum::<usize>());
        }));
    }
    let (parsing, going_over) = (median(parsing), median(going_over));
    println!("text                 {megabytes:.1} MB, {CELLS} cells");
    println!("str::lines, UTF-8    {:.1} ms", millis(going_over));
    println!(
        "parse                {:.1} ms   {:.2} of the speed of str::lines (bound 0.25)",
        millis(parsing),
        millis(going_over) / millis(parsing)
    );
    println!("memory               {:.1} times the text, the text included (bound 6)", grown + 1.0);
    drop(kept);

    let ten = file(CELLS * 10);
    let long = median((0..3).map(|_| time(|| drop(black_box(parse(&ten, SourceId(0), "bench"))))).collect());
    println!("parse, 10 times      {:.1} ms   {:.1} times as long", millis(long), millis(long) / millis(parsing));
}

fn file(cells: usize) -> String {
    let mut text = String::new();
    for n in 0..cells {
        let _ = write!(
            text,
            "%% Book in lot {n}\n# A clerk books the truck's bins in at the gate; the scale counts them.\n% name book-{n}\n\
             % needs sign-in-{n}\nPOST /lots\nAuthorization: Bearer {{{{token}}}}\n\n{{\n  \"grower\": \"{{{{grower}}}}\",\n  \
             \"bins\": {{{{bins}}}}\n}}\n\n% yield lot_{n} = body.id\n% check status == 201\n% check body.bins == bins\n\n"
        );
    }
    text
}

fn time(work: impl FnOnce()) -> Duration {
    let start = Instant::now();
    work();
    start.elapsed()
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times[times.len() / 2]
}

fn millis(time: Duration) -> f64 {
    time.as_secs_f64() * 1e3
}

/// This process's resident memory in KiB.
fn memory() -> u64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = text.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or_default();
    line.trim().trim_end_matches(" kB").parse().unwrap_or(0)
}
