//! `yieldtray prove`: mutations that checks do not detect.

use crate::support::TestWorkspace;
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

const STRONG: &str = "%% Health
GET /health

% check status == 200
% check body == {\"status\": \"open\", \"server\": \"local\"}
% check headers[\"content-type\"] == \"application/json\"
% check elapsed < duration(\"5s\")
";

const WEAK: &str = "%% Read a lot
GET /lots/L-2039

% check status == 200
% check body.bins == 18
% yield lot_id = body.id

%% Sign nothing
GET /growers

%% No such lot
GET /lots/L-1

% check status == 404
% check body.title != \"\"
";

fn workspace() -> TestWorkspace {
    TestWorkspace::new().file("a-strong.http", STRONG).file("weak.http", WEAK)
}

#[test]
fn gaps_are_told_in_plain_words() {
    let workspace = workspace();
    let run = workspace.run(&["prove"]).exits(0);
    insta::assert_snapshot!("gaps", workspace.redacted(&run.both()));
    let quiet = workspace.run(&["prove", "-q"]).exits(0);
    assert!(quiet.stdout.contains("weak.http") && !quiet.stdout.contains("no check notices"), "{}", quiet.stdout);
}

#[test]
fn a_suggested_line_closes_the_gap_it_is_for() {
    let mut cell = "%% Read a lot\nGET /lots/L-2039\n\n".to_owned();
    let mut before = 0;
    // Line after line until there is nothing more to suggest.
    for lines in 0..40 {
        let workspace = TestWorkspace::new().file("lot.http", &cell);
        let document = workspace.run(&["prove", "--json"]).exits(0).json();
        let noticed = document["detected"].as_u64().expect("a number");
        assert!(lines == 0 || noticed > before, "{cell}");
        before = noticed;
        match document["cells"][0]["mutation"]["suggestion"].as_str() {
            Some(line) => cell.push_str(&format!("{line}\n")),
            None => {
                assert!(lines > 8 && document["percent"].as_u64() >= Some(95), "{document}");
                return;
            }
        }
    }
    panic!("it never ends: {cell}");
}

#[test]
fn a_build_asks_for_so_much() {
    let workspace = workspace();
    workspace.run(&["prove", "--min", "100", "a-strong.http"]).exits(0);
    let short = workspace.run(&["prove", "--min", "90"]).exits(1);
    assert!(short.stdout.contains("1 file below 90 %"), "{}", short.stdout);
    workspace.run(&["prove", "--min", "10"]).exits(0);
    let refused = workspace.run(&["prove", "--min", "101"]).exits(2);
    assert!(refused.stderr.contains("--min"), "{}", refused.stderr);
    workspace.run(&["prove", "--only", "gone"]).exits(2);

    let document = workspace.run(&["prove", "--min", "90", "--json"]).exits(1).json();
    let files: Vec<(&str, Option<u64>)> = document["files"]
        .as_array()
        .expect("a list")
        .iter()
        .map(|file| (file["file"].as_str().expect("a name"), file["percent"].as_u64()))
        .collect();
    assert_eq!(
        (files[0], files[1].0, &document["min_reached"]),
        (("a-strong.http", Some(100)), "weak.http", &json!(false))
    );
    let read = &document["cells"][1];
    assert_eq!((&read["name"], &read["outcome"]), (&json!("read-a-lot"), &json!("passed")));
    assert_eq!(read["mutation"]["undetected"][0], json!({ "change": "field-missing", "subject": "grower" }));
}

#[test]
fn what_does_not_pass_is_shown_and_not_judged() {
    let cells = "%% Wrong\nGET /lots/L-2039\n\n% check body.bins == 17\n\n%% Needs it\n% needs wrong\nGET /health\n\n%% Slip\nGET /{{nothing}}\n\n%% Fine\nGET /health\n\n% check status == 200\n";
    let workspace = TestWorkspace::new().file("a.http", cells);
    let run = workspace.run(&["prove", "--min", "1"]).exits(2);
    for message in [
        "body.bins == 17",
        "not sent: wrong did not pass",
        "3 did not pass",
        "1 request · ",
        "no variable named `nothing`",
    ] {
        assert!(run.both().contains(message), "{message}: {}", run.both());
    }
    let document = workspace.run(&["prove", "--json"]).exits(2).json();
    assert_eq!(document["cells"][0].get("mutation"), None::<&Value>);
    // Without mutations there is no score.
    let alone = workspace.run(&["prove", "a.http#wrong", "--json"]).exits(1).json();
    assert_eq!((&alone["mutations"], &alone["percent"]), (&json!(0), &Value::Null));
}

/// A server that counts what it is asked.
fn counting() -> (String, Arc<AtomicUsize>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    let count = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&count);
    thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            counted.fetch_add(1, Ordering::SeqCst);
            let _ = stream.read(&mut [0; 4096]);
            let body = "{\"id\": \"L-1\", \"trays\": [\"T-1\"]}";
            let head = "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Type: application/json\r\nETag: \"1\"\r\n";
            let _ = write!(stream, "{head}Content-Length: {}\r\n\r\n{body}", body.len());
        }
    });
    (format!("http://{address}"), count)
}

#[test]
fn each_request_is_sent_once_and_no_copy_leaves_a_trace() {
    let (base, count) = counting();
    let cells = format!(
        "%% One\n{base}/one\n\n% yield lot_id = body.id\n% check body.id.startsWith(\"L-\")\n\n\
         %% Two\n% needs one\n{base}/{{{{lot_id}}}}\n\n% check url.endsWith(\"/L-1\")\n\n\
         %% Rows\n% each row in \"rows.csv\"\n{base}/{{{{bins}}}}\n\n% check status == 200\n"
    );
    let workspace = TestWorkspace::empty().file("a.http", &cells).file("rows.csv", "bins\n1\n2\n3\n");
    let document = workspace.run(&["prove", "--json"]).exits(0).json();
    assert_eq!(count.load(Ordering::SeqCst), 3, "a cell with rows is sent for the first");
    assert!(document["mutations"].as_u64() > Some(40), "{document}");
    assert!(document["cells"][0]["mutation"]["messages"].to_string().contains("the header `etag` is missing"));
}
