//! `yieldtray replay` and `list` on the built program.

use crate::support::TestWorkspace;

const DESK: &str = "% check ok: status < 300
% tag desk

%% Book in
% name book-in
% tag smoke
POST /lots
X-Api-Key: {{key}}

{ \"grower\": \"{{grower}}\", \"bins\": 24 }

% yield lot_id = body.id
% check body.bins == 25 else \"the scale counted {{body.bins}}\"
% check body.lots.exists(l, l.id == lot_id)

%% Weigh
% needs book-in
GET /lots/{{lot_id}}

%% No such lot
% waive ok
GET /lots/L-1

% check status == 404
";

fn workspace() -> TestWorkspace {
    TestWorkspace::new()
        .file("a/desk.http", DESK)
        .file("b/open.http", "%% Open\n% tag smoke\nGET /health\n\n% check body.status == 'open'\n")
}

#[test]
fn a_failing_run_shows_why() {
    let workspace = workspace();
    let run = workspace.run(&["replay"]).exits(1);
    insta::assert_snapshot!("failing_run", workspace.redacted(&run.both()));
    let quiet = workspace.run(&["replay", "-q"]).exits(1);
    assert!(!quiet.stdout.contains("open") && quiet.stdout.contains("book-in"), "{}", quiet.stdout);
}

#[test]
fn cells_are_chosen_by_place_name_and_tag() {
    let workspace = workspace();
    let names = |args: &[&str]| {
        let run = workspace.run(&[&["replay", "--json"], args].concat());
        let events =
            run.stdout.lines().map(|line| serde_json::from_str::<serde_json::Value>(line).expect("an event a line"));
        events
            .filter(|event| event["event"] == "cell")
            .map(|event| event["name"].as_str().unwrap_or_default().to_owned())
            .collect::<Vec<_>>()
            .join(" ")
    };
    assert_eq!(names(&[]), "book-in weigh no-such-lot open");
    assert_eq!(names(&["b", "a/desk.http#no-such-lot"]), "open no-such-lot");
    assert_eq!(names(&["a/desk.http:20"]), "no-such-lot", "a line in the cell names it");
    assert_eq!(names(&["--tag", "smoke"]), "book-in open");
    assert_eq!(names(&["--only", "no-*,open"]), "no-such-lot open");
    assert_eq!(names(&["--only", "weigh"]), "book-in weigh", "what a cell needs comes first");
    assert_eq!(names(&["--fail-fast"]), "book-in");
    let none = workspace.run(&["replay", "--tag", "desk", "--only", "open"]).exits(2);
    assert!(none.stderr.contains("no requests match the selection"));
}

#[test]
fn events_come_one_a_line() {
    let workspace = workspace();
    let run = workspace.run(&["replay", "a/desk.http#book-in", "--json"]).exits(1);
    let events: Vec<serde_json::Value> =
        run.stdout.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    assert_eq!(events[0], serde_json::json!({ "event": "started", "environment": "local", "cells": 1 }));
    let failure = &events[1]["failures"][0];
    assert_eq!((failure["file"].as_str(), failure["line"].as_u64()), (Some("a/desk.http"), Some(13)));
    assert_eq!(failure["expression"], "body.bins == 25");
    assert_eq!(failure["parts"], serde_json::json!([{ "text": "body.bins", "value": "24" }]));
    assert_eq!(failure["hint"], "the scale counted 24");
    assert_eq!((events[2]["failed_checks"].as_u64(), events[2]["exit_code"].as_u64()), (Some(2), Some(1)));
}

#[test]
fn exit_codes_tell_what_was_wrong_and_the_largest_wins() {
    let workspace = TestWorkspace::new()
        .file("passes.http", "GET /health\n\n% check status == 200\n")
        .file("fails.http", "GET /health\n\n% check status == 201\n")
        .file("yields.http", "GET /health\n\n% yield x = body.nothing\n")
        .file("mistaken.http", "GET /{{nothing}}\n")
        .file("refused.http", "GET http://127.0.0.1:1/\n");
    for (files, code) in [
        (&["passes.http"][..], 0),
        (&["fails.http"], 1),
        (&["yields.http"], 1),
        (&["mistaken.http"], 2),
        (&["refused.http"], 3),
        (&["fails.http", "mistaken.http"], 2),
        (&["refused.http", "mistaken.http", "passes.http"], 3),
        (&["gone.http"], 2),
    ] {
        workspace.run(&[&["replay"], files].concat()).exits(code);
    }
    workspace.run(&["replay", "--no-such-option"]).exits(2);
    workspace.run(&["--help"]).exits(0);
}

#[test]
fn requests_are_listed_with_what_they_need_and_yield() {
    let workspace = workspace();
    insta::assert_snapshot!("list", workspace.run(&["list"]).exits(0).stdout);
    let data = workspace.run(&["list", "a/desk.http", "--json"]).exits(0).json();
    let apply_levels = &data["requests"][1];
    assert_eq!(
        *apply_levels,
        serde_json::json!({ "file": "a/desk.http", "line": 16, "name": "weigh", "title": "Weigh", "method": "GET",
            "target": "/lots/{{lot_id}}", "needs": ["book-in"], "yields": [], "tags": ["desk"] })
    );
    let broken = TestWorkspace::empty().file("a.http", "%% A\nGET\n%% B\n/x\n");
    let run = broken.run(&["list"]).exits(2);
    assert!(run.stdout.contains("a.http:3  b"), "{}", run.both());
}

#[test]
fn what_git_ignores_is_passed_over() {
    let workspace = workspace()
        .file("target/old.http", "%% Old\n/x\n")
        .file(".gitignore", "target/\n")
        .file(".hidden/h.http", "/x\n");
    let listed = workspace.run(&["list"]).exits(0).stdout;
    assert!(!listed.contains("old") && !listed.contains("hidden"), "{listed}");
}

#[cfg(unix)]
#[test]
fn a_link_out_of_the_workspace_is_refused() {
    let workspace = workspace();
    let outside = tempfile::tempdir().expect("a folder");
    std::fs::write(outside.path().join("out.http"), "%% Out\n/x\n").expect("a file");
    std::os::unix::fs::symlink(outside.path().join("out.http"), workspace.path().join("a/link.http")).expect("a link");
    let run = workspace.run(&["replay", "a"]).exits(2);
    assert!(run.stderr.contains("it links to a file outside the workspace"), "{}", run.stderr);
}
