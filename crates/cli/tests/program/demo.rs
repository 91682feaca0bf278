//! `yieldtray demo` and `init`, run as their users run them.

use crate::support::{TestWorkspace, command};
use std::io::{BufRead, BufReader};
use std::process::Stdio;

#[test]
fn the_demo_passes_and_leaves_nothing() {
    let workspace = TestWorkspace::empty();
    let run = workspace.run(&["demo"]).exits(0);
    assert!(run.stdout.starts_with("local  http://127.0.0.1:"), "{}", run.stdout);
    assert!(run.stdout.contains("53 requests · 213 checks · all passed"), "{}", run.stdout);
    assert_eq!(run.stderr, "");
    assert_eq!(std::fs::read_dir(workspace.path()).expect("a folder").count(), 0);
    let guarded = workspace.run(&["demo", "-e", "production"]).exits(2);
    assert!(guarded.stderr.contains("environment `production` is guarded"), "{}", guarded.stderr);
}

#[test]
fn a_kept_workspace_works_while_the_api_is_served() {
    let workspace = TestWorkspace::empty();
    let mut demo = command(workspace.path())
        .args(["demo", "--keep", "ph", "--serve"])
        .stdout(Stdio::piped())
        .spawn()
        .expect("it starts");
    let mut lines = BufReader::new(demo.stdout.take().expect("a pipe")).lines().map_while(Result::ok);
    assert!(lines.any(|line| line.contains("The sample API listens on ")), "it says what to type next");
    let again = workspace.run(&["replay", "-C", "ph"]);
    let live = workspace.run(&["replay", "-C", "ph", "-e", "production", "--yes"]);
    demo.kill().expect("it can be ended");
    demo.wait().expect("it ends");
    again.exits(0);
    live.exits(0);
    let lint = workspace.run(&["lint", "-C", "ph"]).exits(0);
    assert!(lint.stdout.contains("no problems found"), "{}", lint.stdout);
    let kept = workspace.run(&["list", "-C", "ph"]).exits(0);
    assert_eq!(kept.stdout.lines().count(), 45);
    let refused = workspace.run(&["demo", "--keep", "ph"]).exits(2);
    assert!(refused.stderr.contains("`./ph` already exists and is not empty"), "{}", refused.stderr);
}

#[test]
fn init_lays_a_workspace_without_mistakes() {
    let workspace = TestWorkspace::empty().file("api/.gitignore", "target");
    let run = workspace.run(&["init", "api"]).exits(0);
    insta::assert_snapshot!("init", run.stdout);
    let ignored = std::fs::read_to_string(workspace.path().join("api/.gitignore")).expect("it is there");
    assert_eq!(ignored, "target\nyieldtray.local.toml\n.yieldtray/\n");
    let listed = workspace.run(&["list", "-C", "api"]).exits(0);
    assert_eq!(listed.stdout.lines().count(), 3);
    let lint = workspace.run(&["lint", "-C", "api"]).exits(0);
    assert_eq!(lint.stdout, "1 file · 3 requests · no problems found\n");
    let again = workspace.run(&["init", "api"]).exits(2);
    assert!(again.stderr.contains("already exists"), "{}", again.stderr);
}
