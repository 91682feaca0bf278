//! A canary is set as a secret in every way there is; then every command is run, and everything it says
//! and everything it writes is searched for it. Later commands join the list.

use crate::support::editor::Editor;
use crate::support::terminal::Terminal;
use crate::support::{TestWorkspace, raw_server};
use base64::Engine as _;
use serde_json::json;

/// A secret with characters that every encoding writes in its own way.
const CANARY: &str = "canary/7f\"+é 9";

/// The forms in which it must not be found.
fn forms() -> Vec<String> {
    let hex: String = CANARY.bytes().map(|byte| format!("{byte:02x}")).collect();
    let percent: String = CANARY
        .bytes()
        .map(|byte| if byte.is_ascii_alphanumeric() { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect();
    let json = serde_json::Value::from(CANARY).to_string();
    let base64 = base64::engine::general_purpose::STANDARD.encode(CANARY);
    let safe = base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(CANARY);
    let within = base64::engine::general_purpose::STANDARD.encode(format!("clerk:{CANARY}"));
    vec![
        CANARY.to_owned(),
        "canary".to_owned(),
        json.trim_matches('"').to_owned(),
        CANARY.replace('"', "%22"),
        percent.replace("%20", "+"),
        percent.to_lowercase(),
        percent,
        hex.to_uppercase(),
        hex,
        base64.trim_end_matches('=').to_owned(),
        safe,
        within[8..within.len() - 4].to_owned(),
    ]
}

#[track_caller]
fn search(what: &str, bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    for form in forms() {
        assert!(!text.contains(&form), "{what} tells the secret as {form}:\n{text}");
    }
}

/// A workspace whose requests send the canary in each place and get it back from the server.
fn workspace() -> TestWorkspace {
    let quoted = serde_json::Value::from(CANARY).to_string();
    let workspace = TestWorkspace::new();
    let base = workspace.base();
    let head = "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n\r\n";
    let stream = format!("{head}id: {CANARY}\nevent: {CANARY}\ndata: {quoted}\n\ndata: {CANARY}\n\n");
    workspace
        .file(
            "yieldtray.toml",
            &format!(
                "[workspace]\nenvironment = 'local'\n[environments.local.values]\nbase = '{base}'\n\
                 pin = {{ from = 'env:PIN', secret = true }}\ndot = {{ from = 'env:DOT', secret = true }}\n\
                 filed = {{ from = 'file:pin.txt', secret = true }}\n[environments.live.values]\nbase = '{base}'\n\
                 [oauth2.shift]\ntoken_url = '{{{{base}}}}/oauth/token'\nclient_id = 'desk'\nclient_secret = '{{{{plain}}}}'\n"
            ),
        )
        .file(
            "yieldtray.local.toml",
            &format!(
                "[env]\nallow = ['PIN']\n[values]\nplain = {{ value = {quoted}, secret = true }}\n\
                 run = {{ command = ['cat', 'pin.txt'], secret = true }}\n\
                 broken = {{ command = ['sh', '-c', 'cat pin.txt >&2; exit 3'], secret = true }}\n"
            ),
        )
        .file("pin.txt", CANARY)
        .file(".env", &format!("DOT='{CANARY}'\n"))
        .file(
            "a.http",
            "%% Everywhere
% ask asked \"Password?\" secret default pin
% let basic = base64('clerk:' + plain)
POST /session?pin={{pin}}&hex={{run}}
Authorization: Basic {{basic}}
Cookie: a={{urlsafe}}
X-Api-Key: {{base64(plain)}}
X-Note: {{base64(filed)}}

{ \"email\": \"{{asked}}\", \"password\": \"{{dot}}\", \"more\": {{plain}} }

% yield echoed = sent.body secret
% yield whole = sent
% check sent.body == 'no'
% check sent.url == pin else \"the pin is {{pin}}\"
% check sent.headers['x-note'] == base64(filed) && false
% check size(plain) == -1 || plain.startsWith('no') || [plain, 'x'].exists(p, p == 'no')
% check parse_json(plain) == 1

%% Fails
GET /{{broken}}

%% Signs
% auth basic clerk {{pin}}
POST /echo
% field pin = {{pin}}
% query pin = {{plain}}

%% Parts
% auth bearer {{hex(bytes(plain))}}
POST /echo
% part pin = {{pin}}
% part {{plain}} from a.http as {{pin}}
% save saved/{{sha256(pin)}}.json

%% Digest
% auth digest {{hex(bytes(pin))}} {{plain}}
/ledger

%% Token
% auth oauth2 shift
/payroll

%% Key
% auth key query pin {{plain}}
/echo

%% Talk
GET /scale/socket
X-Api-Key: {{plain}}

% expect message.ready within 5s
% say {\"want\": \"tare\", \"kg\": {{plain}}, \"of\": \"{{pin}}\"}
% expect message.of == 'no' within 300ms

%% Stream
GET STREAM

% check events.all(e, e.data == 'no' || e.event == 'no')
% yield last = event

%% Lots of it
GET /lots?ref={{plain}}
"
            .replace("{{urlsafe}}", "{{base64(plain)}}")
            .replace("STREAM", &raw_server(stream.into_bytes().leak(), false))
            .as_str(),
        )
        .file("b.http", "%% Missing\n% let x = parse_json(plain)\nGET /{{x}}\nX-A: {{nothing + plain}}\n")
}

#[test]
fn no_command_tells_a_secret() {
    let workspace = workspace();
    let variables = [("PIN", CANARY)];
    let commands: &[&[&str]] = &[
        &["send", "everywhere"],
        &["send", "everywhere", "--show", "all"],
        &["send", "everywhere", "--json"],
        &["send", "everywhere", "-v"],
        &["send", "everywhere", "--pick", "sent"],
        &["send", "everywhere", "--pick", "sent.body"],
        &["send", "fails"],
        &["send", "missing"],
        &["send", "missing", "--json"],
        &["send", "lots-of-it", "--output", "lots.json"],
        &["send", "--text", "GET /{{parse_json(plain)}}"],
        &["replay"],
        &["replay", "--json"],
        &["replay", "-v", "--save-yields"],
        &["replay", "--report", "junit=r.xml", "--report", "tap=r.tap", "--report", "html=r.html"],
        &["replay", "--report", "json=r.json", "--report", "har=r.har", "--json"],
        &["report", "merge", "r.json", "--report", "html=j.html"],
        &["prove"],
        &["prove", "--json"],
        &["replay", "--set", "plain=other", "--set", "pin=canary/7f\"+é 9"],
        &["list"],
        &["list", "--json"],
        &["list", "--graph"],
        &["values"],
        &["values", "--json"],
        &["values", "everywhere"],
        &["values", "--all-envs"],
        &["values", "--all-envs", "--json"],
        &["values", "--functions"],
        &["env"],
        &["env", "--json"],
        &["env", "dress", "--copy-from", "local"],
        &["env", "local"],
        &["tray"],
        &["tray", "--json"],
        &["send", "everywhere", "--dry-run"],
        &["send", "everywhere", "--dry-run", "--json"],
        &["send", "everywhere", "--show", "cookies,timeline"],
        &["send", "signs"],
        &["send", "signs", "--show", "all"],
        &["send", "signs", "--json"],
        &["send", "parts", "--show", "all"],
        &["send", "digest", "--show", "all"],
        &["send", "token"],
        &["send", "token", "--json"],
        &["token"],
        &["token", "get", "shift", "--json"],
        &["token", "revoke", "shift"],
        &["send", "key", "--show", "all"],
        &["send", "talk"],
        &["send", "talk", "--show", "all"],
        &["send", "talk", "--json"],
        &["send", "stream"],
        &["send", "stream", "--json"],
        &["send", "stream", "--show", "all"],
        &["send", "--text", "GET /echo", "-H", "X-Api-Key: {{plain}}", "--append", "tried.http"],
        &["cookies"],
        &["cookies", "--json"],
        &["lint"],
        &["lint", "--json"],
        &["lint", "--report", "sarif=lint.sarif"],
        &["tidy", "--check"],
        &["log"],
        &["log", "--json", "--limit", "500"],
        &["log", "--grep", "clerk"],
        &["log", "show", "1", "--show", "all"],
        &["log", "show", "--json"],
        &["log", "again", "1", "--show", "all"],
        &["log", "again", "1", "--exactly", "--show", "all"],
        &["log", "again", "1", "--exactly", "--json"],
        &["log", "compare", "1", "2"],
        &["log", "compare", "1", "2", "--json"],
        &["log", "compare", "-e", "local", "-e", "live", "signs"],
        &["log", "export", "har", "--output", "log.har"],
        &["log", "trend", "everywhere", "--output", "trend.html"],
        &["replay", "--from-log"],
        &["replay", "--from-log", "--json"],
    ];
    for args in commands {
        let run = workspace.run_with(args, "", &variables);
        search(&format!("{args:?}"), run.both().as_bytes());
        assert!(!run.both().contains("panicked"), "{args:?}: {}", run.both());
    }
    for args in [&["send", "everywhere", "--show", "all"][..], &["replay"], &["values"], &["tray"]] {
        let mut terminal = Terminal::start(&workspace, args, 400, &variables);
        if args[0] == "send" || args[0] == "replay" {
            terminal.wait_for("Password?").type_in(CANARY).type_in("\r");
        }
        search(&format!("{args:?} in a terminal"), terminal.end().1.as_bytes());
    }
    let searched = search_files(&workspace);
    assert!(searched >= 5, "the state and the key were searched too");
}

/// Searches all files that were written, and returns their number.
fn search_files(workspace: &TestWorkspace) -> usize {
    // Files in which the test wrote the canary, and those of `% save`, are left out;
    // everything else was written by us.
    let own = ["pin.txt", ".env", "yieldtray.local.toml", "saved"];
    let mut searched = 0;
    let mut folders = vec![workspace.path().to_owned(), workspace.home().to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).expect("a folder") {
            let path = entry.expect("an entry").path();
            let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            if own.contains(&name.as_str()) {
                continue;
            }
            if path.is_dir() {
                folders.push(path);
            } else {
                search(&name, &std::fs::read(&path).expect("a file"));
                searched += 1;
            }
        }
    }
    searched
}

#[test]
fn no_editor_is_told_a_secret() {
    let workspace = workspace();
    let mut editor = Editor::raw_with(&workspace, &[], &[("PIN", CANARY)]);
    let able = json!({ "window": { "showDocument": { "support": true } } });
    editor.ask("initialize", json!({ "capabilities": able, "initializationOptions": { "asks": true } }));
    editor.open("a.http");
    editor.open("b.http");
    let text = std::fs::read_to_string(workspace.path().join("a.http")).expect("the file is there");
    for name in ["everywhere", "signs", "parts", "digest", "token", "key", "talk", "stream", "fails"] {
        editor.run("yieldtray.sendWithNeeds", "a.http", Some(name));
        if name == "everywhere" {
            let asked = editor.wait(|message| message["method"] == "yieldtray/ask");
            editor.reply(&asked, json!(CANARY));
        }
        editor.sheet();
    }
    editor.run("yieldtray.judge", "a.http", Some("everywhere"));
    editor.sheet();
    editor.run("yieldtray.replay", "a.http", None);
    let asked = editor.wait(|message| message["method"] == "yieldtray/ask");
    editor.reply(&asked, json!(CANARY));
    editor.sheet();
    let uri = editor.uri("a.http");
    let whole = json!({ "start": { "line": 0, "character": 0 }, "end": { "line": 999, "character": 0 } });
    for (line, written) in text.lines().enumerate() {
        for column in (0..written.len() as u32).step_by(3) {
            editor.at("textDocument/hover", "a.http", line as u32, column);
        }
        editor.at("textDocument/completion", "a.http", line as u32, written.len() as u32);
    }
    for method in ["textDocument/inlayHint", "textDocument/codeAction"] {
        editor.ask(method, json!({ "textDocument": { "uri": uri }, "range": whole, "context": { "diagnostics": [] } }));
    }
    editor.about("textDocument/codeLens", "a.http");
    let said = editor.said();
    assert!(said.contains("[secret]") && said.matches("showDocument").count() >= 8, "it said much");
    search("the language server", said.as_bytes());
    editor.end();
    assert!(search_files(&workspace) >= 8, "the sheets were searched too");
}

#[test]
fn a_secret_that_was_kept_is_used_and_hidden() {
    let workspace = TestWorkspace::new().file(
        "a.http",
        "%% Sign in\nPOST /session\n\n{ \"email\": \"clerk@packhouse.example\", \"password\": \"windfall-local\" }\n\n\
         % yield token = body.token secret\n\n%% Book in\nPOST /lots?t={{token}}\nAuthorization: Bearer {{token}}\n\n\
         { \"grower\": \"G-11\", \"bins\": 3, \"ref\": \"{{token}}\" }\n\n% check status == 201\n",
    );
    let first = workspace.run(&["send", "sign-in", "--json"]).exits(0);
    assert!(first.stdout.contains("[secret]"), "{}", first.stdout);
    let second = workspace.run(&["send", "book-in", "--show", "all"]).exits(0);
    assert!(
        second.stdout.contains("\"ref\": \"[secret]\"") && second.stdout.contains("?t=[secret]"),
        "{}",
        second.stdout
    );
}

#[test]
fn a_secret_that_a_later_line_brings_is_hidden_in_an_earlier_one() {
    let workspace = TestWorkspace::new().file(
        "a.http",
        "%% Echo\nPOST /echo\n\n{ \"said\": \"it is canary-44\" }\n\n\
         % yield said = body.body\n% yield pin = find(body.body, 'canary-[0-9]+') secret\n% check status == 200\n",
    );
    for args in
        [&["replay", "a.http"][..], &["replay", "a.http", "--json"], &["send", "echo"], &["log", "show", "1", "--json"]]
    {
        let record = workspace.run(args).exits(0).both();
        assert!(record.contains("[secret]") && !record.contains("canary-44"), "{args:?}: {record}");
    }
}

#[test]
fn a_mistake_is_told_without_the_secret_that_stands_beside_it() {
    let quoted = serde_json::Value::from(CANARY).to_string();
    let lines = |text: &str| format!("[values]\npin = {{ value = \"\"\"\n{text}\n\"\"\", secret = true }}\n");
    let private = [
        format!("[values]\npin = {{ value = {quoted}, secert = true }} # {CANARY}\n"),
        format!("# {CANARY}\n[values]\npin = {{ value = {quoted}, secret = true\n"),
        format!("[values]\npin = {CANARY}\n"),
        format!("[values]\npin = {{ from = {quoted}, secret = true }}\n"),
        lines(&format!("first\n{}=", CANARY.replace('"', ""))) + "odd = 1\n[send]\nlimit = \"soon\"\n",
    ];
    for text in private {
        let workspace = TestWorkspace::empty().file("yieldtray.local.toml", &text).file("a.http", "%% A\n/lots\n");
        for command in ["list", "lint", "send"] {
            let run = workspace.run(&[command, "a.http"]).exits(2);
            assert!(run.stderr.contains("yieldtray.local.toml:"), "{command}: {}", run.stderr);
            search(command, run.stderr.as_bytes());
            search(command, &run.bytes);
        }
    }

    // `lint` does not print a secret that it finds.
    let config = format!("[values]\npin = {{ value = {quoted}, secret = true }}\n");
    let cell = "%% A\nGET http://b/lots\nX-Api-Key: canary7fQ9zX4mK2pL canary7fQ9zX4mK2pM\n";
    let workspace = TestWorkspace::empty().file("yieldtray.toml", &config).file("a.http", cell);
    let found = workspace.run(&["lint"]).exits(2);
    assert!(found.stdout.contains("secret-in-file") && found.stdout.contains("X-Api-Key: *****"), "{}", found.stdout);
    search("lint", &found.bytes);
    // Nor what it was given: an option is named, and nothing else of a command.
    for command in ["curl -u clerk:canary --frob=canary http://b", "curl http://b \\\n  canary -H 'X-Api-Key: canary"] {
        let refused = TestWorkspace::empty().run(&["import", "curl", command]).exits(2);
        assert!(refused.stderr.contains("error[shell-command]"), "{}", refused.stderr);
        search("import", refused.stderr.as_bytes());
    }
    // A secret of several lines is hidden in all of them.
    let change = "curl http://b/lots -u 'clerk:first\npart=canary'";
    let dry = TestWorkspace::empty()
        .file("curl.sh", change)
        .run(&["import", "curl", "curl.sh", "--into", "b.http", "--dry-run"])
        .exits(0);
    assert!(
        dry.stdout.contains("clerk_password = { value = [secret], secret = true, for = [\"http://b\"] }"),
        "{}",
        dry.stdout
    );
    search("import --dry", &dry.bytes);
}

#[test]
fn a_secret_comes_from_a_file_or_a_pipe_and_not_from_the_command_line() {
    let workspace = TestWorkspace::new()
        .file("pin.txt", "windfall-2026\r\n")
        .file("a.http", "GET /echo?pin={{pin}}\n\n% check status == 200\n");
    let arrived = |run: crate::support::Run| {
        assert!(!run.both().contains("windfall"), "{}", run.both());
        run
    };
    let args = ["send", "a.http", "--show", "all", "--set-from"];
    let run = arrived(workspace.run(&[&args[..], &["pin=pin.txt"]].concat()).exits(0));
    assert!(run.stdout.contains("/echo?pin=[secret]"), "{}", run.stdout);
    arrived(workspace.run_with(&[&args[..], &["pin=-"]].concat(), "windfall-2027\n", &[]).exits(0));
    let pick = ["send", "a.http", "--pick", "body.target.endsWith('pin=windfall-2027')", "--set-from", "pin=-"];
    assert_eq!(workspace.run_with(&pick, "windfall-2027\n", &[]).exits(0).stdout, "true\n");
    let listed = arrived(workspace.run(&["values", "--set-from", "pin=pin.txt"]).exits(0));
    assert!(listed.stdout.contains("pin"), "{}", listed.stdout);
    for (given, message) in [
        ("pin", "`--set-from pin` is missing a file"),
        ("pin=", "`--set-from pin=` is missing a file"),
        ("pin=gone.txt", "cannot read the value of `pin` from `gone.txt`"),
        ("a b=pin.txt", "`a b` is not a valid variable name"),
    ] {
        let run = workspace.run(&[&args[..], &[given]].concat()).exits(2);
        assert!(run.stderr.contains(message), "{given}: {}", run.stderr);
    }
}
