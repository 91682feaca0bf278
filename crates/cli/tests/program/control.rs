//! Control of a run: rows, waiting, skipping, sequences, shards.

use crate::support::TestWorkspace;

const CELLS: &str = "%% Each
% each row in \"lots.jsonl\"
POST /lots
X-Api-Key: {{key}}

{ \"grower\": \"{{grower}}\", \"bins\": {{bins}} }

% check status == 201

%% Flaky
GET /scale/flaky
% query key = {{uuid()}}
% query fails = 2

% wait until status == 200 every 10ms for 5s

%% Never
GET /scale/flaky
% query key = {{uuid()}}
% query fails = 9

% wait until status == 200 every 150ms for 900ms

%% Skipped
% skip when environment == \"live\" \"not on live\"
GET /health

%% Both
% play skipped times 2
% play each
";

fn workspace() -> TestWorkspace {
    TestWorkspace::new()
        .file("a.http", CELLS)
        .file("lots.jsonl", "{\"bins\": 3, \"grower\": \"G-11\"}\n{\"bins\": 4000, \"grower\": \"G-11\"}\n{\"bins\": 5, \"grower\": \"G-12\"}\n")
}

#[test]
fn each_row_has_its_own_line() {
    let run = workspace().run(&["replay", "a.http#each"]).exits(1);
    let lines: Vec<&str> = run.stdout.lines().filter(|line| line.contains(" row ")).collect();
    assert_eq!(lines.len(), 3, "{}", run.stdout);
    assert!(
        lines[1].contains("row 2") && lines[1].contains("422") && lines[1].contains("1 of 1 failed"),
        "{}",
        lines[1]
    );
    assert!(
        run.stdout.ends_with("3 requests · 3 checks · 1 failed · ")
            || run.stdout.contains("3 requests · 3 checks · 1 failed")
    );
    // `send` sends the first row.
    let sent = workspace().run(&["send", "each", "--json"]).exits(0).json();
    assert_eq!(sent["cells"][0]["row"], 1);
    assert_eq!(sent["cells"].as_array().map(Vec::len), Some(1));
}

#[test]
fn waiting_ends_with_what_was_waited_for_or_with_words() {
    let run = workspace().run(&["replay", "a.http#flaky"]).exits(0);
    assert!(run.stdout.contains("1 check, 3 attempts"), "{}", run.stdout);
    let run = workspace().run(&["replay", "a.http#never"]).exits(1);
    assert!(run.stdout.contains("1 of 1 failed, "), "{}", run.stdout);
    assert!(run.stdout.contains("status  is  503"), "{}", run.stdout);
    let sent = workspace().run(&["send", "flaky"]).exits(0);
    assert!(sent.stderr.contains("3 attempts"), "{}", sent.stderr);
}

#[test]
fn what_is_skipped_says_why_and_is_no_failure() {
    let run = workspace().run(&["replay", "a.http#skipped", "-e", "live"]).exits(0);
    assert!(run.stdout.contains("skipped: not on live") && run.stdout.contains("1 skipped"), "{}", run.stdout);
    workspace().run(&["send", "skipped", "-e", "live"]).exits(0);
}

#[test]
fn a_sequence_is_played_by_its_name() {
    let run = workspace().run(&["replay", "both", "--json"]).exits(1);
    let events: Vec<serde_json::Value> =
        run.stdout.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    let played: Vec<_> =
        events.iter().filter(|event| event["played_by"] == "both").map(|event| &event["name"]).collect();
    assert_eq!(played, ["skipped", "skipped", "each", "each", "each"]);
    let refused = workspace().run(&["send", "both"]).exits(2);
    assert!(refused.stderr.contains("run it with `yieldtray replay both`"), "{}", refused.stderr);
}

#[test]
fn shares_and_rounds_cover_everything() {
    let names = |args: &[&str]| {
        let mut all = vec!["replay", "b.http", "--json"];
        all.extend(args);
        let workspace =
            TestWorkspace::new().file("b.http", "%% a\n/health\n%% b\n/health\n%% c\n/health\n%% d\n/health\n");
        let run = workspace.run(&all);
        let cells = run.stdout.lines().filter_map(|line| serde_json::from_str::<serde_json::Value>(line).ok());
        cells.filter_map(|cell| Some(cell["name"].as_str()?.to_owned())).collect::<Vec<_>>()
    };
    let mut shared = [names(&["--shard", "1/2"]), names(&["--shard", "2/2"])].concat();
    shared.sort();
    assert_eq!(shared, ["a", "b", "c", "d"]);
    assert_eq!(names(&["--exclude", "b,c*"]), ["a", "d"]);
    assert_eq!(names(&["--only", "a", "--times", "3"]), ["a", "a", "a"]);
    let refused = TestWorkspace::new().file("b.http", "/health\n").run(&["replay", "--shard", "3/2"]).exits(2);
    assert!(refused.stderr.contains("invalid shard `3/2`"), "{}", refused.stderr);
}
