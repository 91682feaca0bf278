//! Compiling and evaluating, and reading a member of a JSON text beside what any reader of that text must do.

#![allow(clippy::print_stdout)]

use std::hint::black_box;
use std::time::{Duration, Instant};
use yieldtray_cel::functions::{Call, Fault, Outcome};
use yieldtray_cel::{Activation, Limits, Open, Program, Record, Value};

/// Checks as people write them.
const CHECKS: [&str; 10] = [
    "status == 201 && has(body.id)",
    "body.id == 'L-2043'",
    "body.lots.all(l, l.bins > 0)",
    "body.lots.exists(l, l.id == 'L-7')",
    "size(body.lots) == 20",
    "body.grower == 'G-11' && body.variety in ['gala', 'fuji', 'cox']",
    "body.kg > 10.5 && body.kg * 2.0 < 100.0",
    "body.id.matches('^L-[0-9]+$')",
    "!has(body.closed_at) || body.closed_at != null",
    "body.lots.filter(l, l.bins > 10).map(l, l.id).size() > 2",
];

struct Response(Value);

impl Activation for Response {
    fn value(&self, name: &str) -> Option<Value> {
        match name {
            "body" => Some(self.0.clone()),
            "status" => Some(Value::Int(201)),
            _ => None,
        }
    }

    fn call(&self, _: usize, _: Call<'_>) -> Outcome {
        Err(Fault::NoOverload)
    }
}

/// The median time of one turn.
fn time(turns: u32, mut work: impl FnMut()) -> Duration {
    let mut times: Vec<Duration> = (0..15)
        .map(|_| {
            let start = Instant::now();
            (0..turns).for_each(|_| work());
            start.elapsed() / turns
        })
        .collect();
    times.sort_unstable();
    times[times.len() / 2]
}

fn body(lots: usize) -> String {
    let lot = |number: usize| {
        format!(r#"{{"id": "L-{number}", "bins": {}, "grower": "G-{}"}}"#, number % 90 + 1, number % 700)
    };
    let lots: Vec<String> = (0..lots).map(lot).collect();
    format!(r#"{{"id": "L-2043", "lots": [{}], "grower": "G-11", "variety": "gala", "kg": 11.5}}"#, lots.join(", "))
}

fn main() {
    let compile = time(200, || CHECKS.iter().for_each(|check| drop(black_box(Program::compile(check, &Open)))));
    println!("compile {} checks: {compile:?}", CHECKS.len());

    let programs: Vec<Program> = CHECKS.iter().map(|check| Program::compile(check, &Open).0).collect();
    let response = Response(Value::parse_json(body(20)).expect("JSON"));
    let evaluate = |record: bool| {
        for program in &programs {
            let mut kept = Record::new();
            let value = program.evaluate(&response, Limits::default(), record.then_some(&mut kept));
            assert_eq!(value.ok(), Some(Value::Bool(true)), "{}", program.text());
        }
    };
    let plain = time(500, || evaluate(false));
    let recorded = time(500, || evaluate(true));
    println!(
        "evaluate them: {plain:?}, with a record {recorded:?}: {:.2}",
        recorded.as_secs_f64() / plain.as_secs_f64()
    );

    let large = bytes::Bytes::from(body(17_000));
    let floor = time(5, || drop(black_box(serde_json::from_slice::<serde::de::IgnoredAny>(&large))));
    println!("{} bytes of JSON, passed over by a reader that keeps nothing: {floor:?}", large.len());
    for text in [
        "body.id",
        "body.kg",
        "body.lots[3].id",
        "body.lots[16999].id",
        "size(body.lots)",
        "body.lots.all(l, l.bins > 0)",
    ] {
        let (program, _) = Program::compile(text, &Open);
        let own = time(5, || {
            let response = Response(Value::parse_json(large.clone()).expect("JSON"));
            drop(black_box(program.evaluate(&response, Limits::default(), None)));
        });
        println!("  read, and `{text}`: {own:?}, {:.2} of that", own.as_secs_f64() / floor.as_secs_f64());
    }
}
