//! The whole output of each command, in a small workspace.

use crate::support::TestWorkspace;

const COMMON: &str = "% check quick: elapsed < duration('20s')\n";

const GATE: &str = "% tag gate

%% Sign in
% name sign-in
POST /session

{ \"email\": \"clerk@packhouse.example\", \"password\": \"windfall-local\" }

% yield token = body.token secret
% check status == 200

%% The cold rooms
GET /cold-rooms

% check body.cold_rooms.all(room, room.trays <= room.capacity)
";

const LOTS: &str = "%% Book a lot in
% name book-in
% needs gate.http#sign-in
POST /lots
Authorization: Bearer {{token}}

{ \"grower\": \"{{grower}}\", \"bins\": 24, \"ref\": \"{{uuid()}}\" }

% yield lot = body.id
% check status == 201
% check body.bins == 25 else \"the scale counted {{body.bins}}\"

%% The lots of a grower
% name by-grower
% each row in \"growers.csv\"
GET /lots?grower={{grower_id}}&per_page=1

% check body.lots.all(one, one.grower == grower_id)

%% The old address
% name moved
GET /moved

% check hops.size() == 1 && url.endsWith('/growers')
";

const BROKEN: &str = "%% A slip
GET /lots/{{lott}}

% check staus == 200
";

fn workspace() -> TestWorkspace {
    TestWorkspace::new()
        .file("_common.http", COMMON)
        .file("gate.http", GATE)
        .file("lots.http", LOTS)
        .file("growers.csv", "grower_id\nG-11\nG-13\n")
}

/// Runs commands one after another, each with a seed, and compares each whole output with its snapshot.
#[track_caller]
fn compare(workspace: &TestWorkspace, commands: &[(&str, i32, &[&str])]) {
    for (name, code, args) in commands {
        let run = workspace.run(&[args, &["--seed", "4616"][..]].concat()).exits(*code);
        let text = format!("yieldtray {}\n{}", args.join(" "), workspace.redacted(&run.both()));
        insta::assert_snapshot!(*name, text, args.join(" ").as_str());
    }
}

#[test]
fn what_a_workspace_has() {
    let workspace = workspace();
    compare(
        &workspace,
        &[
            ("list", 0, &["list"]),
            ("list_graph", 0, &["list", "--graph"]),
            ("list_json", 0, &["list", "gate.http", "--json"]),
            ("env", 0, &["env"]),
            ("env_choose", 0, &["env", "live"]),
            ("env_chosen", 0, &["env", "--json"]),
            ("values", 0, &["values"]),
            ("values_of_a_request", 0, &["values", "book-in"]),
            ("lint", 2, &["lint"]),
            ("tidy", 0, &["tidy", "--check"]),
            ("export_targets", 0, &["export", "--targets"]),
            ("tray_empty", 0, &["tray"]),
            ("log_empty", 0, &["log"]),
            ("cookies_empty", 0, &["cookies"]),
        ],
    );
}

#[test]
fn what_is_sent_and_what_comes_back() {
    let workspace = workspace();
    compare(
        &workspace,
        &[
            ("send", 0, &["send", "the-cold-rooms"]),
            ("send_dry", 0, &["send", "the-cold-rooms", "--dry-run"]),
            ("send_failed", 1, &["send", "book-in", "--needs", "send"]),
            ("send_all_parts", 0, &["send", "moved", "--show", "all"]),
            ("send_picked", 0, &["send", "the-cold-rooms", "--pick", "size(body.cold_rooms)"]),
            ("send_json", 0, &["send", "the-cold-rooms", "--json"]),
            ("send_quiet", 1, &["send", "book-in", "--quiet"]),
            ("tray", 0, &["tray"]),
            ("values_on_the_tray", 0, &["values", "book-in"]),
            ("log", 0, &["log"]),
            ("log_show", 0, &["log", "show", "1"]),
            ("log_show_all", 0, &["log", "show", "--show", "all"]),
            ("log_compare", 0, &["log", "compare", "1", "6"]),
            ("log_drop", 0, &["log", "drop", "1"]),
            ("export_with_tray", 0, &["export", "book-in", "--as", "shell"]),
            ("export_shell", 0, &["export", "the-cold-rooms", "--as", "shell"]),
            ("export_without_values", 0, &["export", "by-grower", "--as", "http", "--with-values", "off"]),
        ],
    );
}

#[test]
fn what_a_replay_shows() {
    let workspace = workspace();
    compare(
        &workspace,
        &[
            ("replay", 1, &["replay"]),
            ("replay_passed", 0, &["replay", "gate.http"]),
            ("replay_quiet", 1, &["replay", "--quiet"]),
            ("replay_json", 0, &["replay", "gate.http", "--json"]),
            ("replay_from_log", 1, &["replay", "--from-log"]),
            ("prove", 0, &["prove", "gate.http"]),
            ("prove_least", 1, &["prove", "gate.http", "--min", "100"]),
        ],
    );
}

#[test]
fn what_is_wrong() {
    let workspace = workspace().file("broken.http", BROKEN);
    compare(
        &workspace,
        &[
            ("wrong_lint", 2, &["lint"]),
            ("wrong_send", 2, &["send", "a-slip"]),
            ("wrong_replay", 2, &["replay", "broken.http"]),
            ("wrong_name", 2, &["send", "book-out"]),
            ("wrong_environment", 2, &["replay", "-e", "lvie"]),
            ("wrong_set", 2, &["send", "moved", "--set", "bins"]),
            ("wrong_option", 2, &["send", "moved", "--dyr"]),
            ("wrong_json", 2, &["send", "a-slip", "--json"]),
            ("wrong_number", 2, &["log", "show", "77"]),
            ("wrong_import", 2, &["import", "curl", "curl --frobnicate http://127.0.0.1/lots"]),
        ],
    );
}

#[test]
fn what_is_taken_in_and_allowed() {
    let workspace = workspace();
    let command =
        "curl -u clerk:windfall -d '{\"bins\": 24}' -H 'Content-Type: application/json' http://127.0.0.1/lots";
    compare(
        &workspace,
        &[
            ("import_curl", 0, &["import", "curl", command]),
            ("import_into", 0, &["import", "curl", command, "--into", "taken.http"]),
            ("allow", 0, &["allow"]),
            ("allow_list", 0, &["allow", "--list"]),
            ("allow_revoke", 0, &["allow", "--revoke"]),
        ],
    );
}
