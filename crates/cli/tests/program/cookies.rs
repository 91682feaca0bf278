//! Cookies between two commands, within a replay, and in `yieldtray cookies`.

use crate::support::TestWorkspace;

const CELLS: &str = "%% Sign in
POST /session

{ \"email\": \"clerk@packhouse.example\", \"password\": \"{{pass}}\" }

%% Book in
POST /lots

{ \"grower\": \"G-11\", \"bins\": 3 }

% check status == 201

%% Without
% cookies off
POST /lots

{ \"grower\": \"G-11\", \"bins\": 3 }

% check status == 401

%% By hand
POST /lots
Cookie: packhouse_session=no

{ \"grower\": \"G-11\", \"bins\": 3 }

% check status == 401
";

fn workspace() -> TestWorkspace {
    TestWorkspace::new().file("a.http", CELLS)
}

#[test]
fn cookies_are_kept_by_environment_and_sent_by_the_rules() {
    let workspace = workspace();
    workspace.run(&["send", "book-in"]).exits(1);
    let set = workspace.run(&["send", "sign-in", "--set", "pass=windfall-local", "--show", "cookies"]).exits(0);
    assert_eq!(set.stdout.trim(), "set      packhouse_session  for 127.0.0.1/, for the session");
    let sent = workspace.run(&["send", "book-in", "--show", "cookies,sent"]).exits(0);
    assert!(sent.stdout.contains("sent     packhouse_session  for 127.0.0.1/"), "{}", sent.stdout);
    assert!(sent.stdout.contains("cookie: packhouse_session=[secret]"), "{}", sent.stdout);
    workspace.run(&["send", "without"]).exits(0);
    workspace.run(&["send", "by-hand"]).exits(0);
    workspace.run(&["send", "book-in", "-e", "live"]).exits(1);
    let dry = workspace.run(&["send", "book-in", "--dry-run"]).exits(0);
    assert!(dry.stdout.contains("cookie: packhouse_session=[secret]\r\n"), "{}", dry.stdout);
    // A sign-in that is refused while an old cookie goes along gets a word about it.
    let again = workspace.run(&["send", "sign-in", "--set", "pass=no"]).exits(0);
    assert!(
        again.stderr.contains("the cookie `packhouse_session` from an earlier response was sent"),
        "{}",
        again.stderr
    );
    // A replay has a jar of its own.
    let run = workspace.run(&["replay", "--set", "pass=no", "--only", "book-in"]).exits(1);
    assert!(run.stdout.contains("401"), "{}", run.stdout);
    let run = workspace.run(&["replay", "--set", "pass=windfall-local"]).exits(0);
    assert!(run.stdout.contains("4 requests"), "{}", run.stdout);
}

#[test]
fn cookies_are_shown_dropped_and_cleared() {
    let workspace = workspace();
    assert!(workspace.run(&["cookies"]).exits(0).stderr.contains("no cookies; responses"));
    workspace.run(&["send", "sign-in", "--set", "pass=windfall-local"]).exits(0);
    let shown = workspace.run(&["cookies"]).exits(0).stdout;
    assert_eq!(
        shown.split_whitespace().collect::<Vec<_>>(),
        ["packhouse_session", "[secret]", "127.0.0.1/", "session", "HttpOnly,", "SameSite=Lax"]
    );
    let data = workspace.run(&["cookies", "--json"]).exits(0).json();
    assert_eq!(
        data["cookies"][0],
        serde_json::json!({ "name": "packhouse_session", "value": "[secret]", "domain": "127.0.0.1", "path": "/",
            "expires": null, "attributes": ["HttpOnly", "SameSite=Lax"] })
    );
    assert!(
        workspace
            .run(&["cookies", "drop", "packhouse_sesion"])
            .exits(2)
            .stderr
            .contains("did you mean `packhouse_session`?")
    );
    assert!(workspace.run(&["cookies", "clear", "-e", "live"]).exits(0).stderr.contains("0 cookies dropped"));
    assert!(workspace.run(&["cookies", "drop", "packhouse_session"]).exits(0).stderr.contains("1 cookie dropped"));
    workspace.run(&["send", "book-in"]).exits(1);
    workspace.run(&["send", "sign-in", "--set", "pass=windfall-local"]).exits(0);
    assert_eq!(workspace.run(&["cookies", "clear", "--json"]).exits(0).json()["dropped"], 1);
}
