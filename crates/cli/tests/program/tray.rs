//! Values that one process captures and the next one uses.

use crate::support::TestWorkspace;
use std::process::Stdio;

const FILE: &str = "%% Sign in
POST /session

{ \"email\": \"clerk@packhouse.example\", \"password\": \"windfall-local\" }

% yield token = body.token secret

%% Book in
POST /lots
Authorization: Bearer {{token}}

{ \"grower\": \"{{grower}}\", \"bins\": 3 }

% yield lot_id = body.id
% yield lot = body

%% Look
GET /lots/{{lot_id}}

% check body.bins == lot.bins
";

#[test]
fn what_one_process_yields_the_next_one_uses() {
    let workspace = TestWorkspace::new().file("a.http", FILE).file("b.http", "%% Other\nGET /lots/{{lot_id}}\n");
    workspace.run(&["send", "sign-in"]).exits(0);
    workspace.run(&["send", "book-in"]).exits(0);
    workspace.run(&["send", "look"]).exits(0);
    let rows = workspace.run(&["tray", "--json"]).exits(0).json();
    let names: Vec<&str> =
        rows["values"].as_array().expect("rows").iter().filter_map(|row| row["name"].as_str()).collect();
    assert_eq!(names, ["lot", "lot_id", "token"]);
    assert_eq!(rows["values"][0]["value"]["bins"], 3);
    assert_eq!((&rows["values"][2]["secret"], &rows["values"][2]["value"]), (&true.into(), &serde_json::Value::Null));

    // Another environment and another file see nothing of it.
    let live = workspace.run(&["send", "look", "-e", "live"]).exits(2);
    assert!(live.stderr.contains("`lot_id` has no value yet: `book-in` yields it but was not sent"), "{}", live.stderr);
    assert_eq!(workspace.run(&["tray", "-e", "live", "--json"]).exits(0).json()["values"], serde_json::json!([]));
    workspace.run(&["send", "other"]).exits(2);

    // A replay starts with an empty tray, and does not change the stored one unless `--save-yields` is given.
    workspace.run(&["replay", "a.http", "--only", "look"]).exits(2);
    let before = workspace.run(&["tray", "--json"]).exits(0).json()["values"][1]["value"].clone();
    workspace.run(&["replay", "a.http"]).exits(0);
    assert_eq!(workspace.run(&["tray", "--json"]).json()["values"][1]["value"], before);
    workspace.run(&["replay", "a.http", "--save-yields"]).exits(0);
    assert_ne!(workspace.run(&["tray", "--json"]).json()["values"][1]["value"], before);

    let refused = workspace.run(&["tray", "drop", "lot_id", "tokne"]).exits(2);
    assert!(refused.stderr.contains("did you mean `token`?"), "{}", refused.stderr);
    workspace.run(&["tray", "drop", "lot_id", "lot"]).exits(0);
    assert_eq!(workspace.run(&["tray", "--json"]).json()["values"].as_array().map(Vec::len), Some(1));
    workspace.run(&["tray", "clear"]).exits(0);
    let empty = workspace.run(&["tray"]).exits(0);
    assert!(empty.stderr.contains("the tray is empty"), "{}", empty.stderr);
}

/// Without a directory for the user's key nothing is stored, and the exit code says so if it was asked for.
#[test]
fn without_a_home_nothing_is_kept() {
    let workspace = TestWorkspace::new().file("a.http", "GET /health\n\n% yield code = status\n");
    let homeless = [("XDG_STATE_HOME", ""), ("HOME", "")];
    for (args, code) in [(&["send", "a.http"][..], 0), (&["replay", "--save-yields"], 2)] {
        let run = workspace.run_with(args, "", &homeless).exits(code);
        assert!(run.stderr.contains("no home directory for the key"), "{}", run.both());
        let rows = workspace.run_with(&["tray", "--json"], "", &homeless).exits(0).json();
        assert_eq!(rows["values"], serde_json::json!([]));
    }
}

#[test]
fn two_processes_at_once_lose_nothing() {
    let cells = |prefix: &str| -> String {
        (0..1000).map(|n| format!("%% {prefix} {n}\nGET /health\n\n% yield {prefix}_{n} = body.status\n")).collect()
    };
    let workspace =
        TestWorkspace::new().file("one.http", &cells("one")).file("two.http", &cells("two")).file("a.http", FILE);
    let start = |file: &str| {
        let mut command = workspace.command();
        command.args(["replay", file, "--save-yields", "-q"]).stdout(Stdio::null());
        command.spawn().expect("it starts")
    };
    let mut both = [start("one.http"), start("two.http")];
    // A third one reads and writes in between.
    for _ in 0..5 {
        workspace.run(&["send", "sign-in"]).exits(0);
    }
    for process in &mut both {
        assert!(process.wait().expect("it ends").success());
    }
    let rows = workspace.run(&["tray", "--json"]).exits(0).json();
    assert_eq!(rows["values"].as_array().map(Vec::len), Some(2001));
}

#[test]
fn a_killed_process_leaves_a_readable_file() {
    let cells: String = (0..3000).map(|n| format!("%% A {n}\nGET /health\n\n% yield v_{n} = body.status\n")).collect();
    let workspace = TestWorkspace::new().file("many.http", &cells).file("a.http", FILE);
    workspace.run(&["send", "sign-in"]).exits(0);
    // The process is killed at once, while it logs, and later.
    for writes in [0, 1, 4] {
        let mut command = workspace.command();
        let mut child = command
            .args(["replay", "many.http", "--save-yields", "-q"])
            .stdout(Stdio::null())
            .spawn()
            .expect("it starts");
        let log = workspace.path().join(".yieldtray/state.db-wal");
        let size = || std::fs::metadata(&log).map_or(0, |log| log.len());
        let (mut seen, mut last) = (0, size());
        while seen < writes && child.try_wait().expect("it can be waited for").is_none() {
            seen += usize::from(std::mem::replace(&mut last, size()) != last);
            std::thread::yield_now();
        }
        let _ = child.kill();
        child.wait().expect("it ends");
        workspace.run(&["send", "book-in"]).exits(0);
        workspace.run(&["tray"]).exits(0);
    }
}

#[test]
fn a_state_that_cannot_be_written_stops_no_request() {
    // A plain file in the folder's place; then a file of a newer version.
    let workspace = TestWorkspace::new().file("a.http", FILE).file(".yieldtray", "in the way");
    let run = workspace.run(&["send", "sign-in", "--pick", "size(body.token)"]).exits(0);
    assert_eq!(run.stdout, "40\n");
    assert!(run.stderr.contains("`.yieldtray` is not a directory: ignored"), "{}", run.stderr);

    let workspace = TestWorkspace::new().file("a.http", FILE);
    workspace.run(&["send", "sign-in"]).exits(0);
    let state = workspace.path().join(".yieldtray/state.db");
    let mut bytes = std::fs::read(&state).expect("a file");
    // SQLite keeps the version at byte 60, the largest first.
    bytes[60..64].copy_from_slice(&9_u32.to_be_bytes());
    let _ = std::fs::remove_file(workspace.path().join(".yieldtray/state.db-wal"));
    std::fs::write(&state, bytes).expect("a file");
    let run = workspace.run(&["send", "sign-in"]).exits(0);
    assert!(run.stderr.contains("was written by a newer version of yieldtray"), "{}", run.stderr);
    let refused = workspace.run(&["tray"]).exits(2);
    assert!(refused.stderr.contains("format 9, this version supports 4"), "{}", refused.stderr);
}

/// As somebody who may not write there, and with a disk that takes nothing more.
#[cfg(unix)]
#[test]
fn a_read_only_folder_and_a_full_disk_stop_no_request() {
    use std::os::unix::fs::PermissionsExt;
    use std::os::unix::process::CommandExt;
    let workspace = TestWorkspace::new().file("a.http", FILE);
    let home = tempfile::tempdir().expect("a folder");
    let tool = home.path().join("yieldtray");
    std::fs::copy(crate::support::program(), &tool).expect("a copy");
    let mode = |path: &std::path::Path, mode| {
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).expect("rights can be set");
    };
    mode(home.path(), 0o755);
    mode(workspace.path(), 0o555);
    let mut command = std::process::Command::new(&tool);
    command.args(["send", "sign-in", "--pick", "size(body.token)"]).current_dir(workspace.path());
    command.env("XDG_STATE_HOME", workspace.home()).env_remove("YIELDTRAY_ENV");
    // Permissions do not stop root: the program runs as `nobody`.
    let root = std::fs::metadata("/proc/self").is_ok_and(|own| std::os::unix::fs::MetadataExt::uid(&own) == 0);
    if root {
        command.uid(65534).gid(65534);
    }
    let run = command.output().expect("it runs");
    let said = String::from_utf8_lossy(&run.stderr).into_owned();
    mode(workspace.path(), 0o755);
    assert!(run.status.success(), "{said}");
    assert_eq!(run.stdout, b"40\n");
    assert!(said.contains("cannot store captured values: cannot create `.yieldtray`"), "{said}");

    // A limit of no bytes a file is a full disk to whoever writes.
    let mut command = std::process::Command::new("sh");
    let script = format!("trap '' XFSZ; ulimit -f 0; exec '{}' send sign-in --pick 'size(body.token)'", tool.display());
    command.args(["-c", &script]).current_dir(workspace.path()).env("XDG_STATE_HOME", workspace.home());
    let run = command.output().expect("it runs");
    let said = String::from_utf8_lossy(&run.stderr).into_owned();
    assert!(run.status.success(), "{said}");
    assert_eq!(run.stdout, b"40\n");
    assert!(said.contains("cannot store captured values: "), "{said}");
    workspace.run(&["send", "sign-in"]).exits(0);
    assert!(!workspace.run(&["tray"]).exits(0).stdout.is_empty());
}
