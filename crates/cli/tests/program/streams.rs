//! Responses that come in pieces: events while they arrive, and pages that lead to the next one.

use crate::support::terminal::Terminal;
use crate::support::{TestWorkspace, raw_server, server};
use serde_json::{Value, json};
use std::time::Duration;

fn workspace(cells: &str) -> TestWorkspace {
    TestWorkspace::new().file("a.http", cells)
}

/// The lines of events in what was printed, without their times.
fn events(output: &str) -> Vec<String> {
    let line = |line: &str| line.split_once(" s  ").map(|(_, event)| event.to_owned());
    output.lines().filter_map(line).collect()
}

#[test]
fn events_are_printed_as_they_arrive_until_there_are_enough() {
    let workspace = workspace(
        "%% three\nGET /scale/readings?count=5\n\n% take 3 events\n% check events.map(e, e.data.number) == [1, 2, 3]\n% check event.id == '3' && event.event == 'reading'\n% yield heaviest = event.data.kg\n\n\
         %% heavy\nGET /scale/readings?count=0&every=1\n\n% until event.data.kg > 13.0\n% check size(events) == 5 && events[4].at > events[0].at\n\n\
         %% all\nGET /scale/readings?count=0&every=1\n\n% until events.map(e, e.data.kg).exists(kg, kg == 13.0)\n\n\
         %% lines\nGET /scale/readings?count=2&format=jsonl\n\n% check events.map(e, e.data.kg) == [12.25, 12.5] && events[0].event == null\n\n\
         %% sequence\nGET /scale/readings?count=2&format=seq\n\n% check size(events) == 2\n",
    );
    let run = workspace.run(&["send", "three"]).exits(0);
    assert_eq!(
        events(&run.stdout),
        [
            "reading  id 1  {\"tray\":\"T-1\",\"kg\":12.25,\"number\":1}",
            "reading  id 2  {\"tray\":\"T-2\",\"kg\":12.5,\"number\":2}",
            "reading  id 3  {\"tray\":\"T-3\",\"kg\":12.75,\"number\":3}",
        ]
    );
    assert!(run.stderr.contains("text/event-stream\n3 events: `% take` has them all"), "{}", run.stderr);
    let run = workspace.run(&["send", "heavy"]).exits(0);
    assert!(
        run.stderr.contains("5 events: `% until` became true") && run.stderr.contains("2 checks passed"),
        "{}",
        run.stderr
    );
    workspace.run(&["replay"]).exits(0);

    // As data: an event a line, then the response.
    let run = workspace.run(&["send", "three", "--json"]).exits(0);
    let lines: Vec<Value> = run.stdout.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    assert_eq!(lines.len(), 4);
    assert_eq!(lines[1]["data"], json!({ "tray": "T-2", "kg": 12.5, "number": 2 }));
    assert_eq!(
        (&lines[1]["event"], &lines[1]["name"], &lines[1]["id"]),
        (&json!("stream-event"), &json!("reading"), &json!("2"))
    );
    let stream = &lines[3]["response"]["parts"]["stream"];
    assert_eq!((&stream["events"], &stream["end"]), (&json!(3), &json!("take")));
    assert!(lines[3]["response"]["body"].as_str().expect("text").ends_with("\"number\":3}\n\n"), "{}", lines[3]);
    // With `--pick` there is nothing but the value.
    assert_eq!(workspace.run(&["send", "three", "--pick", "size(events)"]).exits(0).stdout, "3\n");

    // The log has the stream, with the times of its events, and judges it again.
    let run = workspace.run(&["replay", "--from-log"]).exits(0);
    assert!(run.stdout.contains("5 requests"), "{}", run.stdout);
    workspace.run(&["replay", "--report", "html=r.html", "--report", "json=r.json"]).exits(0);
    let report = std::fs::read_to_string(workspace.path().join("r.html")).expect("a report");
    assert!(report.contains("text/event-stream"));
}

#[test]
fn a_stream_that_ends_too_early_fails_and_one_that_never_ends_is_cut() {
    let workspace = workspace(
        "%% few\nGET /scale/readings?count=2\n\n% take 3 events\n\n\
         %% never\nGET /scale/readings?count=2\n\n% until event.data.kg > 99.0\n\n\
         %% endless\n% timeout 150ms\nGET /scale/readings?count=0\n\n% check size(events) > 2\n\n\
         %% none\nGET /health\n\n% take 1 event\n",
    );
    let run = workspace.run(&["replay"]).exits(1);
    for message in [
        "2 of 3 events arrived: the server ended the stream",
        "event.data.kg  is  12.5",
        "the response is no stream of events",
        "4 requests · 4 checks · 3 failed",
    ] {
        assert!(run.stdout.contains(message), "{message}: {}", run.stdout);
    }
    let run = workspace.run(&["send", "endless"]).exits(0);
    assert!(run.stderr.contains("the time limit ended the stream"), "{}", run.stderr);
    for (line, message) in [
        ("% take many events", "expected a number from 1 to 1000000 and `events`"),
        ("% take 3", "and `events`"),
        ("% reconnect often", "expected a number from 1 to 1000 and `times`"),
        ("% until event.data.kg +", "the expression ends too early"),
        ("% until 3", "a condition must be true or false"),
    ] {
        let run =
            TestWorkspace::new().file("a.http", &format!("%% a\nGET /health\n\n{line}\n")).run(&["send", "a"]).exits(2);
        assert!(run.stderr.contains(message), "{line}: {}", run.stderr);
    }
}

#[test]
fn a_stream_goes_to_a_file_as_far_as_it_counts() {
    let workspace = workspace(
        "%% three\nGET /scale/readings?count=0&every=1&batch=5\n\n% take 3 events\n\n\
         %% again\n% reconnect 2 times\nGET /scale/readings?count=4&cut=2&every=1\n\n% save again.txt\n\
         %% lines\nGET /scale/readings?count=4&format=jsonl\n\n% take 2 events\n% save lines.jsonl\n\
         %% document\nGET /scale/readings?count=4&format=jsonl\n\n% save document.jsonl\n",
    );
    let read = |name: &str| std::fs::read_to_string(workspace.path().join(name)).expect("it is there");
    let numbers = |text: &str| text.matches("\"number\":").count();
    let run = workspace.run(&["send", "three", "--out", "three.txt"]).exits(0);
    assert!(run.stderr.contains("3 events: `% take` has them all"), "{}", run.stderr);
    assert!(read("three.txt").starts_with(": scale 3\n") && read("three.txt").ends_with("\"number\":3}\n\n"));
    // On standard output there is nothing but the stream.
    let run = workspace.run(&["send", "three", "--out", "-"]).exits(0);
    assert_eq!(run.stdout, read("three.txt"));
    workspace.run(&["replay"]).exits(0);
    assert_eq!(
        [
            numbers(&read("saved/again.txt")),
            numbers(&read("saved/lines.jsonl")),
            numbers(&read("saved/document.jsonl"))
        ],
        [4, 2, 4]
    );
}

#[test]
fn a_stream_goes_on_after_its_last_event() {
    let cells = "%% a\n% reconnect 5 times\nGET /scale/readings?count=7&cut=3\n\n% check events.map(e, e.data.number) == [1, 2, 3, 4, 5, 6, 7]\n";
    let run = workspace(cells).run(&["send", "a"]).exits(0);
    assert!(run.stderr.contains("7 events, reconnected 2 times: the server ended the stream"), "{}", run.stderr);
    let once = cells.replace("5 times", "1 time");
    let run = workspace(&once).run(&["send", "a"]).exits(1);
    assert!(run.stderr.contains("6 events, reconnected 1 time"), "{}", run.stderr);

    // A connection that breaks in the middle of an event: without `% reconnect` that is an error, after what was printed.
    let broken = raw_server(
        b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nContent-Length: 90\r\n\r\nid: 1\ndata: one\n\ndata: tw",
        false,
    );
    let run = TestWorkspace::new().run(&["send", &broken]).exits(3);
    assert_eq!(events(&run.stdout), ["id 1  one"]);
    assert!(run.stderr.contains("closed"), "{}", run.stderr);
}

#[test]
fn an_endless_event_and_a_bomb_are_refused_and_nothing_is_held() {
    let endless = server(|_| {
        let head = "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\ndata: ";
        (Duration::ZERO, [head.as_bytes(), &vec![b'x'; 17 << 20]].concat())
    });
    let run = TestWorkspace::new().run(&["send", &endless]).exits(3);
    assert!(run.stderr.contains("is longer than 16 MiB"), "{}", run.stderr);
}

#[test]
fn more_events_than_expressions_can_read_are_printed_and_said() {
    let head = "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n";
    let many = raw_server((head.to_owned() + &"data: 1\n\n".repeat(210_000)).into_bytes().leak(), false);
    let cells = format!(
        "%% all\nGET {many}\n\n% check size(events) > 0\n\n%% listed\nGET {many}\n\n% until size(events) < 0\n"
    );
    let workspace = TestWorkspace::new().file("a.http", &cells);
    let run = workspace.run(&["send", "all"]).exits(1);
    assert_eq!(events(&run.stdout).len(), 210_000);
    assert!(run.stderr.contains("there were 210000 events, more than the 100000 that are kept"), "{}", run.stderr);
    let run = workspace.run(&["send", "listed"]).exits(1);
    assert!(run.stderr.contains("10000 events: a condition on `events` cannot read more"), "{}", run.stderr);
}

#[test]
fn ctrl_c_keeps_what_arrived() {
    let workspace = workspace(
        "%% a\nGET /scale/readings?count=0&every=5\n\n% check size(events) > 1\n% yield last = event.data.number\n",
    );
    let mut terminal = Terminal::start(&workspace, &["send", "a"], 120, &[]);
    terminal.wait_for("\"number\":3").type_in("\u{3}");
    let (code, text) = terminal.end();
    assert!(code == 130 && text.contains("interrupted") && text.contains("1 check passed"), "{code}: {text}");
    let logged = workspace.run(&["log", "show", "1", "--show", "body"]).exits(0);
    assert!(logged.stdout.contains("\"number\":3"), "{}", logged.stdout);
}

#[test]
fn a_subscription_of_graphql_is_a_stream() {
    let workspace = workspace(
        "%% readings\nPOST /graphql\n% graphql\n% variable count = 2\n\nsubscription Watch($count: Int!) { readings(count: $count) { number weight: kg } }\n\n\
         % check size(events) == 3 && events[2].event == 'complete'\n% check data.readings == {'number': 2, 'weight': 12.5}\n% yield weights = events.filter(e, e.event == 'next').map(e, e.data.data.readings.weight)\n",
    );
    let run = workspace.run(&["send", "readings"]).exits(0);
    assert!(run.stderr.contains("weights = [12.25,12.5]"), "{}", run.stderr);
    assert_eq!(events(&run.stdout)[0], "next  {\"data\":{\"readings\":{\"number\":1,\"weight\":12.25}}}");
}

#[test]
fn pages_are_followed_and_combined() {
    let workspace = workspace(
        "%% link\n% follow next\nGET /readings\nX-Desk: 3\n\n% check pages.map(p, size(p.readings)) == [5, 5, 2]\n% check body.readings[0].number == 11\n% yield all = pages.map(p, p.readings).flatten().map(r, r.number)\n\n\
         %% member\n% follow next body.next for 2 pages\nGET /readings?size=4\n\n% check pages.map(p, p.readings).flatten().map(r, r.number) == [1, 2, 3, 4, 5, 6, 7, 8]\n\n\
         %% single\n% follow next for 1 page\nGET /readings\n\n% check size(pages) == 1\n\n\
         %% round\n% follow next\nGET /readings?size=12&round=true\n\n\
         %% number\n% follow next size(body.readings)\nGET /readings\n",
    );
    let run = workspace.run(&["send", "link"]).exits(0);
    assert!(run.stderr.contains("/readings → 200, next page http://127.0.0.1:"), "{}", run.stderr);
    assert!(run.stderr.contains("all = [1,2,3,4,5,6,7,8,9,10,11,12]"), "{}", run.stderr);
    workspace.run(&["send", "member"]).exits(0);
    workspace.run(&["send", "single"]).exits(0);
    let run = workspace.run(&["send", "round"]).exits(3);
    assert!(run.stderr.contains("it leads back to http://127.0.0.1:"), "{}", run.stderr);
    let run = workspace.run(&["send", "number"]).exits(3);
    assert!(run.stderr.contains("the next page must be a URL or null"), "{}", run.stderr);
    let run = workspace.run(&["replay", "a.http#link", "--from-log"]).exits(0);
    assert!(run.stdout.contains("1 request"), "{}", run.stdout);

    // A link to another server takes no credentials along.
    let elsewhere = server(|head| {
        (Duration::ZERO, crate::support::answer("application/json", &serde_json::Value::from(head).to_string()))
    });
    let link = server({
        let elsewhere = elsewhere.clone();
        move |_| {
            let head = format!(
                "HTTP/1.1 200 OK\r\nLink: <{elsewhere}/x>; rel=\"prev\", <{elsewhere}/next>; title=\"a, b\"; rel=\"last next\"\r\nContent-Length: 2\r\n\r\n{{}}"
            );
            (Duration::ZERO, head.into_bytes())
        }
    });
    let cell = format!(
        "GET {link}\nAuthorization: Bearer windfall\nX-Desk: 3\n% follow next\n\n% check body.contains('GET /next') && !body.contains('windfall') && !body.lowerAscii().contains('x-desk')\n"
    );
    TestWorkspace::new().file("a.http", &cell).run(&["send", "a.http"]).exits(0);
}
