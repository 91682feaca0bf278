//! Indexing a large description, reading one level of it, and validating a response of 1 MB. The bounds: a response takes at
//! most twice as long as parsing it.

#![allow(clippy::print_stdout)]

use serde_json::{Map, Value, json};
use std::sync::Arc;
use std::time::{Duration, Instant};
use url::Url;
use yieldtray_description::{Api, Contract, index};
use yieldtray_http::{Exchange, PreparedRequest};

const RUNS: usize = 9;
const PATHS: usize = 14_000;

fn main() {
    let text = description(PATHS);
    let parsed = median(|| serde_json::from_str::<Value>(&text).expect("JSON").as_object().map_or(0, Map::len));
    let made = median(|| index(text.as_bytes(), none).expect("a description").len());
    println!(
        "a description of {PATHS} paths, {:.1} MB: parsed {:.0} ms, indexed in {:.0} ms, ratio {:.2}",
        megabytes(text.len()),
        millis(parsed),
        millis(made),
        made.as_secs_f64() / parsed.as_secs_f64()
    );
    let stored = index(text.as_bytes(), none).expect("a description");
    println!("its index: {:.1} MB", megabytes(stored.len()));
    let api = Api::open(Box::new(stored)).expect("an index");
    let level = median(|| api.level(Some("/orchards/7")).expect("an index").expect("a level").places.len());
    let matched = median(|| usize::from(api.matched("GET", "/orchards/7/lots/L-1/trays").is_ok()));
    println!("one level: {:.0} µs; one request matched: {:.0} µs", micros(level), micros(matched));

    let body = json!({ "lots": (0..9_000).map(lot).collect::<Vec<_>>() }).to_string();
    let parsed = median(|| serde_json::from_str::<Value>(&body).expect("JSON").as_object().map_or(0, Map::len));
    let base = Url::parse("http://127.0.0.1:4616").expect("a URL");
    let small = Api::open(Box::new(index(description(10).as_bytes(), none).expect("a description"))).expect("an index");
    let contract = Contract::new("packhouse", small, base.clone());
    let exchange = exchange(base.join("/orchards/1/lots/L-1/trays").expect("a URL"), &body);
    let checked = median(|| {
        let violations = contract.check(&exchange).expect("it is of this API");
        assert!(violations.is_empty(), "{violations:?}");
        violations.len()
    });
    println!(
        "a response of {:.2} MB: parsed {:.1} ms, validated in {:.1} ms, ratio {:.2} (bound 2)",
        megabytes(body.len()),
        millis(parsed),
        millis(checked),
        checked.as_secs_f64() / parsed.as_secs_f64()
    );
}

fn none(_: &str) -> Result<Vec<u8>, String> {
    Err("there are no other files".to_owned())
}

fn lot(number: usize) -> Value {
    json!({ "id": format!("L-{number}"), "grower": "G-11", "bins": number % 400 + 1, "state": "open", "variety": "gala", "ref": null })
}

fn exchange(url: Url, body: &str) -> Exchange {
    let headers = vec![("content-type".to_owned(), b"application/json".to_vec())];
    Exchange::new(Arc::new(PreparedRequest::new("GET", url)), 200, headers, body.to_owned())
}

/// A description in which each path has an operation with parameters, and a schema of its own that refers to others.
fn description(paths: usize) -> String {
    let (mut all, mut schemas) = (Map::new(), Map::new());
    let about = "Trays of a lot, in the order in which they were weighed. ".repeat(20);
    for number in 0..paths {
        let schema = json!({ "type": "object", "required": ["lots"], "properties": { "lots": { "type": "array", "items": {
            "type": "object", "required": ["id", "grower", "bins", "state"], "additionalProperties": false, "properties": {
                "id": { "type": "string", "pattern": "^L-[0-9]+$" }, "grower": { "type": "string" },
                "bins": { "type": "integer", "minimum": 1, "maximum": 400 }, "state": { "enum": ["open", "closed"] },
                "variety": { "type": "string", "maxLength": 80 }, "ref": { "type": ["string", "null"] },
                "next": { "$ref": format!("#/components/schemas/Page{}", (number + 1) % paths) },
            } } } } });
        schemas.insert(format!("Page{number}"), schema);
        let content =
            json!({ "application/json": { "schema": { "$ref": format!("#/components/schemas/Page{number}") } } });
        all.insert(
            format!("/orchards/{number}/lots/{{id}}/trays"),
            json!({ "get": {
                "operationId": format!("trays-{number}"), "summary": "List the trays", "description": about,
                "tags": [format!("orchard {}", number % 50)],
                "parameters": [{ "name": "id", "in": "path", "required": true, "schema": { "type": "string" } },
                    { "name": "page", "in": "query", "schema": { "type": "integer", "minimum": 1 } }],
                "responses": { "200": { "description": "The trays.", "content": content.clone() }, "default": { "description": "Others.", "content": content } },
            } }),
        );
    }
    json!({ "openapi": "3.1.0", "info": { "title": "Orchards" }, "paths": all, "components": { "schemas": schemas } })
        .to_string()
}

fn median(mut run: impl FnMut() -> usize) -> Duration {
    let mut times: Vec<Duration> = (0..RUNS)
        .map(|_| {
            let begun = Instant::now();
            std::hint::black_box(run());
            begun.elapsed()
        })
        .collect();
    times.sort_unstable();
    times[RUNS / 2]
}

fn millis(time: Duration) -> f64 {
    time.as_secs_f64() * 1e3
}

fn micros(time: Duration) -> f64 {
    time.as_secs_f64() * 1e6
}

fn megabytes(bytes: usize) -> f64 {
    bytes as f64 / 1e6
}
