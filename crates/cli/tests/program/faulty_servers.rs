//! Servers that violate the protocol: each run ends with its own message and leaves nothing behind.

use crate::support::TestWorkspace;
use crate::support::terminal::{in_terminal, plain};
use std::process::Stdio;
use std::time::{Duration, Instant};
use yieldtray_packhouse::FaultyServer;

fn workspace(faulty: &FaultyServer) -> TestWorkspace {
    TestWorkspace::empty().file("yieldtray.toml", &format!("[values]\nbase = '{}'\n", faulty.base()))
}

#[test]
fn each_condition_has_its_words_and_no_hang() {
    let faulty = FaultyServer::start().expect("a server");
    let workspace = workspace(&faulty);
    for (path, kind, message) in [
        ("no-answer", "timed-out", "waiting for 127.0.0.1"),
        ("stall", "timed-out", "waiting for 127.0.0.1"),
        ("short", "broken-off", "before the response was complete"),
        ("cut-head", "broken-off", "before the response was complete"),
        ("bad-chunks", "broken-off", "the response body from 127.0.0.1"),
        ("cut-chunks", "broken-off", "before the response was complete"),
        ("not-http", "not-http", "did not respond with HTTP"),
        ("big-header", "too-large", "too many headers"),
        ("endless-headers", "too-large", "too many headers"),
        ("bomb", "too-large", "larger than 64 MiB"),
        ("endless", "too-large", "larger than 64 MiB"),
        ("circle", "redirect", "redirect loop"),
        ("nowhere", "redirect", "it redirects to `gopher`"),
        ("on/11", "redirect", "too many redirects"),
    ] {
        let start = Instant::now();
        // Only servers that never respond need a short timeout.
        let limit = if kind == "timed-out" { "% timeout 2s\n" } else { "" };
        let text = format!("{limit}/{path}");
        let run = workspace.run(&["send", "--text", &text, "--json"]).exits(3);
        let failure = &run.json()["cells"][0]["failure"];
        assert_eq!(failure["kind"], kind, "{path}: {failure}");
        assert!(failure["message"].as_str().is_some_and(|said| said.contains(message)), "{path}: {failure}");
        assert!(start.elapsed() < Duration::from_secs(40), "{path} took {:?}", start.elapsed());
        if ["no-answer", "stall", "short", "cut-chunks"].contains(&path) {
            let run = workspace.run(&["send", "--text", &text, "--output", "half.bin"]).exits(3);
            let message = if path == "stall" { "7 bytes received, then nothing for 2 s" } else { "127.0.0.1" };
            assert!(run.stderr.contains(message), "{path}: {}", run.stderr);
        }
    }
    assert_eq!(left(&workspace), ["yieldtray.toml"], "no half file is left");
}

#[test]
fn what_is_odd_but_right_is_taken() {
    let faulty = FaultyServer::start().expect("a server");
    let workspace = workspace(&faulty);
    for (path, expected) in [
        ("interim", "200 after the hints"),
        ("stray-204", "204 "),
        ("stray-304", "304 "),
        ("until-close", "200 to the end"),
        ("latin1", "200 Käthe"),
        ("on/10", "200 here"),
    ] {
        let run =
            workspace.run(&["send", "--text", &format!("/{path}"), "--pick", "string(status) + ' ' + text"]).exits(0);
        assert_eq!(run.stdout.trim_end_matches('\n'), expected, "{path}");
    }
    let all = workspace.run(&["send", "--text", "/on/10", "--pick", "hops.map(h, h.status)"]).exits(0);
    assert_eq!(all.stdout.matches("302").count(), 10);
    let none = workspace.run(&["send", "--text", "% redirects 0\n/on/3", "--pick", "headers['location']"]).exits(0);
    assert_eq!(none.stdout, "/on/2\n");
}

#[test]
fn limits_are_settings_and_a_file_takes_any_size() {
    let faulty = FaultyServer::start().expect("a server");
    let config = format!("[values]\nbase = '{}'\n[send]\nbody_limit = 4\n", faulty.base());
    let workspace = TestWorkspace::empty().file("yieldtray.toml", &config);
    assert!(workspace.run(&["send", "--text", "/until-close"]).exits(3).stderr.contains("larger than 4 bytes"));
    let run = workspace.run(&["send", "--text", "/until-close\n\n% check size == 10", "--output", "all.txt"]).exits(0);
    assert!(run.stderr.contains("body written to"), "{}", run.stderr);
    assert_eq!(std::fs::read_to_string(workspace.path().join("all.txt")).expect("the file"), "to the end");
    // A check that reads what was not held has not passed.
    let run = workspace
        .run(&["send", "--text", "/until-close\n\n% check text != ''\n% yield t = text", "--output", "b.txt"])
        .exits(1);
    assert_eq!(run.stderr.matches("is too large for checks").count(), 2, "{}", run.stderr);
    let run = workspace.run(&["send", "--text", "/until-close", "--output", "no/such/folder/b.txt"]).exits(2);
    assert!(run.stderr.contains("directory `no/such/folder` not found"), "{}", run.stderr);
}

/// A request that is not idempotent is never sent twice by itself; one that is may be, over a new
/// connection.
#[test]
fn a_kept_connection_that_was_closed_is_no_reason_to_send_twice() {
    let faulty = FaultyServer::start().expect("a server");
    let workspace = workspace(&faulty)
        .file("post.http", "%% a\n/drops-second\n%% b\nPOST /drops-second\n\n[1]\n")
        .file("get.http", "%% a\n/drops-second\n%% b\n/drops-second\n");
    let run = workspace.run(&["replay", "post.http"]).exits(3);
    assert!(run.stdout.contains("the server may have processed the POST"), "{}", run.stdout);
    assert_eq!(faulty.requests(), 2);
    workspace.run(&["replay", "get.http"]).exits(0);
    assert_eq!(faulty.requests(), 5, "the second GET went out twice");
}

#[test]
fn nothing_an_answer_says_drives_the_terminal() {
    let faulty = FaultyServer::start().expect("a server");
    let workspace = workspace(&faulty);
    for path in ["drives", "drives-reason"] {
        let shown = in_terminal(&workspace, &["send", "--text", &format!("/{path}"), "--show", "all"], 100, &[]);
        // Escape sequences other than colors are shown, not executed.
        let rest = plain(&shown).replace('\n', "").replace('\r', "\n");
        let odd: Vec<char> =
            rest.chars().filter(|c| (c.is_control() && *c != '\n') || ('\u{202a}'..='\u{2069}').contains(c)).collect();
        assert!(odd.is_empty(), "{path}: {odd:?} in {shown:?}");
        assert!(shown.contains("\\u{9b}"), "{path}: {shown:?}");
    }
}

#[test]
fn an_interrupt_leaves_no_half_file() {
    let faulty = FaultyServer::start().expect("a server");
    let workspace = workspace(&faulty);
    let mut command = workspace.command();
    command.args(["send", "--text", "/endless", "--output", "endless.bin"]).stdout(Stdio::null()).stderr(Stdio::null());
    let mut child = command.spawn().expect("the program starts");
    // Until it writes: then there is something half done.
    let until = Instant::now() + Duration::from_secs(30);
    let half = || {
        let files = std::fs::read_dir(workspace.path()).expect("the folder").flatten();
        files.filter_map(|file| file.metadata().ok()).any(|data| data.len() > 1 << 20)
    };
    while !half() {
        assert!(Instant::now() < until, "nothing is written");
        std::thread::sleep(Duration::from_millis(10));
    }
    let interrupt = format!("kill -INT {}", child.id());
    assert!(std::process::Command::new("sh").args(["-c", &interrupt]).status().expect("a shell").success());
    assert_eq!(child.wait().expect("it ends").code(), Some(130));
    assert_eq!(left(&workspace), ["yieldtray.toml"]);
}

/// The files in the directory, except the state.
fn left(workspace: &TestWorkspace) -> Vec<std::ffi::OsString> {
    let names = std::fs::read_dir(workspace.path()).expect("the folder").flatten().map(|it| it.file_name());
    names.filter(|name| name != ".yieldtray").collect()
}
