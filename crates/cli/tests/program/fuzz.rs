//! Altered input for each parser of the built program, and for its language server: whatever comes in, the program
//! ends in time with one of its exit codes, prints whole JSON where JSON was asked for, and lays files out once.
//!
//! What is altered how follows from a number: a failure names it, and `YIELDTRAY_FUZZ_SEED` starts there again.
//! `YIELDTRAY_FUZZ_SECONDS` says how long each target is tried (CONTRIBUTING.md).

use crate::support::editor::Editor;
use crate::support::{Run, TestWorkspace};
use serde_json::{Value, json};
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// How long one run may take, on a busy machine and in a build that is not optimized.
const LONGEST: Duration = Duration::from_secs(60);

const REQUESTS: &str = "% let crate = \"C-\" + string(2 + 3)\n% header Accept: application/json\n\n%% Book a lot in\n\
    # From the gate.\n% tag smoke, slow\n% query per page = 20\n% timeout 2s\nPOST /lots?gate={{gate}} HTTP/1.1\nX-Crate: {{crate}}\n\n\
    { \"grower\": \"G-11\", \"bins\": [1, 2.5, null], \"é\": \"🍏\" }\n\n% yield lot = body.id secret\n\
    % check booked: status == 201 else \"the gate said {{text}}\"\n% check path(body, \"$.lots[?@.kg > 5].id\").size() > 0\n\
    % check conforms(body, \"lot.schema.json\")\n\n%% Weigh\n% needs book-a-lot-in\n% each row in \"rows.csv\"\n\
    % wait until status == 200 every 1s for 3s\n% auth basic clerk \"windfall\"\nPUT http://127.0.0.1:1/lots/{{lot}}/{{row.tray}}\n\n\
    % part label = \"PH-1\" type text/plain\n% part photo from \"rows.csv\"\n\n%% Morning\n% play weigh with lot = \"L-1\" times 2\n\
    % afterwards\n";
const FORM: &str = "%% Sign in\n% ask pin \"PIN?\" secret\n% field name = \"clerk\"\n% field pin = pin\nPOST http://127.0.0.1:1/session\n\n\
    % check !headers.all(h, h != \"x\") && matches(text, \"^[a-z]{1,3}(x|y)*$\")\n% save \"a.json\"\n";
const CONFIG: &str = "[workspace]\nrequests = \"requests\"\nenvironment = \"local\"\nsaved = \"saved\"\n\n[values]\nseason = 2026\n\
    key = { value = \"local-key-4616\", secret = true }\npin = { from = \"env:PIN\" }\nsum = { is = \"season + 1\" }\n\n[functions]\n\
    label = { params = [\"lot\"], is = \"'PH-' + lot\", help = \"a label\" }\n\n[send]\ntimeout = \"10s\"\nbody_limit = 4096\n\n\
    [oauth2.desk]\ntoken_url = '{{base}}/token'\nclient_id = 'desk'\n\n[lint]\nunused-value = \"off\"\n\n\
    [environments.local]\ntint = \"green\"\n\n[environments.local.values]\nbase = \"http://127.0.0.1:1\"\n";
const DOT_ENV: &str = "# Of this machine.\nexport PIN='46 16'\nKEY=\"a\\nb\" # why\nLONG='first\nsecond'\nEMPTY=\n";
const ROWS: &str = "tray,kg,grower\n1,11.4,\"G-11, north\"\n2,,\"a \"\"b\"\"\"\n";
const SCHEMA: &str = "{ \"$schema\": \"https://json-schema.org/draft/2020-12/schema\", \"type\": \"object\", \"required\": [\"id\"],\
    \"properties\": { \"id\": { \"type\": \"string\", \"pattern\": \"^L-[0-9]{1,4}$\" }, \"at\": { \"format\": \"date-time\" },\
    \"of\": { \"$ref\": \"#/$defs/lot\" } }, \"$defs\": { \"lot\": { \"anyOf\": [{ \"$ref\": \"#\" }, { \"enum\": [1, null] }] } } }";
const COMMANDS: [&str; 3] = [
    "curl -X POST 'http://127.0.0.1:1/lots?gate=north' -H 'Content-Type: application/json' -H \"X-Crate: C-1\" \\\n \
     --data-raw $'{\"note\":\"it\\'s\"}' -u clerk:windfall --compressed -k\n",
    "curl.exe ^\"http://127.0.0.1:1/^\" -H ^\"Accept: */*^\" --data-raw ^\"^{^\\^\"bins^\\^\":24^}^\"\n",
    "curl -F 'photo=@tray.png;type=image/png' -F note=\"two, three\" --data-urlencode 'a@b.txt' -d @- http://127.0.0.1:1 <<'END'\nbody\nEND\n",
];
const RECORDING: &str = r#"{"log":{"version":"1.2","creator":{"name":"desk","version":"1"},"pages":[{"id":"p1","title":"Lots","startedDateTime":"2026-11-29T08:00:00Z","pageTimings":{}}],"entries":[{"pageref":"p1","startedDateTime":"2026-11-29T08:00:00.5Z","time":12.5,"request":{"method":"POST","url":"http://127.0.0.1:1/lots?gate=north","httpVersion":"HTTP/1.1","headers":[{"name":"Content-Type","value":"application/json"},{"name":"Authorization","value":"Bearer abcdefghijklmnop0123456789"}],"queryString":[{"name":"gate","value":"north"}],"cookies":[],"postData":{"mimeType":"application/json","text":"{\"bins\":24}"},"headersSize":-1,"bodySize":11},"response":{"status":201,"statusText":"Created","httpVersion":"HTTP/1.1","headers":[{"name":"Content-Type","value":"application/json"}],"cookies":[],"content":{"size":11,"mimeType":"application/json","text":"{\"id\":\"L\"}"},"redirectURL":"","headersSize":-1,"bodySize":11},"cache":{},"timings":{"send":1,"wait":2,"receive":3}}]}}"#;
const DESCRIPTION: &str = "openapi: 3.1.0\ninfo: { title: Packhouse, version: '1' }\nservers:\n  - url: https://{gate}.packhouse.example/v1\n    \
    variables: { gate: { default: north, enum: [north, south] } }\npaths:\n  /lots/{id}:\n    parameters:\n      - { name: id, in: path, required: true, schema: { type: string, pattern: '^L-\\d{2,4}$' } }\n    \
    put:\n      operationId: changeLot\n      tags: [lots]\n      security: [{ key: [] }]\n      requestBody:\n        content:\n          application/json:\n            schema: { $ref: '#/components/schemas/Lot' }\n      \
    responses:\n        '200':\n          content:\n            application/json:\n              schema: { $ref: '#/components/schemas/Lot' }\ncomponents:\n  \
    securitySchemes:\n    key: { type: apiKey, in: header, name: X-Api-Key }\n  schemas:\n    Lot:\n      type: object\n      required: [id, bins]\n      \
    properties:\n        id: { type: string }\n        bins: { type: integer, minimum: 1 }\n        parent: { $ref: '#/components/schemas/Lot' }\n        at: { type: string, format: date-time }\n";
const ANSWERS: [&str; 4] = [
    "HTTP/1.1 200 OK\r\nContent-Type: application/json; charset=utf-8\r\nContent-Length: 41\r\nSet-Cookie: desk=1; Path=/; Secure\r\nConnection: close\r\n\r\n\
     {\"id\":\"L-1\",\"lots\":[{\"kg\":6}],\"x\":\"\\u00fc\"}",
    "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nContent-Type: application/xml\r\n\r\n1b\r\n<!DOCTYPE l><l a=\"1\">&lt;</l>\r\n0\r\nX-End: 1\r\n\r\n",
    "HTTP/1.1 302 Found\r\nLocation: /there?a=b\r\nContent-Encoding: gzip\r\nWWW-Authenticate: Basic realm=\"desk\"\r\nContent-Length: 0\r\n\r\n",
    "HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 404 Not Found\r\nContent-Type: text/html\r\n\r\n<html><body>\u{1b}[31mnone</body>",
];

/// Texts that are inserted at random positions: some that the parsers look for, and some that they do not expect.
const TOKENS: &[&str] = &[
    "\n",
    "\n\n",
    "\r\n",
    "\r",
    "\t",
    " ",
    "%",
    "%%",
    "% ",
    "\n%% x\n",
    "{{",
    "}}",
    "{",
    "}",
    "[",
    "]",
    "(",
    ")",
    "\"",
    "'",
    "\\",
    "#",
    ":",
    ",",
    "=",
    "\u{0}",
    "\u{1b}",
    "\u{feff}",
    "\u{a0}",
    "é",
    "🍏",
    "\u{202e}",
    "-",
    "0",
    "-1",
    "99999999999999999999",
    "1e999",
    "NaN",
    "null",
    "true",
    "http://",
    "//",
    "..",
    "*",
    "&a",
    "*a",
    "<<",
    "<!ENTITY x \"y\">",
    "&x;",
    "^",
    "$(",
    "$ref",
    "\\u0000",
    "\\ud800",
    "% check ",
    "% each ",
    "% play ",
    "map",
    "type",
    ".all(x, x)",
    "path(body, \"$..*\")",
    "matches(\"(a+)+$\")",
    "[[",
    "]]",
    "@",
    "-d",
    "-F ",
    "-H ",
    "Content-Length: 5\r\n",
];

/// Alters texts, each time in the way its number says.
struct Changer {
    random: fastrand::Rng,
}

impl Changer {
    fn place(&mut self, text: &str) -> usize {
        text.floor_char_boundary(self.random.usize(..=text.len()))
    }

    /// Where a part of the text begins and ends: mostly short, sometimes lines.
    fn part(&mut self, text: &str) -> (usize, usize) {
        let from = self.place(text);
        let end = if self.random.bool() {
            text[from..].find('\n').map_or(text.len(), |end| from + end + 1)
        } else {
            text.floor_char_boundary((from + self.random.usize(1..12)).min(text.len()))
        };
        (from, end.max(from))
    }

    /// One of the texts, altered in a few places.
    fn changed(&mut self, seeds: &[&str]) -> String {
        let mut text = seeds[self.random.usize(..seeds.len())].to_owned();
        for _ in 0..self.random.usize(1..6) {
            let (from, end) = self.part(&text);
            match self.random.u8(..10) {
                0 | 1 => text.replace_range(from..end, ""),
                2 => text.truncate(from),
                3 => {
                    let part = text[from..end].repeat(self.random.usize(2..200));
                    text.insert_str(end, &part);
                }
                4 => {
                    let (part, at) = (text[from..end].to_owned(), self.place(&text));
                    text.insert_str(at, &part);
                }
                5 => {
                    let other = seeds[self.random.usize(..seeds.len())];
                    let (begin, stop) = self.part(other);
                    text.insert_str(from, &other[begin..stop]);
                }
                _ => text.insert_str(from, TOKENS[self.random.usize(..TOKENS.len())]),
            }
        }
        text
    }

    /// The same as bytes, now and then with one that is not UTF-8.
    fn changed_bytes(&mut self, seeds: &[&str]) -> Vec<u8> {
        let text = self.changed(seeds);
        let at = self.place(&text);
        let mut bytes = text.into_bytes();
        if self.random.u8(..20) == 0 {
            bytes.insert(at, 0xff);
        }
        bytes
    }
}

fn number(variable: &str, default: u64) -> u64 {
    std::env::var(variable).ok().map_or(default, |value| value.parse().expect("a number"))
}

/// Tries altered input until the time is over, each with a number of its own.
fn fuzz(mut tried: impl FnMut(&mut Changer)) {
    struct SeedOnPanic(u64);
    impl Drop for SeedOnPanic {
        fn drop(&mut self) {
            #[allow(clippy::print_stderr)] // a failed test says with which number it begins again
            if std::thread::panicking() {
                eprintln!("this was YIELDTRAY_FUZZ_SEED={}", self.0);
            }
        }
    }
    let end = Instant::now() + Duration::from_secs(number("YIELDTRAY_FUZZ_SECONDS", 3));
    let mut current = SeedOnPanic(number("YIELDTRAY_FUZZ_SEED", 4616));
    while Instant::now() < end {
        tried(&mut Changer { random: fastrand::Rng::with_seed(current.0) });
        current.0 += 1;
    }
}

/// Runs the program with two gigabytes of address space and a minute of processor time, and checks how it ends.
#[track_caller]
fn tried(workspace: &TestWorkspace, args: &[&str], input: &[u8]) -> Run {
    let mut command = Command::new("sh");
    command
        .args(["-c", "ulimit -v 2000000; ulimit -t 60; exec \"$0\" \"$@\""])
        .arg(crate::support::program())
        .args(args);
    command
        .current_dir(workspace.path())
        .env("XDG_STATE_HOME", workspace.home())
        .env("YIELDTRAY_ALLOW", workspace.path());
    command.env_remove("YIELDTRAY_ENV").stdin(Stdio::null());
    let begun = Instant::now();
    let run = crate::support::run(command, "");
    let about = || format!("{args:?} with {:?}\n{}", String::from_utf8_lossy(input), run.both());
    assert!(run.code <= 3, "{}", about());
    assert!(begun.elapsed() < LONGEST, "it took {:?}: {}", begun.elapsed(), about());
    if args.contains(&"--json") {
        assert!(serde_json::from_slice::<Value>(&run.bytes).is_ok(), "no JSON: {}", about());
    }
    assert!(run.code == 0 || !run.stdout.is_empty() || !run.stderr.is_empty(), "not a word: {}", about());
    run
}

fn workspace() -> TestWorkspace {
    TestWorkspace::empty()
        .file("yieldtray.toml", "[values]\nbase = \"http://127.0.0.1:1\"\ngate = \"north\"\n")
        .file("lot.schema.json", SCHEMA)
        .file("rows.csv", ROWS)
}

fn write(workspace: &TestWorkspace, file: &str, bytes: &[u8]) {
    std::fs::write(workspace.path().join(file), bytes).expect("files can be written");
}

fn read(workspace: &TestWorkspace, file: &str) -> Vec<u8> {
    std::fs::read(workspace.path().join(file)).expect("the file is there")
}

#[test]
fn request_files() {
    let workspace = workspace();
    fuzz(|changer| {
        let bytes = changer.changed_bytes(&[REQUESTS, FORM]);
        write(&workspace, "a.http", &bytes);
        tried(&workspace, &["lint", "a.http", "--json"], &bytes);
        tried(&workspace, &["list", "--graph"], &bytes);
        tried(&workspace, &["send", "--dry-run", "--json", "a.http:1"], &bytes);
        tried(&workspace, &["tidy", "a.http"], &bytes);
        let once = read(&workspace, "a.http");
        tried(&workspace, &["tidy", "a.http"], &bytes);
        let (once, twice) = (String::from_utf8_lossy(&once).into_owned(), read(&workspace, "a.http"));
        assert_eq!(once, String::from_utf8_lossy(&twice), "{:?}", String::from_utf8_lossy(&bytes));
    });
}

#[test]
fn configurations() {
    let workspace = workspace().file("a.http", "%% Look\n% auth oauth2 desk\nGET /lots?{{sum}}&{{label(key)}}\n");
    fuzz(|changer| {
        let bytes = changer.changed_bytes(&[CONFIG]);
        write(&workspace, "yieldtray.toml", &bytes);
        tried(&workspace, &["values", "--json"], &bytes);
        tried(&workspace, &["lint", "--json"], &bytes);
        tried(&workspace, &["send", "--dry-run", "--json", "a.http"], &bytes);
    });
}

#[test]
fn files_that_requests_read() {
    let dry = "% each row in \"rows.csv\"\nGET /lots/{{row.tray}}?pin={{pin}}\n\n% check conforms(body, \"lot.schema.json\")\n";
    let workspace = workspace()
        .file("yieldtray.toml", "[values]\nbase = \"http://127.0.0.1:1\"\npin = { from = \"env:PIN\" }\n")
        .file("a.http", dry)
        .file("b.http", &dry.replace("csv", "json"));
    fuzz(|changer| {
        let rows = changer.changed_bytes(&[ROWS]);
        write(&workspace, "rows.csv", &rows);
        let json = changer.changed_bytes(&["[{\"tray\": 1, \"kg\": 1.5}, {\"tray\": \"é\"}]", SCHEMA]);
        write(&workspace, "rows.json", &json);
        let (schema, variables) = (changer.changed_bytes(&[SCHEMA]), changer.changed_bytes(&[DOT_ENV]));
        write(&workspace, "lot.schema.json", &schema);
        write(&workspace, ".env", &variables);
        let all = [rows, json, schema, variables].join(&b"\n--- and\n"[..]);
        tried(&workspace, &["lint", "--json"], &all);
        tried(&workspace, &["send", "--dry-run", "--json", "a.http"], &all);
        tried(&workspace, &["send", "--dry-run", "--json", "b.http"], &all);
    });
}

#[test]
fn commands_of_curl() {
    let workspace = workspace();
    fuzz(|changer| {
        let bytes = changer.changed_bytes(&COMMANDS);
        write(&workspace, "commands.sh", &bytes);
        let run = tried(&workspace, &["import", "curl", "commands.sh"], &bytes);
        // An imported file can be parsed.
        if run.code == 0 {
            write(&workspace, "taken.http", &run.bytes);
            tried(&workspace, &["lint", "taken.http", "--json"], &bytes);
            let tidied = tried(&workspace, &["tidy", "--check", "taken.http"], &bytes);
            assert_eq!(tidied.code, 0, "{:?}\n{}\n{}", String::from_utf8_lossy(&bytes), run.stdout, tidied.both());
        }
    });
}

#[test]
fn recordings_and_descriptions() {
    let workspace = workspace();
    fuzz(|changer| {
        let bytes = changer.changed_bytes(&[RECORDING]);
        write(&workspace, "desk.har", &bytes);
        tried(&workspace, &["import", "har", "desk.har", "--everything", "--with-checks"], &bytes);
        let bytes = changer.changed_bytes(&[DESCRIPTION]);
        write(&workspace, "packhouse.yaml", &bytes);
        let _ = std::fs::remove_dir_all(workspace.path().join("made"));
        let run = tried(&workspace, &["import", "openapi", "packhouse.yaml", "--into", "made"], &bytes);
        if run.code == 0 {
            tried(&workspace, &["lint", "made", "--json"], &bytes);
            // A second time adds nothing.
            let again =
                tried(&workspace, &["import", "openapi", "packhouse.yaml", "--into", "made", "--dry-run"], &bytes);
            assert!(!again.stdout.contains("%% "), "{:?}\n{}", String::from_utf8_lossy(&bytes), again.both());
        }
    });
}

#[test]
fn reports() {
    let workspace =
        workspace().file("a.http", "% each row in \"rows.csv\"\nGET /lots/{{row.tray}}\n\n% check status == 200\n");
    workspace.run(&["replay", "--report", "json=whole.json"]).exits(3);
    let whole = String::from_utf8(read(&workspace, "whole.json")).expect("text");
    fuzz(|changer| {
        let bytes = changer.changed_bytes(&[&whole]);
        write(&workspace, "part.json", &bytes);
        tried(&workspace, &["report", "merge", "part.json", "whole.json", "--report", "html=all.html"], &bytes);
    });
}

#[test]
fn responses() {
    let answer: Arc<Mutex<Vec<u8>>> = Arc::default();
    let next = Arc::clone(&answer);
    let base = crate::support::server(move |_| (Duration::ZERO, next.lock().expect("nobody failed with it").clone()));
    let workspace = workspace().file("yieldtray.toml", &format!("[values]\nbase = \"{base}\"\n[send]\ntimeout = \"1s\"\n")).file(
        "a.http",
        "GET /lots\n\n% yield lot = body.id\n% check path(body, \"$..kg\").size() > 0\n% check xpath(text, \"count(//l)\") > 0.0\n\
         % check conforms(body, \"lot.schema.json\")\n% check find(text, \"L-([0-9]+)\") == \"1\"\n",
    );
    fuzz(|changer| {
        let bytes = changer.changed_bytes(&ANSWERS);
        answer.lock().expect("nobody failed with it").clone_from(&bytes);
        tried(&workspace, &["send", "a.http", "--json"], &bytes);
        tried(&workspace, &["log", "show", "--json"], &bytes);
    });
}

/// A language server in the place of a file that is written, with what an editor asks for at each place.
#[test]
fn the_language_server() {
    const QUESTIONS: [&str; 7] =
        ["completion", "hover", "definition", "references", "signatureHelp", "prepareRename", "documentHighlight"];
    const OF_A_FILE: [&str; 6] =
        ["documentSymbol", "codeLens", "semanticTokens/full", "foldingRange", "inlayHint", "formatting"];
    let workspace = workspace().file("a.http", REQUESTS);
    let mut editor = Editor::start(&workspace);
    editor.open("a.http");
    fuzz(|changer| {
        let text = changer.changed(&[REQUESTS, FORM]);
        editor.forget();
        editor.change("a.http", &text);
        let lines = text.lines().count() as u32;
        let uri = json!({ "uri": editor.uri("a.http") });
        for _ in 0..4 {
            let (line, character) = (changer.random.u32(..lines + 2), changer.random.u32(..60));
            let position = json!({ "line": line, "character": character });
            // A change that nobody waits for, and a question right behind it.
            let typed = json!([{ "range": { "start": position, "end": position }, "text": TOKENS[changer.random.usize(..TOKENS.len())] }]);
            editor.change_unheard("a.http", typed);
            let question = QUESTIONS[changer.random.usize(..QUESTIONS.len())];
            let mut params = json!({ "textDocument": uri, "position": position });
            params["context"] = json!({ "includeDeclaration": true, "triggerKind": 1 });
            answered(&mut editor, &format!("textDocument/{question}"), params, &text);
            let whole = json!({ "start": { "line": 0, "character": 0 }, "end": { "line": lines, "character": 0 } });
            let params = json!({
                "textDocument": uri, "range": whole, "context": { "diagnostics": [] }, "options": { "tabSize": 2, "insertSpaces": true },
            });
            let question = OF_A_FILE[changer.random.usize(..OF_A_FILE.len())];
            answered(&mut editor, &format!("textDocument/{question}"), params.clone(), &text);
            answered(&mut editor, "textDocument/codeAction", params, &text);
        }
    });
    assert_eq!(editor.end(), 0);
}

/// Sends a request and accepts any response except an internal error (JSON-RPC 2.0, 5.1: -32603) or an unknown method.
#[track_caller]
fn answered(editor: &mut Editor, method: &str, params: Value, text: &str) {
    let answer = editor.answer(method, params.clone());
    let code = answer["error"]["code"].as_i64();
    assert!(!matches!(code, Some(-32603 | -32601)), "{method} {params}: {answer}\n{text:?}");
}
