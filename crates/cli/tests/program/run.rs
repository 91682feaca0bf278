//! Runs in progress: in parallel, watched, interrupted, with a server that dies.

use crate::support::terminal::{Terminal, in_terminal};
use crate::support::{TestWorkspace, answer, server};
use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::process::{Child, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use std::time::{Duration, Instant};

const PATIENCE: Duration = Duration::from_secs(30);

const GATE: &str = "%% Sign in
POST /session

{ \"email\": \"clerk@packhouse.example\", \"password\": \"windfall-local\" }

% yield token = body.token secret
% check 'packhouse_session' in cookies
";

/// Each file books a lot in by the token of the gate, reads it back and takes it away.
fn desk(bins: usize) -> String {
    format!(
        "%% Book\n% needs ../gate.http#sign-in\nPOST /lots\nAuthorization: Bearer {{{{token}}}}\n\n\
         {{ \"grower\": \"G-11\", \"bins\": {bins}, \"ref\": \"{{{{uuid()}}}}\" }}\n\n% yield lot_id = body.id\n% check status == 201\n\n\
         %% Read\n% needs book\nGET /lots/{{{{lot_id}}}}\n\n% check body.bins == {bins}\n\n\
         %% Wrong\n% needs book\nGET /lots/{{{{lot_id}}}}\n\n% check body.bins == 99\n\n\
         %% Take away\n% afterwards\n% needs book, ../gate.http#sign-in\nDELETE /lots/{{{{lot_id}}}}\nAuthorization: Bearer {{{{token}}}}\n"
    )
}

fn desks() -> TestWorkspace {
    let all = (1..=12).map(|bins| (format!("desks/{bins:02}.http"), desk(bins)));
    all.fold(TestWorkspace::new().file("gate.http", GATE), |workspace, (name, text)| workspace.file(&name, &text))
}

/// The events of a replay, without what differs from run to run: times, ports, numbers of lots.
fn events(workspace: &TestWorkspace, args: &[&str]) -> Vec<Value> {
    let run = workspace.run(&[&["replay", "--json", "--seed", "4616"], args].concat());
    let lot = regex::Regex::new(r"L-\d+").expect("a pattern");
    let line = |line: &str| {
        let mut event: Value = serde_json::from_str(&lot.replace_all(line, "L")).expect("JSON");
        event.as_object_mut().expect("an object").remove("elapsed_ms");
        event
    };
    workspace.redacted(&run.stdout).lines().map(line).collect()
}

#[test]
fn side_by_side_and_in_shares_the_same_is_told() {
    let one = events(&desks(), &[]);
    assert_eq!(one.len(), 1 + 12 * 4 + 1 + 1);
    let last = one.last().expect("an end");
    assert_eq!((&last["failed_checks"], &last["exit_code"]), (&Value::from(12), &Value::from(1)));
    assert_eq!(events(&desks(), &["--jobs", "8"]), one);

    // Each file is in one shard, with its dependencies: they may be in several, with the same result.
    let workspace = desks();
    let mut record: Vec<String> = Vec::new();
    for shard in ["1/3", "2/3", "3/3"] {
        let events = events(&workspace, &["--shard", shard, "--jobs", "3"]);
        assert!(events.len() < one.len(), "a shard is less than all");
        record.extend(events.iter().filter(|event| event["event"] == "cell").map(Value::to_string));
    }
    let mut whole: Vec<String> = one.iter().filter(|event| event["event"] == "cell").map(Value::to_string).collect();
    whole.sort();
    record.sort();
    record.dedup();
    assert_eq!(record, whole);
}

/// A slow check changes neither the times nor the limits of other requests.
#[test]
fn time_is_that_of_the_exchange_however_long_checks_take() {
    let base = server(|head| {
        let slow = head.starts_with("GET /slow");
        (Duration::from_millis(if slow { 300 } else { 0 }), answer("application/json", "{\"ok\": true}"))
    });
    // About half a second of arithmetic.
    let work = "% check [1,2,3,4,5,6,7,8,9,10].all(a, [1,2,3,4,5,6,7,8,9,10].all(b, [1,2,3,4,5,6,7,8,9,10].all(c, \
                [1,2,3,4,5,6,7,8,9,10].all(d, [1,2,3,4,5,6,7,8,9,10].all(e, a + b + c + d + e > 0)))))\n";
    let cells = format!(
        "% timeout 2s\n\n%% first\nGET {base}/a\n\n{work}{work}\n%% second\nGET {base}/b\n\n{work}{work}\n\
         % check elapsed < duration('250ms')\n\n%% third\nGET {base}/slow\n\n\
         % check elapsed >= duration('300ms') && elapsed < duration('600ms')\n"
    );
    let workspace = ["a.http", "b.http", "c.http"]
        .iter()
        .fold(TestWorkspace::empty(), |workspace, file| workspace.file(file, &cells));
    for jobs in ["1", "3"] {
        let run = workspace.run(&["replay", "--jobs", jobs, "--no-log"]).exits(0);
        assert!(run.stdout.contains("9 requests · 18 checks · all passed"), "{}", run.stdout);
    }
}

/// `% wait` limits the time of a server that never responds.
#[test]
fn an_attempt_takes_what_is_left_of_the_time() {
    let base = server(|_| (Duration::from_secs(60), Vec::new()));
    let cell = format!("%% graded\nGET {base}/\n\n% wait until status == 200 every 100ms for 1s\n");
    let began = Instant::now();
    let run = TestWorkspace::empty().file("a.http", &cell).run(&["replay"]).exits(3);
    assert!(began.elapsed() < Duration::from_secs(20), "the usual limit is 30 s");
    assert!(run.stdout.contains("timed out after 1 s waiting for"), "{}", run.stdout);
    assert!(run.stdout.contains("the rest of `for …` in `% wait`"), "{}", run.stdout);
}

/// A JSON report without the parts that differ from run to run.
fn reported(workspace: &TestWorkspace, file: &str) -> (Value, Vec<String>) {
    let text = std::fs::read_to_string(workspace.path().join(file)).expect("a report");
    let lot = regex::Regex::new(r"L-\d+").expect("a pattern");
    let report: Value = serde_json::from_str(&lot.replace_all(&text, "L")).expect("JSON");
    let entry = |entry: &Value| {
        let of = |key: &str| entry[key].to_string();
        ["file", "played_by", "name", "round", "row", "outcome", "checks", "attempts"].map(of).join(" ")
    };
    let entries = report["entries"].as_array().expect("a list").iter().map(entry).collect();
    (report["run"]["totals"].clone(), entries)
}

#[test]
fn shards_are_complete_and_their_reports_make_the_whole_one() {
    // Sequences that play cells of other files, values and cookies of earlier cells, rows, a file nobody needs.
    let workspace = desks()
        .file("morning.http", "%% all\n% play tools.http#weigh with kg = 12 times 2\n% play tools.http#weigh with kg = 13\n")
        .file("tools.http", "%% start\nGET /health\n\n% yield state = body.status\n\n%% weigh\n% needs start\nGET /echo?kg={{kg}}&s={{state}}\n\n% check status < 500\n")
        .file("rows.http", "%% one\n% each row in \"rows.csv\"\nGET /echo?lot={{row.lot}}\n\n% check status < 500\n\n%% two\nGET /health\n")
        .file("rows.csv", "lot\n1\n2\n3\n")
        .file("z-use.http", "%% use\n% needs tools.http#start\nGET /echo?s={{state}}\n\n% check status < 500\n");
    workspace.run(&["replay", "--report", "json=whole.json"]).exits(1);
    let whole = reported(&workspace, "whole.json");
    for (shards, jobs) in [(2, "1"), (5, "4"), (40, "2")] {
        let mut merge = vec!["report".to_owned(), "merge".to_owned()];
        let mut empty = 0;
        for own in 1..=shards {
            let file = format!("{own}.json");
            let (shard, report) = (format!("{own}/{shards}"), format!("json={file}"));
            let run = workspace.run(&["replay", "--shard", &shard, "--jobs", jobs, "--report", &report]);
            assert!(run.code <= 1, "{shard}: {}", run.both());
            empty += usize::from(run.stdout.lines().any(|line| line.starts_with("0 requests")));
            merge.push(file);
        }
        assert!(shards < 40 || empty > 0, "of very many shards some are empty");
        merge.extend(["--report".to_owned(), "json=merged.json".to_owned()]);
        workspace.run(&merge.iter().map(String::as_str).collect::<Vec<_>>()).exits(1);
        assert_eq!(reported(&workspace, "merged.json"), whole, "{shards} shards");
    }
    workspace.run(&["report", "merge", "whole.json", "--report", "json=again.json"]).exits(1);
    let text = |file: &str| std::fs::read_to_string(workspace.path().join(file)).expect("a report");
    assert_eq!(text("again.json"), text("whole.json"), "one report is joined to itself");
}

/// A file or directory that cannot be read is reported, and the others are run.
#[cfg(unix)]
#[test]
fn a_bad_neighbour_stops_nothing() {
    use std::os::unix::fs::PermissionsExt;
    let good = "%% open\nGET /health\n\n% check status == 200\n";
    let workspace =
        TestWorkspace::new().file("good.http", good).file("half.http", "% chekc status == 200\n").file("data/x", "");
    std::fs::create_dir(workspace.path().join("odd")).expect("a folder");
    std::fs::write(workspace.path().join("odd/bytes.http"), b"GET /\xff\n").expect("a file");
    let data = workspace.path().join("data");
    std::fs::set_permissions(&data, std::fs::Permissions::from_mode(0o000)).expect("rights");
    // Root can read every directory.
    let everything = std::fs::read_dir(&data).is_ok();
    let record = |run: &crate::support::Run| {
        let both = run.both();
        assert!(both.contains("bytes.http"), "{both}");
        assert!(everything || both.contains("`data` cannot be looked through"), "{both}");
    };
    for args in [&["list"][..], &["values"], &["lint"], &["tidy", "--check"], &["replay"]] {
        record(&workspace.run(args).exits(2));
    }
    assert!(workspace.run(&["replay"]).stdout.contains("1 request · 1 check · all passed"));
    let lint = workspace.run(&["lint"]).exits(2);
    assert!(lint.stdout.contains("half.http:1:3") && lint.stdout.contains("2 files"), "{}", lint.stdout);
    // Also where nothing else is in the folder that is named.
    assert!(workspace.run(&["lint", "odd"]).exits(2).stdout.contains("`odd/bytes.http`"));
    let lint = workspace.run(&["lint", "half.http"]).exits(2);
    assert!(lint.stdout.contains("1 file · 0 requests · ") && lint.stdout.contains("half.http:1:3"), "{}", lint.stdout);
    workspace.run(&["send", "open"]).exits(0);
    std::fs::set_permissions(&data, std::fs::Permissions::from_mode(0o700)).expect("rights");
}

/// A closed terminal ends a run as Ctrl-C does: what must be done afterwards is.
#[cfg(unix)]
#[test]
fn a_run_whose_terminal_is_closed_ends_in_good_order() {
    let (requested, requests) = std::sync::mpsc::channel();
    let base = server(move |head| {
        let slow = head.starts_with("GET /slow");
        if slow {
            let _ = requested.send(());
        }
        (Duration::from_secs(if slow { 60 } else { 0 }), answer("application/json", "{}"))
    });
    let workspace = TestWorkspace::empty()
        .file("a.http", &format!("%% slow\nGET {base}/slow\n\n%% clean\n% afterwards\nDELETE {base}/lots\n"));
    let mut command = workspace.command();
    command.args(["replay", "--report", "json=r.json"]).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = command.spawn().expect("it starts");
    requests.recv_timeout(Duration::from_secs(60)).expect("the request is sent");
    let hung_up = std::process::Command::new("kill").args(["-HUP", &child.id().to_string()]).status();
    assert!(hung_up.expect("kill runs").success());
    let mut out = String::new();
    child.stdout.take().expect("a pipe").read_to_string(&mut out).expect("text");
    assert_eq!(child.wait().expect("it ends").code(), Some(130));
    assert!(out.contains("clean") && out.contains("DELETE"), "{out}");
    assert!(workspace.path().join("r.json").exists(), "the report is whole");
}

#[test]
fn a_file_has_its_own_cookies_and_those_it_needs() {
    // The session's cookie is enough to book a lot in; whoever does not need the gate has none.
    let book = "POST /lots\n\n{ \"grower\": \"G-11\", \"bins\": 3 }\n";
    let workspace = TestWorkspace::new()
        .file("a-gate.http", GATE)
        .file("needing.http", &format!("%% Book\n% needs a-gate.http#sign-in\n{book}\n% check status == 201\n"))
        .file("other.http", &format!("%% Book\n{book}\n% check status == 401\n"));
    for jobs in ["1", "4"] {
        let run = workspace.run(&["replay", "--jobs", jobs]).exits(0);
        assert!(run.stdout.contains("3 requests · 3 checks · all passed"), "{}", run.stdout);
    }
}

/// A server that responds to `answers` requests and then closes all connections.
fn dying(answers: usize) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    thread::spawn(move || {
        let mut left = answers;
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            let mut request = [0; 4096];
            while left > 0 && matches!(stream.read(&mut request), Ok(1..)) {
                left -= 1;
                let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\n{}");
            }
            if left == 0 {
                return;
            }
        }
    });
    format!("http://{address}")
}

#[test]
fn a_server_that_dies_fails_what_is_left_and_no_more() {
    let cells: String =
        (1..=6).map(|n| format!("%% Read {n}\nGET {{{{base}}}}/{n}\n\n% check status == 200\n\n")).collect();
    let workspace = TestWorkspace::empty().file("a.http", &cells);
    for jobs in ["1", "3"] {
        let run = workspace.run(&["replay", "--jobs", jobs, "--set", &format!("base={}", dying(3))]).exits(3);
        assert!(run.stdout.contains("6 requests · 3 checks · 3 without a response"), "{}", run.stdout);
    }
}

/// A run whose lines can be waited for.
struct Going {
    child: Child,
    lines: Receiver<String>,
    seen: String,
}

fn start(workspace: &TestWorkspace, args: &[&str]) -> Going {
    // One pipe for both streams: so their lines come in the order they are written.
    let (reader, writer) = std::io::pipe().expect("a pipe");
    let mut command = workspace.command();
    command.args(args).stdin(Stdio::null()).stdout(writer.try_clone().expect("a pipe")).stderr(writer);
    let child = command.spawn().expect("it starts");
    let (sender, lines) = channel();
    thread::spawn(move || BufReader::new(reader).lines().map_while(Result::ok).try_for_each(|line| sender.send(line)));
    Going { child, lines, seen: String::new() }
}

fn signal(child: &Child, name: &str) {
    let kill = format!("kill -{name} {}", child.id());
    assert!(std::process::Command::new("sh").args(["-c", &kill]).status().expect("a shell").success());
}

impl Going {
    #[track_caller]
    fn wait_for(&mut self, text: &str) {
        let until = Instant::now() + PATIENCE;
        loop {
            match self.lines.recv_timeout(until.saturating_duration_since(Instant::now())) {
                Ok(line) => {
                    self.seen += &format!("{line}\n");
                    if line.contains(text) {
                        return;
                    }
                }
                Err(_) => panic!("`{text}` was not said, but:\n{}", self.seen),
            }
        }
    }

    fn interrupt(&self) {
        signal(&self.child, "INT");
    }

    fn end(mut self) -> (Option<i32>, String) {
        let code = self.child.wait().expect("it ends").code();
        while let Ok(line) = self.lines.recv_timeout(Duration::from_millis(300)) {
            self.seen += &format!("{line}\n");
        }
        (code, self.seen)
    }
}

#[cfg(unix)]
#[test]
fn an_interrupted_run_cleans_up_and_says_what_ran() {
    let (arrived, requests) = channel();
    let scale = server(move |_| {
        let _ = arrived.send(());
        (Duration::from_secs(20), answer("text/plain", "24"))
    });
    let file = [
        "%% Book\nPOST /lots\nX-Api-Key: {{key}}\n\n{ \"grower\": \"G-11\", \"bins\": 3 }\n\n% yield lot_id = body.id\n\n",
        &format!("%% Slow\nGET {scale}/reading\n\n%% Never\nGET /health\n\n"),
        "%% Take away\n% afterwards\nDELETE /lots/{{lot_id}}\nX-Api-Key: {{key}}\n\n% check status == 204\n",
    ];
    let workspace = TestWorkspace::new().file("a.http", &file.concat());
    let mut going = start(&workspace, &["replay", "--json"]);
    going.wait_for("\"name\":\"book\"");
    requests.recv_timeout(Duration::from_secs(60)).expect("the slow request arrives");
    let began = Instant::now();
    going.interrupt();
    let (code, said) = going.end();
    assert_eq!(code, Some(130), "{said}");
    assert!(began.elapsed() < Duration::from_secs(10), "nobody waits for the slow one");
    let events: Vec<Value> = said.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    let record: Vec<_> =
        events.iter().filter_map(|event| Some((event["name"].as_str()?, event["outcome"].as_str()?))).collect();
    assert_eq!(record, [("book", "passed"), ("slow", "no-response"), ("take-away", "passed")], "{said}");
    assert_eq!(events[2]["failure"]["kind"], "interrupted");
    let last = events.last().expect("an end");
    assert_eq!(
        (&last["interrupted"], &last["not_reached"], &last["exit_code"]),
        (&true.into(), &1.into(), &130.into())
    );
}

#[cfg(unix)]
#[test]
fn a_signal_ends_what_is_no_run_at_once() {
    use std::os::unix::process::ExitStatusExt;

    // The response has arrived, but the pipe is full and not read.
    let workspace = TestWorkspace::new();
    let mut command = workspace.command();
    command.args(["send", "--text", "{{base}}/export.csv?bytes=4000000"]).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = command.spawn().expect("it starts");
    let mut first = [0; 1];
    child.stdout.as_mut().expect("a pipe").read_exact(&mut first).expect("the answer begins");
    signal(&child, "INT");
    assert_eq!(child.wait().expect("it ends").signal(), Some(2));
    // `demo --serve` ends with success when it is interrupted.
    let mut serving = start(&workspace, &["demo", "--serve"]);
    serving.wait_for("until you press Ctrl-C");
    signal(&serving.child, "TERM");
    assert_eq!(serving.end().0, Some(0));
}

#[cfg(unix)]
#[test]
fn a_watched_workspace_runs_again_what_a_change_touches() {
    let workspace = TestWorkspace::new()
        .file("lots.http", "%% Lots\nGET /lots\n% query per_page = 1\n")
        .file("growers.http", "%% Growers\nGET /growers\n")
        .file("booking.http", "%% Book\n% needs lots.http#lots\n% body from new.json\nPOST /lots\nX-Api-Key: {{key}}\n")
        .file("new.json", "{ \"grower\": \"G-11\", \"bins\": 3 }");
    let write = |name: &str, text: &str| std::fs::write(workspace.path().join(name), text).expect("a file");
    let mut going = start(&workspace, &["replay", "--watch"]);
    going.wait_for("waiting for changes");
    write("growers.http", "%% Growers\nGET /growers\n\n% check body.size() > 0\n");
    going.wait_for("`growers.http` changed");
    going.wait_for("1 request · 1 check");
    going.wait_for("waiting for changes");
    write("new.json", "{ \"grower\": \"G-12\", \"bins\": 4 }");
    going.wait_for("`new.json` changed");
    going.wait_for("2 requests · no checks");
    going.wait_for("waiting for changes");
    // An error does not end it, and no request is sent for unused values.
    write("notes.txt", "nobody reads this");
    write("lots.http", "%% Lots\n% chekc true\nGET /lots\n");
    going.wait_for("unknown instruction `% chekc`");
    going.wait_for("waiting for changes");
    going.interrupt();
    let (code, said) = going.end();
    assert_eq!(code, Some(130), "{said}");
    assert!(!said.contains("notes.txt` changed") || said.contains("lots.http"), "{said}");
    assert_eq!(said.matches("growers.http\n").count(), 2, "{said}");
}

#[test]
fn a_terminal_shows_how_far_a_run_is() {
    let workspace =
        TestWorkspace::new().file("a.http", "%% Quick\nGET /health\n\n%% Slow\nGET /scale/reading?ms=900\n");
    let mut terminal = Terminal::start(&workspace, &["replay", "-v"], 60, &[("NO_COLOR", "1")]);
    terminal.wait_for("1 of 2 done · 0 failed · 1 left · 1 request, ");
    let (code, shown) = terminal.end();
    assert_eq!(code, 0, "{shown}");
    // The line is taken away before anything else is written, and does not stay.
    let last = shown.rsplit("\r\u{1b}[2K").next().expect("a last piece");
    assert!(!last.contains(" done · "), "{shown}");
    assert!(last.contains("slowest\n") && last.contains("a.http:4  slow\n"), "{shown}");
    assert!(last.trim_end().lines().last().is_some_and(|line| line.starts_with("2 requests · ")), "{shown}");
    let piped = workspace.run(&["replay"]).exits(0);
    assert!(!piped.stdout.contains('\u{1b}') && !piped.stdout.contains(" done · "), "{}", piped.stdout);
}

#[test]
fn long_values_that_differ_are_shown_line_by_line() {
    let workspace = TestWorkspace::new().file(
        "a.http",
        "GET /lots/L-2039\n\n% check body == {\"id\": \"L-2039\", \"grower\": \"G-12\", \"variety\": \"braeburn\", \"bins\": 19, \"state\": \"open\", \"ref\": null}\n",
    );
    let run = workspace.run(&["replay", "a.http"]).exits(1);
    let lines: Vec<&str> = run.stdout.lines().map(str::trim).collect();
    let at = lines.iter().position(|line| *line == "<   \"bins\": 18").unwrap_or_else(|| panic!("{}", run.stdout));
    assert_eq!(lines[at + 1], ">   \"bins\": 19");
    assert!(!run.stdout.contains("body  is"), "{}", run.stdout);
    let failure = &events(&workspace, &["a.http"])[1]["failures"][0];
    assert_eq!(failure["difference"]["left"], "body");
    assert!(
        failure["difference"]["lines"]
            .as_array()
            .expect("lines")
            .contains(&serde_json::json!(["left", "  \"bins\": 18"]))
    );
}

#[test]
fn a_played_cell_keeps_its_own_name_where_it_is_narrow() {
    let cells = "%% The long round of a morning\n% play weigh-it\n% play a-cell-with-a-long-name\n\n%% Weigh it\nGET /health\n\n\
        %% A cell with a long name\n% each row in \"rows.csv\"\nGET /health\n";
    let workspace = TestWorkspace::new().file("a.http", cells).file("rows.csv", "lot\nL-1\nL-2\n");
    let shown = |columns| {
        let shown = in_terminal(&workspace, &["replay"], columns, &[("NO_COLOR", "1")]);
        let lines: Vec<String> = shown.lines().filter(|line| line.contains('›')).map(str::to_owned).collect();
        assert_eq!(lines.len(), 3, "{shown}");
        assert!(lines.iter().all(|line| line.chars().count() <= usize::from(columns)), "{shown}");
        lines
    };
    let wide = shown(160);
    assert!(wide[0].starts_with("  the-long-round-of-a-morning › weigh-it"), "{wide:?}");
    assert!(wide[2].starts_with("  › a-cell-with-a-long-name row 2"), "{wide:?}");
    let narrow = shown(70);
    assert!(narrow[0].starts_with("  › weigh-it "), "{narrow:?}");
    assert!(narrow[1].starts_with("  › a-cell") && narrow[1].contains(" row 1 "), "{narrow:?}");
}

/// Three files that carry a token of one profile each.
fn office(secret: &str) -> TestWorkspace {
    let workspace = TestWorkspace::new();
    let profile = format!(
        "\n[oauth2.desk]\ntoken_url = \"{}/oauth/token\"\ngrant = \"client_credentials\"\nclient_id = \"packhouse-desk\"\nclient_secret = \"{secret}\"\n",
        workspace.base()
    );
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("a file");
    let names = ["a", "b", "c"];
    names.into_iter().fold(workspace.file("yieldtray.toml", &(config + &profile)), |workspace, name| {
        workspace.file(
            &format!("{name}.http"),
            "%% Payroll\n% auth oauth2 desk\nGET /payroll\n\n% yield given = body.tokens_given\n",
        )
    })
}

#[test]
fn side_by_side_a_token_is_got_once() {
    for jobs in ["1", "3"] {
        let run = office("local-key-4616").run(&["replay", "--json", "--jobs", jobs]).exits(0);
        let events: Vec<Value> = run.stdout.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
        assert_eq!(events.iter().filter(|event| event["event"] == "token").count(), 1, "{}", run.stdout);
        assert_eq!(events[1]["event"], "token", "it is told before the first cell that carries it");
        let given: Vec<_> = events.iter().filter_map(|event| event["yields"][0]["value"].as_str()).collect();
        assert_eq!(given, ["1", "1", "1"]);
    }
    // Where none is given, nobody asks again, and each cell says why it was not sent.
    for jobs in ["1", "3"] {
        let run = office("wrong-key").run(&["replay", "--jobs", jobs]).exits(3);
        assert_eq!(run.stdout.matches("invalid_client").count(), 3, "{}", run.stdout);
        assert!(run.stdout.contains("0 requests · no checks · 3 without a response"), "{}", run.stdout);
        assert!(!run.both().contains("wrong-key"), "{}", run.both());
    }
}

#[test]
fn a_failure_ends_a_run_side_by_side_too() {
    let cells = "%% Fails\nGET /health\n\n% check false\n\n%% Late\nGET /health\n";
    let slow = "%% Slow\nGET /scale/reading?ms=300\n\n%% Late\nGET /health\n\n%% Undo\n% afterwards\nGET /health\n";
    let workspace = TestWorkspace::new().file("a.http", cells).file("b.http", slow);
    let run = workspace.run(&["replay", "--jobs", "2", "--fail-fast"]).exits(1);
    // Requests in flight are reported; of the rest only the cleanup is sent.
    for (name, sent) in [("fails", true), ("slow", true), ("undo", true), ("late", false)] {
        assert_eq!(run.stdout.contains(&format!("  {name} ")), sent, "{name}: {}", run.stdout);
    }
    assert!(run.stdout.contains("3 requests · 1 check · 1 failed · 2 not reached"), "{}", run.stdout);
}

#[test]
fn many_rounds_side_by_side_each_begin_anew() {
    let workspace = TestWorkspace::new()
        .file("a.http", "%% Growers\nGET /growers\n\n% yield first = body.growers[0].id\n\n%% One\n% needs growers\nGET /growers/{{first}}\n")
        .file("b.http", "%% One\n% needs a.http#growers\nGET /growers/{{first}}\n");
    let run = workspace.run(&["replay", "--json", "--times", "3", "--jobs", "4"]).exits(0);
    let cells: Vec<Value> = run.stdout.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    let rounds: Vec<i64> = cells
        .iter()
        .filter(|event| event["event"] == "cell")
        .map(|event| event["round"].as_i64().unwrap_or(1))
        .collect();
    assert_eq!(rounds, [1, 1, 1, 2, 2, 2, 3, 3, 3], "{}", run.stdout);
}

#[test]
fn options_that_make_no_sense_say_so() {
    let workspace = TestWorkspace::new().file("a.http", "GET /health\n");
    for (args, message) in [
        (&["--jobs", "0"][..], "0 is not in 1..=1000"),
        (&["--jobs", "many"], "invalid digit found in string"),
        (&["--times", "0"], "0 is not in 1..=10000"),
        (&["--shard", "3/2"], "invalid shard `3/2`"),
        (&["--watch", "-"], "cannot watch standard input"),
        (&["--only", "nobody"], "no requests match the selection"),
    ] {
        let run = workspace.run(&[&["replay"], args].concat()).exits(2);
        assert!(run.stderr.contains(message), "{args:?}: {}", run.stderr);
        assert_eq!(run.stdout, "", "{args:?}");
    }
}
