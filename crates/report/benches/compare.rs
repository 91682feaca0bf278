//! Comparing two large JSON bodies against parsing them: at most 5 times as long.

#![allow(clippy::print_stdout)]

use std::fmt::Write;
use std::sync::Arc;
use std::time::{Duration, Instant};
use yieldtray_http::{Exchange, PreparedRequest};
use yieldtray_report::log::{CompareOptions, compare};

const RUNS: usize = 9;

fn main() {
    let (one, keyless) = (body(40_000, "id"), body(40_000, "at"));
    // Every seventh lot has other bins, a hundred are gone, one is elsewhere.
    let other = |text: &str| {
        let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
        for line in lines.iter_mut().skip(7).step_by(7) {
            *line = line.replace("\"bins\":2", "\"bins\":3");
        }
        let moved = lines.remove(20_000);
        lines.insert(500, moved);
        lines.drain(30_000..30_100);
        lines.concat()
    };
    for (name, left) in [("lots with a key", &one), ("lots without one", &keyless)] {
        let (ours, theirs) = (answer(left.replace('\n', "")), answer(other(left)));
        let parse = || {
            for exchange in [&ours, &theirs] {
                let value: serde_json::Value = serde_json::from_slice(&exchange.body).expect("JSON");
                std::hint::black_box(value);
            }
        };
        let how = CompareOptions::default();
        let mut differences = 0;
        let mut both = || differences = compare(&ours, &theirs, &how).found.len();
        let (mut parsing, mut comparing) = (Vec::new(), Vec::new());
        for _ in 0..RUNS {
            parsing.push(time(parse));
            comparing.push(time(&mut both));
        }
        let (parsing, comparing) = (median(parsing), median(comparing));
        println!(
            "{name:<18} 2 × {:.1} MB, parsed in {:.0} ms, compared in {:.0} ms ({differences} differences): {:.2} times (bound 5)",
            ours.body.len() as f64 / 1e6,
            parsing.as_secs_f64() * 1e3,
            comparing.as_secs_f64() * 1e3,
            comparing.as_secs_f64() / parsing.as_secs_f64()
        );
    }
}

fn body(lots: usize, key: &str) -> String {
    let mut text = "{\"lots\":[\n".to_owned();
    for lot in 0..lots {
        let comma = if lot + 1 < lots { "," } else { "" };
        let _ = writeln!(
            text,
            "{{\"{key}\":\"L-{}\",\"grower\":\"G-{}\",\"bins\":2{},\"state\":\"open\",\"trays\":[{{\"tray\":\"T-{}\",\"kg\":11.{}}}]}}{comma}",
            if key == "id" { lot } else { lot % 97 },
            lot % 13,
            lot % 10,
            lot % 31,
            lot % 100
        );
    }
    text + "],\"next\":null}"
}

fn answer(body: String) -> Exchange {
    let sent = PreparedRequest::new("GET", "http://bench/lots".parse().expect("an address"));
    Exchange::new(Arc::new(sent), 200, vec![("content-type".to_owned(), b"application/json".to_vec())], body)
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
