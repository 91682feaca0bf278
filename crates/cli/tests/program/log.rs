//! The log on the built program: exchanges shown, sent again, compared, checked.

use crate::support::terminal::Terminal;
use crate::support::{TestWorkspace, raw_server};
use serde_json::Value;
#[cfg(feature = "other-programs")]
use std::process::Command;

const DESK: &str = "%% Sign in
POST /session

{ \"email\": \"clerk@packhouse.example\", \"password\": \"{{password}}\" }

% yield token = body.token secret
% check status == 200
% check cookies.packhouse_session == token

%% Book in
% needs sign-in
% let bins = random(1, 40)
POST /lots?for={{grower}}
Authorization: Bearer {{token}}

{ \"grower\": \"{{grower}}\", \"bins\": {{bins}} }

% yield lot_id = body.id
% check status == 201
% check body.bins == bins

%% Read
GET /lots/L-2039

% check body.bins == 18

%% Rows
% each row in \"rows.csv\"
GET /lots?grower={{of}}

% check status == 200
";

fn workspace() -> TestWorkspace {
    let workspace = TestWorkspace::new();
    let base = workspace.base();
    let config = format!(
        "[workspace]\nenvironment = 'local'\n[values]\npassword = {{ value = 'windfall-local', secret = true }}\n\
         [environments.local.values]\nbase = '{base}'\ngrower = 'G-11'\n\
         [environments.live.values]\nbase = '{base}'\ngrower = 'G-13'\n"
    );
    workspace.file("yieldtray.toml", &config).file("desk.http", DESK).file("rows.csv", "of\nG-11\nG-12\n")
}

/// The exchanges that `log` lists, the newest first.
#[track_caller]
fn listed(workspace: &TestWorkspace, args: &[&str]) -> Vec<Value> {
    let run = workspace.run(&[&["log", "--json"], args].concat()).exits(0);
    run.json()["exchanges"].as_array().expect("a list").clone()
}

fn names(exchanges: &[Value]) -> Vec<String> {
    let name = |own: &Value| format!("{} {}", own["number"], own["name"].as_str().unwrap_or_default());
    exchanges.iter().map(name).collect()
}

#[test]
fn every_exchange_is_logged_and_found_again() {
    let workspace = workspace().file("dead.http", "%% Scale\nGET http://127.0.0.1:1/scale\n");
    assert!(workspace.run(&["log"]).exits(0).stderr.contains("the log is empty"));
    workspace.run(&["replay", "desk.http"]).exits(0);
    workspace.run(&["send", "scale"]).exits(3);
    workspace.run(&["send", "--text", "GET /lots/L-9999", "-e", "live"]).exits(0);
    workspace.run(&["send", "read", "--no-log"]).exits(0);
    workspace.run(&["replay", "desk.http#read", "--no-log"]).exits(0);

    let all = listed(&workspace, &[]);
    let record = names(&all);
    assert_eq!(record.len(), 7, "{record:?}");
    assert_eq!(record[1..], ["6 scale", "5 rows", "4 rows", "3 read", "2 book-in", "1 sign-in"]);
    let (text, scale, row, book) = (&all[0], &all[1], &all[2], &all[5]);
    assert_eq!((text["environment"].as_str(), text["status"].as_u64()), (Some("live"), Some(404)));
    assert_eq!((scale["outcome"].as_str(), &scale["status"]), (Some("no-response"), &Value::Null));
    assert_eq!((row["row"].as_u64(), row["method"].as_str()), (Some(2), Some("GET")));
    assert_eq!(
        (book["checks"].as_u64(), book["failed"].as_u64(), book["file"].as_str()),
        (Some(2), Some(0), Some("desk.http"))
    );
    assert!(book["at"].as_str().is_some_and(|at| at.ends_with('Z')) && book["elapsed_ms"].as_f64() > Some(0.0));

    let by = |args: &[&str]| names(&listed(&workspace, args));
    assert_eq!(by(&["--status", "4xx"]), record[..1]);
    assert_eq!(by(&["--status", "201"]), ["2 book-in"]);
    assert_eq!(by(&["--failed"]), ["6 scale"]);
    assert_eq!(by(&["--name", "ro*", "--limit", "1"]), ["5 rows"]);
    assert_eq!(by(&["--name", "desk.http#read"]), ["3 read"]);
    assert_eq!(by(&["-e", "live"]), record[..1]);
    assert_eq!(by(&["--grep", "L-2039"]), ["5 rows", "3 read"]);
    assert_eq!(by(&["--grep", "FOR=g-11"]), ["2 book-in"]);
    assert_eq!(by(&["--since", "2020-01-01"]).len(), 7);
    assert_eq!(by(&["--since", "0s"]), [""; 0]);
    // The log's own times are taken, and the exchange of that time is among them.
    let at = listed(&workspace, &["--limit", "1"])[0]["at"].as_str().expect("a time").to_owned();
    assert_eq!(by(&["--since", &at]).len(), 1, "{at}");
    assert_eq!(by(&["--since", &at.replace('Z', "+00:00")]).len(), 1);
    assert!(workspace.run(&["log", "--failed", "--since", "0s"]).exits(0).stderr.contains("no exchange matches"));
    let short = workspace.run(&["log", "--limit", "2"]).exits(0);
    assert!(short.stdout.lines().count() == 2 && short.stderr.contains("more exchanges exist"), "{}", short.both());

    // For a person who looks on, times are ago.
    let mut terminal = Terminal::start(&workspace, &["log", "--name", "sign-in"], 100, &[]);
    terminal.wait_for("just now").wait_for("sign-in").wait_for("2 checks");
    assert_eq!(terminal.end().0, 0);

    let off = workspace.file("yieldtray.local.toml", "[log]\non = false\n");
    off.run(&["send", "read"]).exits(0);
    assert_eq!(listed(&off, &[]).len(), 7);
    let few = off.file("yieldtray.local.toml", "[log]\nexchanges = 3\n");
    few.run(&["send", "read"]).exits(0);
    assert_eq!(names(&listed(&few, &[])), ["8 read", record[0].as_str(), "6 scale"]);
}

#[test]
fn a_past_answer_is_looked_at_with_the_same_eyes() {
    let workspace = workspace();
    let sent =
        workspace.run(&["send", "book-in", "--needs", "send", "--show", "sent,timeline,cookies,head,body"]).exits(0);
    let shown = workspace.run(&["log", "show", "--show", "sent,timeline,cookies,head,body"]).exits(0);
    // The log has times in microseconds: a bar may be a column longer or shorter.
    let without_bars = |text: &str| {
        let line = |line: &str| line.split('━').next().unwrap_or_default().trim_end().to_owned() + "\n";
        workspace.redacted(text).lines().map(line).collect::<String>()
    };
    let (before, after) = (without_bars(&sent.stdout), without_bars(&shown.stdout));
    assert_eq!(before, after);
    assert!(after.contains("authorization: Bearer [secret]"), "{after}");
    assert!(shown.stderr.contains("2  local  ") && shown.stderr.contains("desk.http:10  book-in"), "{}", shown.stderr);
    assert!(shown.stderr.contains("2 checks passed"), "{}", shown.stderr);
    let piped = workspace.run(&["send", "read"]).exits(0);
    assert_eq!(workspace.run(&["log", "show", "3"]).exits(0).bytes, piped.bytes);
    assert_eq!(workspace.run(&["log", "show", "3", "--pick", "body.bins + 1"]).exits(0).stdout, "19\n");
    assert_eq!(workspace.run(&["log", "show", "3", "--pick", "$.id"]).exits(0).stdout, "[\"L-2039\"]\n");
    assert_eq!(workspace.run(&["log", "show", "3", "--pick", "grower"]).exits(0).stdout, "G-11\n");
    let data = workspace.run(&["log", "show", "1", "--json"]).exits(0).json();
    assert_eq!(data["response"]["body"]["token"], "[secret]");
    assert_eq!(data["request"]["body"].as_str().map(|body| body.contains("\"[secret]\"")), Some(true));
    assert_eq!(data["cell"]["yields"][0]["name"], "token");
    let missing = workspace.run(&["log", "show", "77"]).exits(2);
    assert!(missing.stderr.contains("no exchange 77 in the log"), "{}", missing.stderr);

    // A file that was sent is shown: all of it if it is small, else its size and digest.
    workspace.run(&["send", "read", "--output", "lot.json"]).exits(0);
    assert_eq!(
        workspace.run(&["log", "show"]).exits(0).bytes,
        std::fs::read(workspace.path().join("lot.json")).expect("a file")
    );
    workspace.run(&["send", "--text", "GET /export.csv?bytes=2000000", "--output", "large"]).exits(0);
    let digest = blake3::hash(&std::fs::read(workspace.path().join("large")).expect("a file")).to_hex().to_string();
    let data = workspace.run(&["log", "show", "--json"]).exits(0).json();
    assert_eq!(data["response"]["body_blake3"], digest.as_str());
    assert_eq!(data["response"].get("body"), None);
}

#[test]
fn a_past_request_is_sent_again() {
    let workspace = workspace();
    workspace.run(&["send", "book-in", "--needs", "send"]).exits(0);
    workspace.run(&["send", "read"]).exits(0);
    let again = workspace.run(&["log", "resend", "3"]).exits(0);
    assert!(again.stderr.contains("same as 3, "), "{}", again.stderr);

    // As its file makes it now, or as it was: with the secrets of now in either case.
    let changed =
        workspace.file("desk.http", &DESK.replace("GET /lots/L-2039", "GET /lots/L-2038").replace("?for=", "?at="));
    let now = changed.run(&["log", "resend", "3"]).exits(1);
    assert!(now.stderr.contains("body.id") && now.stderr.contains("\"L-2039\" → \"L-2038\""), "{}", now.stderr);
    let then = changed.run(&["log", "resend", "3", "--exactly"]).exits(0);
    assert!(then.stderr.contains("/lots/L-2039  200 OK") && then.stderr.contains("same as 3"), "{}", then.stderr);
    let book =
        changed.run(&["log", "resend", "2", "--exactly", "--show", "sent", "--ignore", "body.id", "--json"]).exits(0);
    let data = book.json();
    assert!(data["request"]["url"].as_str().is_some_and(|url| url.contains("?for=G-11")), "{data}");
    assert_eq!(data["response"]["status"], 201);
    assert_eq!(
        (data["then"]["number"].as_i64(), &data["then"]["differences"][0]["place"]),
        (Some(2), &Value::from("headers.location"))
    );
    // Its logged exchanges have the name of the request again.
    assert_eq!(names(&listed(&changed, &["--limit", "1"])), ["7 book-in"]);

    // A secret that its file does not have any more cannot be found, and is not guessed.
    let gone = changed.file(
        "desk.http",
        &DESK
            .replace("Authorization: Bearer {{token}}", "X-Api-Key: {{key}}")
            .replace("\n% needs sign-in", "")
            .replace("{{key}}", "local-key-4616"),
    );
    let refused = gone.run(&["log", "resend", "2", "--exactly"]).exits(2);
    assert!(refused.stderr.contains("the secret in `authorization` is masked in the log"), "{}", refused.stderr);
    let empty = gone.file("desk.http", "%% Other\n/health\n");
    let refused = empty.run(&["log", "resend", "3"]).exits(2);
    assert!(
        refused.stderr.contains("`desk.http` no longer contains a request named `read`")
            && refused.stderr.contains("`--exactly`"),
        "{}",
        refused.stderr
    );
    assert!(empty.run(&["log", "resend", "3", "--exactly"]).exits(0).stderr.contains("same as 3"));
    empty.run(&["send", "--text", "POST /lots\nX-Note: windfall\n\n{}"]).exits(0);
    let text = listed(&empty, &["--limit", "1"])[0]["number"].to_string();
    let again = empty.run(&["log", "resend", &text, "--show", "sent"]).exits(0);
    assert!(
        again.stdout.starts_with("POST /lots HTTP/1.1") && again.stdout.contains("x-note: windfall"),
        "{}",
        again.stdout
    );
}

#[test]
fn a_request_for_a_row_is_sent_again_for_that_row() {
    let workspace = workspace();
    workspace.run(&["replay", "desk.http#rows"]).exits(0);
    let again = workspace.run(&["log", "resend", "2", "--show", "sent"]).exits(0);
    assert!(again.stdout.starts_with("GET /lots?grower=G-12 "), "{}", again.stdout);
    assert_eq!(listed(&workspace, &["--limit", "1"])[0]["row"].as_u64(), Some(2));

    let fewer = workspace.file("rows.csv", "of\nG-13\n");
    let refused = fewer.run(&["log", "resend", "2"]).exits(2);
    assert!(refused.stderr.contains("`rows.csv` has no row 2: the last is row 1"), "{}", refused.stderr);
    let then = fewer.run(&["log", "resend", "2", "--exactly", "--show", "sent"]).exits(0);
    assert!(then.stdout.starts_with("GET /lots?grower=G-12 "), "{}", then.stdout);
}

#[test]
fn answers_are_compared() {
    let workspace =
        workspace().file("open.http", "%% Open lots\nGET /lots?grower={{grower}}\n\n%% Desk\nGET /lots/{{desk}}\n");
    workspace.run(&["send", "open-lots"]).exits(0);
    workspace.run(&["send", "open-lots"]).exits(0);
    let same = workspace.run(&["log", "compare"]).exits(0);
    assert!(same.stdout.ends_with("no differences\n"), "{}", same.stdout);
    workspace
        .run(&["send", "--text", "POST /lots\nX-Api-Key: local-key-4616\n\n{\"grower\":\"G-11\",\"bins\":9}"])
        .exits(0);
    workspace.run(&["send", "open-lots"]).exits(0);
    let found = workspace.run(&["log", "compare", "--json"]).exits(1).json();
    assert_eq!((found["left"]["number"].as_i64(), found["right"]["number"].as_i64()), (Some(2), Some(4)));
    let added: Vec<&Value> =
        found["differences"].as_array().expect("a list").iter().filter(|one| one["change"] == "added").collect();
    assert_eq!((added.len(), &added[0]["right"]["bins"]), (1, &Value::from(9)), "{found}");
    let text = workspace.run(&["log", "compare", "2", "4"]).exits(1);
    assert!(text.stdout.contains("  body.lots[id=L-") && text.stdout.contains(" + {\"id\":"), "{}", text.stdout);
    let ignored =
        ["log", "compare", "2", "4", "--ignore", "body.lots", "--ignore", "body.total", "--ignore", "headers"];
    workspace.run(&ignored).exits(0);
    workspace.run(&["log", "compare", "2", "4", "--shape"]).exits(0);
    // The response to another request has another structure.
    assert!(workspace.run(&["log", "compare", "3", "4", "--shape"]).exits(1).stdout.contains("body.lots"));

    let both = workspace.run(&["log", "compare", "-e", "local", "-e", "live", "open-lots"]).exits(1);
    assert!(
        both.stdout.contains("local") && both.stdout.contains("live") && both.stdout.contains("body.lots["),
        "{}",
        both.stdout
    );
    assert_eq!(listed(&workspace, &["-e", "live"]).len(), 1, "what was sent for it is logged too");

    for (args, message) in [
        (&["log", "compare", "first"][..], "`first` is not a number"),
        (&["log", "compare", "1"], "the log has no response to `open-lots` before 1"),
        (&["log", "compare", "1", "2", "--ignore", "lots"], "invalid `--ignore lots`"),
        (
            &["log", "compare", "-e", "local", "-e", "live", "1", "2"],
            "comparing two environments requires exactly one request",
        ),
        (&["log", "compare", "-e", "local", "-e", "live", "desk"], "[unknown-variable]"),
        (&["send", "open-lots", "-e", "local", "-e", "live"], "`--env` was given twice"),
    ] {
        let refused = workspace.run(args).exits(2);
        assert!(refused.stderr.contains(message), "{args:?}: {}", refused.stderr);
    }
}

#[test]
fn checks_are_judged_on_the_log_without_a_server() {
    let workspace = workspace();
    workspace.run(&["replay", "desk.http"]).exits(0);
    // The server is gone.
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("a file");
    let bench_alone = config.replace(&workspace.base(), "http://127.0.0.1:1");
    let workspace = workspace.file("yieldtray.toml", &bench_alone);
    workspace.run(&["replay", "desk.http"]).exits(3);
    let well = workspace.run(&["replay", "desk.http", "--from-log"]).exits(0);
    assert!(
        well.stdout.contains("0 requests · 7 checks · all passed"),
        "what was made up then is made up again: {}",
        well.stdout
    );
    assert!(well.stdout.contains("nothing was sent; used 5 responses from the log"), "{}", well.stdout);

    let stricter = DESK.replace("body.bins == 18", "body.bins == 19") + "\n%% New\nGET /growers\n\n% check true\n";
    let workspace = workspace.file("desk.http", &stricter);
    let failed = workspace.run(&["replay", "desk.http", "--from-log"]).exits(1);
    assert!(failed.stdout.contains("body.bins  is  18"), "{}", failed.stdout);
    assert!(failed.stdout.contains("skipped: the log has no response to it"), "{}", failed.stdout);
    let events = workspace.run(&["replay", "desk.http", "--from-log", "--json"]).exits(1).stdout;
    let last: Value = serde_json::from_str(events.lines().last().expect("an event")).expect("JSON");
    assert_eq!((last["event"].as_str(), last["responses"].as_u64()), (Some("from-log"), Some(5)));
    assert!(last["oldest"].as_str() <= last["newest"].as_str());
    // The live environment has no responses.
    let other = workspace.run(&["replay", "desk.http#read", "--from-log", "-e", "live"]).exits(0);
    assert!(other.stdout.contains("used 0 responses from the log"), "{}", other.stdout);
    assert_eq!(listed(&workspace, &["--status", "200"]).len(), 4, "judging logs nothing");
}

#[test]
fn exchanges_are_dropped_and_exported() {
    let workspace = workspace();
    workspace.run(&["replay", "desk.http"]).exits(0);
    let har = workspace.run(&["log", "export", "har", "--status", "2xx"]).exits(0).stdout;
    let har::Har { log: har::Spec::V1_2(log) } = har::from_str(&har).expect("HAR 1.2") else {
        panic!("another version")
    };
    let urls: Vec<&str> = log.entries.iter().map(|entry| entry.request.url.as_str()).collect();
    assert!(urls.len() == 5 && urls[0].ends_with("/session") && urls[4].ends_with("G-12"), "{urls:?}");
    assert!(!har.contains("windfall-local"), "{har}");
    let record = workspace.run(&["log", "export", "har", "3", "--output", "one.har"]).exits(0);
    assert!(record.stderr.contains("1 exchange is in one.har"), "{}", record.stderr);
    assert!(std::fs::read_to_string(workspace.path().join("one.har")).expect("a file").contains("L-2039"));
    workspace.run(&["log", "export", "har", "--output", "no/such/folder.har"]).exits(2);

    assert!(workspace.run(&["log", "drop", "3", "4"]).exits(0).stderr.contains("2 exchanges dropped"));
    let refused = workspace.run(&["log", "drop", "1", "3"]).exits(2);
    assert!(refused.stderr.contains("no exchange 3"), "{}", refused.stderr);
    assert_eq!(names(&listed(&workspace, &[])), ["5 rows", "2 book-in", "1 sign-in"], "none is dropped then");
    workspace.run(&["send", "read", "-e", "live"]).exits(0);
    workspace.run(&["log", "clear", "--older-than", "1h"]).exits(0);
    assert_eq!(listed(&workspace, &[]).len(), 4);
    workspace.run(&["log", "clear", "-e", "local"]).exits(0);
    assert_eq!(names(&listed(&workspace, &[])), ["6 read"]);
    assert!(workspace.run(&["log", "clear", "--json"]).exits(0).json()["dropped"] == 1);
}

#[cfg(feature = "other-programs")]
#[test]
fn the_commit_of_a_file_is_logged() {
    let workspace = workspace();
    let git = |args: &[&str]| {
        let own = ["-c", "user.name=clerk", "-c", "user.email=clerk@packhouse.example", "-c", "commit.gpgsign=false"];
        let output =
            Command::new("git").args(own).args(args).current_dir(workspace.path()).output().expect("git is there");
        assert!(output.status.success(), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    };
    git(&["init", "-q"]);
    workspace.run(&["send", "read"]).exits(0);
    git(&["add", "desk.http"]);
    git(&["commit", "-q", "-m", "desk"]);
    let commit = git(&["rev-parse", "HEAD"]);
    workspace.run(&["send", "read"]).exits(0);
    std::fs::write(workspace.path().join("desk.http"), format!("# Changed.\n{DESK}")).expect("a file");
    workspace.run(&["replay", "desk.http#read"]).exits(0);
    let record: Vec<(Option<String>, Option<bool>)> = listed(&workspace, &[])
        .iter()
        .map(|own| (own["commit"].as_str().map(str::to_owned), own["changed"].as_bool()))
        .collect();
    let short = Some(commit[..12].to_owned());
    assert_eq!(record, [(short.clone(), Some(true)), (short, Some(false)), (None, None)]);
    assert!(
        workspace
            .run(&["log", "show", "3", "--show", "head"])
            .exits(0)
            .stderr
            .contains(&format!("at {}, changed since", &commit[..12]))
    );
}

#[test]
fn a_trend_is_drawn() {
    let workspace = workspace();
    workspace.run(&["replay", "desk.http#read", "--times", "12"]).exits(0);
    let data = workspace.run(&["log", "trend", "read", "--json"]).exits(0).json();
    let points = data["points"].as_array().expect("points");
    assert_eq!(points.len(), 12);
    let slowest =
        points.iter().max_by(|a, b| a["elapsed_ms"].as_f64().partial_cmp(&b["elapsed_ms"].as_f64()).expect("numbers"));
    assert_eq!(data["slowest"], slowest.expect("one")["number"]);
    let drawn = workspace.run(&["log", "trend", "desk.http#read"]).exits(0).stdout;
    assert!(
        drawn.starts_with("read in local  12 responses  median ") && drawn.contains('▲') && drawn.contains('●'),
        "{drawn}"
    );
    for file in ["t.svg", "t.html"] {
        workspace.run(&["log", "trend", "read", "--output", file]).exits(0);
    }
    #[cfg(feature = "other-programs")]
    {
        let read = Command::new("xmllint").args(["--noout", "t.svg"]).current_dir(workspace.path()).status();
        assert!(read.expect("`xmllint` is needed here").success());
    }
    let page = std::fs::read_to_string(workspace.path().join("t.html")).expect("a page");
    assert!(page.contains("<svg") && page.matches("<tr>").count() == 13, "{page}");
    for (args, message) in [
        (&["log", "trend", "raed"][..], "the log has no response to `raed` in local"),
        (&["log", "trend", "read", "--output", "t.png"], "`t.png` is neither an SVG nor an HTML file"),
    ] {
        let refused = workspace.run(args).exits(2);
        assert!(refused.stderr.contains(message), "{}", refused.stderr);
    }
}

#[test]
fn a_damaged_state_is_set_aside_and_no_request_is_stopped_by_it() {
    let workspace = workspace();
    workspace.run(&["send", "read"]).exits(0);
    let state = workspace.path().join(".yieldtray");
    std::fs::remove_file(state.join("state.db-wal")).expect("a file");
    std::fs::write(state.join("state.db"), "a truck drove over this file, and over that one, too").expect("a file");
    let sent = workspace.run(&["send", "read"]).exits(0);
    assert!(
        sent.stderr.contains("the state file is damaged: it was renamed to `.yieldtray/state-damaged-1.db`"),
        "{}",
        sent.stderr
    );
    assert!(state.join("state-damaged-1.db").is_file());
    assert_eq!(names(&listed(&workspace, &[])), ["1 read"]);
    std::fs::remove_file(state.join("state.db-wal")).expect("a file");
    std::fs::write(state.join("state.db"), "and again").expect("a file");
    let record = workspace.run(&["log"]).exits(0);
    assert!(record.stderr.contains("state-damaged-2.db"), "{}", record.stderr);
}

#[test]
fn two_processes_log_at_once_and_one_is_killed() {
    let workspace = workspace();
    let many = ["replay", "desk.http#read", "--times", "400"];
    let mut one = workspace.command().args(many).stdout(std::process::Stdio::null()).spawn().expect("it starts");
    let mut other = workspace.command().args(many).stdout(std::process::Stdio::null()).spawn().expect("it starts");
    assert!(one.wait().expect("it ends").success() && other.wait().expect("it ends").success());
    assert_eq!(listed(&workspace, &["--limit", "2000"]).len(), 800);
    // Endless, but for the test: what was written before it is killed stays.
    let mut endless = workspace
        .command()
        .args(["replay", "desk.http#read", "--times", "10000"])
        .stdout(std::process::Stdio::null())
        .spawn()
        .expect("it starts");
    let until = std::time::Instant::now() + std::time::Duration::from_secs(60);
    while listed(&workspace, &["--limit", "900"]).len() <= 800 {
        assert!(std::time::Instant::now() < until, "it logs while it runs");
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    endless.kill().expect("it is killed");
    endless.wait().expect("it ends");
    assert!(workspace.run(&["log", "show"]).exits(0).stdout.contains("L-2039"));
    workspace.run(&["send", "read"]).exits(0);
}

#[test]
fn what_was_sent_is_logged_when_nobody_reads_the_rest() {
    let workspace = workspace();
    let replay = ["replay", "desk.http#read", "--times", "1000"];
    let mut shown = workspace.command().args(replay).stdout(std::process::Stdio::piped()).spawn().expect("it starts");
    drop(shown.stdout.take());
    assert_eq!(shown.wait().expect("it ends").code(), Some(0));
    // It goes on: what was begun is sent, checked and logged, and the exit code is that of the run.
    assert_eq!(listed(&workspace, &["--limit", "1000"]).len(), 1000);
    let json = [&["--json"], &replay[..]].concat();
    let workspace = workspace.file("desk.http", "%% Read\nGET /lots/L-2039\n\n% check body.bins == 4616\n");
    let mut shown = workspace.command().args(json).stdout(std::process::Stdio::piped()).spawn().expect("it starts");
    drop(shown.stdout.take());
    assert_eq!(shown.wait().expect("it ends").code(), Some(1), "data is no different");
    assert_eq!(listed(&workspace, &["--limit", "3000"]).len(), 2000);
}

#[test]
fn hostile_answers_are_shown_and_drive_no_terminal() {
    const ANSWER: &[u8] = b"HTTP/1.1 200 OK\r\nX-Note: \xe2\x80\xae\r\nContent-Type: text/plain\r\nContent-Length: 17\r\nConnection: close\r\n\r\n\x1b[31m\x1b]0;red\x1b[2J\n";
    let workspace = TestWorkspace::empty();
    let base = raw_server(ANSWER, false);
    workspace.run(&["send", "--text", &format!("GET {base}/\u{202e}x")]).exits(0);
    for args in [&["log"][..], &["log", "show", "--show", "all"], &["log", "compare", "1", "1"]] {
        let terminal = Terminal::start(&workspace, args, 90, &[("NO_COLOR", "1")]);
        let (code, shown) = terminal.end();
        assert_eq!(code, 0, "{shown}");
        for evil in ["\u{1b}[2J", "\u{1b}]0;", "\u{1b}[31m", "\u{202e}"] {
            assert!(!shown.contains(evil), "{args:?}: {shown:?}");
        }
    }
}
