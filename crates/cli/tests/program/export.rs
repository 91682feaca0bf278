//! `export`: the exported code is compiled or run, and the request that arrives is compared with the one that
//! `send` sends.

use crate::support::TestWorkspace;
use crate::support::recorder::{Arrived, RequestRecorder, set};
use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// Hostile requests, each a cell.
const CELLS: &str = r##"
% cookies off
% redirects 0

%% query
GET /lots?q=a%20b&x=%2F%7e&quote='it'&odd=(a)!*;$&%C3%A4=1

%% json
POST /lots
X-Gate: north

{"note": "it's \"ripe\" $HOME `id` $(id) ${y} #{x} %s %d \\n \\u00e9 é✓🍏 ‘’ </script> ??/ \\(x)", "bins": 24}

%% lines
POST /lines
Content-Type: text/plain; charset=utf-8

@not-a-file
 blanks  and	a tab \
'single' "double" `back` ‘curly’ {{raw("\r\n")}}\{{no}}
#!/bin/sh !history $'x' %TEMP% {{raw("\u0001\u007f")}}
{{raw("\n\n")}}

%% form
% field user = clerk & co
% field note = ripe=yes; 100% +é~*
POST /session

%% parts
% part note = it's "ripe"
% part photo from crate.bin type image/png as crä te.png
POST /photos

%% bytes
% body from crate.bin verbatim
PUT /photos/1
Content-Type: application/octet-stream

%% fields
GET /fields
X-Odd: it's "ripe" $HOME \ #{x} ${y} %s `id` !x
X-Empty: {{""}}
X-Twice: one
X-Twice: two
Accept: application/json, text/plain;q=0.5
User-Agent: desk/4 (north)

%% letters
GET /letters
X-Letters: é✓

%% nothing
POST /nothing

%% verb
BOOK /lots/7

%% basic
% auth basic clerk é {{pass}}
GET /basic

%% secrets
PATCH /lots?key={{pass}}&n=1
Authorization: Bearer {{token}}

{"pin": "{{pass}}", "same": "{{token}}"}

%% pin
GET /pin
X-Pin: {{pass}}

%% look
HEAD /lots

%% drop
DELETE /lots/7
Content-Type: text/plain

gone

%% markup
PUT /manifest
Content-Type: application/xml

<lot id="7">ripe &amp; {{pass}}</lot>

%% asking
GET /asking
Content-Type: application/json

{"q": 1}
"##;

/// Secrets, one that each encoding writes in its own way.
const SECRETS: &str = "[values]\npass = { value = \"p/q \\\"r's$x é&<\", secret = true }\ntoken = { value = \"t-4616-abcd\", secret = true }\n";

fn workspace(desk: &RequestRecorder) -> TestWorkspace {
    let config = format!("[values]\nbase = \"http://{}\"\n", desk.address);
    let workspace = TestWorkspace::empty().file("yieldtray.toml", &config).file("yieldtray.local.toml", SECRETS);
    let cells = CELLS.replace("basic clerk é {{pass}}", "basic \"clerk é\" {{pass}}");
    let cells = cells.replace("as crä te.png", "as \"crä te.png\"");
    let workspace = workspace.file("a.http", &cells);
    let bytes: Vec<u8> = (0..=255).collect();
    std::fs::write(workspace.path().join("crate.bin"), bytes).expect("a file");
    workspace
}

fn names() -> Vec<&'static str> {
    CELLS.lines().filter_map(|line| line.strip_prefix("%% ")).collect()
}

/// The secrets, also as they are encoded where a language does not do that itself.
const ENVIRONMENT: &[(&str, &str)] = &[
    ("PASS", "p/q \"r's$x é&<"),
    ("PASS_PERCENT", "p%2Fq%20%22r%27s%24x%20%C3%A9%26%3C"),
    ("PASS_JSON", "p/q \\\"r's$x é&<"),
    ("PASS_XML", "p/q &quot;r&apos;s$x é&amp;&lt;"),
    ("TOKEN", "t-4616-abcd"),
];

/// Runs a command where the requests lie, with the secrets.
type Runner<'r> = dyn FnMut(&mut Command) -> Output + 'r;

/// How a language runs its snippets, and what it does not support.
struct Language {
    target: &'static str,
    file: &'static str,
    /// Cells it cannot send, which docs/commands.md names.
    cannot: &'static [&'static str],
    run: fn(&Path, &Path, &mut Runner<'_>) -> Output,
}

/// Exports each request, runs the code, and compares.
fn compare(language: &Language) {
    let desk = RequestRecorder::open();
    let workspace = workspace(&desk);
    let built = tempfile::tempdir().expect("a folder");
    let mut compared = 0;
    for name in names() {
        workspace.run(&["send", &format!("a.http#{name}"), "--seed", "7", "--no-log"]).exits(0);
        let sent = desk.last().unwrap_or_else(|| panic!("{name} was sent"));
        let exported =
            workspace.run(&["export", &format!("a.http#{name}"), "--as", language.target, "--seed", "7"]).exits(0);
        for secret in ["p/q", "t-4616", "p%2Fq", "cC9x"] {
            assert!(
                !exported.stdout.contains(secret),
                "{}: {name} shows a secret\n{}",
                language.target,
                exported.stdout
            );
        }
        if language.cannot.contains(&name) {
            continue;
        }
        let snippet = built.path().join(language.file);
        std::fs::write(&snippet, &exported.stdout).expect("a file");
        let mut with = |command: &mut Command| {
            command.current_dir(workspace.path()).envs(ENVIRONMENT.iter().copied());
            command.env("NODE_NO_WARNINGS", "1").env("GOCACHE", built.path().join("go")).env("GOFLAGS", "-mod=mod");
            command.output().unwrap_or_else(|error| panic!("{command:?}: {error}"))
        };
        let output = (language.run)(&snippet, built.path(), &mut with);
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        let arrived = desk
            .last()
            .unwrap_or_else(|| panic!("{}: {name} did not arrive: {said}\n{}", language.target, exported.stdout));
        let shown = format!("{}: {name}\n{}\n{said}", language.target, exported.stdout);
        assert_eq!((&arrived.method, &arrived.target), (&sent.method, &sent.target), "{shown}");
        assert_eq!(String::from_utf8_lossy(&arrived.body), String::from_utf8_lossy(&sent.body), "{shown}");
        assert_eq!(arrived.body, sent.body, "{shown}");
        for (field, values) in set(&sent) {
            let joined = |values: &[Vec<u8>]| values.join(&b", "[..]);
            // Two fields of one name and one field with both values say the same (RFC 9110 5.2).
            let there = arrived.headers.get(&field).map(|values| joined(values));
            assert_eq!(
                there.as_deref().map(String::from_utf8_lossy),
                Some(String::from_utf8_lossy(&joined(&values))),
                "{field} of {shown}"
            );
        }
        compared += 1;
    }
    assert_eq!(compared, names().len() - language.cannot.len());
}

fn interpreted(program: &'static str, options: &'static [&'static str]) -> impl Fn(&Path) -> Command {
    move |snippet: &Path| {
        let mut command = Command::new(program);
        command.args(options).arg(snippet);
        command
    }
}

macro_rules! language {
    ($test:ident, $target:literal, $file:literal, $cannot:expr, $run:expr) => {
        #[test]
        fn $test() {
            compare(&Language { target: $target, file: $file, cannot: &$cannot, run: $run });
        }
    };
}

language!(shell, "shell", "send.sh", [], |snippet, _, with| with(&mut interpreted("sh", &[])(snippet)));
language!(python, "python", "send.py", [], |snippet, _, with| with(&mut interpreted("python3", &[])(snippet)));
// The package beneath it writes percent-encodings in upper case.
language!(python_requests, "python-requests", "send.py", ["query"], |snippet, _, with| with(&mut interpreted(
    "python3",
    &[]
)(snippet)));
language!(javascript, "javascript", "send.mjs", ["asking"], |snippet, _, with| with(&mut interpreted("node", &[])(
    snippet
)));
language!(ruby, "ruby", "send.rb", [], |snippet, _, with| with(&mut interpreted("ruby", &[])(snippet)));
language!(php, "php", "send.php", [], |snippet, _, with| with(&mut interpreted("php", &[])(snippet)));
language!(java, "java", "Send.java", ["letters", "pin"], |snippet, _, with| {
    with(&mut interpreted("java", &["-Dfile.encoding=UTF-8"])(snippet))
});
language!(go, "go", "send.go", [], |snippet, _, with| with(&mut interpreted("go", &["run"])(snippet)));
language!(c, "c", "send.c", [], |snippet, folder, with| {
    let program: PathBuf = folder.join("send");
    let compiled = with(
        Command::new("cc")
            .args(["-std=c11", "-Wall", "-Wextra", "-Werror", "-o"])
            .arg(&program)
            .arg(snippet)
            .arg("-lcurl"),
    );
    if !compiled.status.success() {
        return compiled;
    }
    with(&mut Command::new(program))
});

/// The lines that `send` wrote: the message as it is.
#[test]
fn the_message_itself() {
    let desk = RequestRecorder::open();
    let workspace = workspace(&desk);
    for name in
        names().into_iter().filter(|name| !["bytes", "parts", "basic", "secrets", "pin", "markup"].contains(name))
    {
        workspace.run(&["send", &format!("a.http#{name}"), "--no-log"]).exits(0);
        let sent = desk.last().expect("it was sent");
        let message = workspace.run(&["export", &format!("a.http#{name}"), "--as", "http"]).exits(0).bytes;
        let mut stream = TcpStream::connect(&desk.address).expect("the desk is open");
        stream.write_all(&message).expect("it is taken");
        stream.read_to_end(&mut Vec::new()).expect("an answer");
        let arrived = desk.last().expect("it arrived");
        assert_eq!(
            (&arrived.method, &arrived.target, set(&arrived)),
            (&sent.method, &sent.target, set(&sent)),
            "{name}"
        );
        assert_eq!(arrived.body, sent.body, "{name}");
    }
    let refused = workspace.run(&["export", "a.http#bytes", "--as", "http"]).exits(2);
    assert!(refused.stderr.contains("this body is binary"), "{}", refused.stderr);
}

/// Every snippet is a program of one package, so that the crate is compiled once.
#[test]
fn rust() {
    let desk = RequestRecorder::open();
    let workspace = workspace(&desk);
    let package = tempfile::tempdir().expect("a folder");
    std::fs::create_dir_all(package.path().join("src/bin")).expect("a folder");
    let manifest = "[package]\nname = \"snippets\"\nversion = \"0.1.0\"\nedition = \"2021\"\n\n[dependencies]\nbase64 = \"0.22\"\n\
                    reqwest = { version = \"0.12\", default-features = false, features = [\"blocking\"] }\n";
    std::fs::write(package.path().join("Cargo.toml"), manifest).expect("a file");
    let mut snippets = BTreeMap::new();
    for name in names() {
        let run = workspace.run(&["export", &format!("a.http#{name}"), "--as", "rust", "--seed", "7"]).exits(0);
        std::fs::write(package.path().join(format!("src/bin/{name}.rs")), &run.stdout).expect("a file");
        snippets.insert(name, run.stdout);
    }
    let cargo = std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into());
    let mut build = Command::new(cargo);
    build
        .args(["build", "--quiet"])
        .current_dir(package.path())
        .env_remove("CARGO_TARGET_DIR")
        .env("RUSTFLAGS", "-D warnings");
    let built = build.output().expect("cargo is there");
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    for (name, snippet) in snippets {
        workspace.run(&["send", &format!("a.http#{name}"), "--seed", "7", "--no-log"]).exits(0);
        let sent = desk.last().expect("it was sent");
        let mut program = Command::new(package.path().join("target/debug").join(name));
        program.current_dir(workspace.path()).envs(ENVIRONMENT.iter().copied());
        let output = program.output().expect("it was built");
        let shown = format!("{name}\n{snippet}\n{}", String::from_utf8_lossy(&output.stderr));
        let arrived = desk.last().unwrap_or_else(|| panic!("{shown}"));
        assert_eq!(
            (&arrived.method, &arrived.target, &arrived.body),
            (&sent.method, &sent.target, &sent.body),
            "{shown}"
        );
        for (field, values) in set(&sent) {
            assert_eq!(arrived.headers.get(&field), Some(&values), "{field} of {shown}");
        }
    }
}

/// A chain of requests, each of which captures a value of the response before it.
const CHAIN: &str = r#"
% cookies off

%% Lots
GET /lots

% yield lot = body.lots[0].id
% yield number = body.n
% yield gate = headers["x-lot"]
% yield all = text

%% Weigh
POST /lots/{{lot}}/weighings?gate={{gate}}
X-Lot: {{lot}}

{"lot": {{lot}}, "label": "PH-{{lot}}", "n": {{number}}, "text": "{{number}}"}

%% Form
% field lot = {{lot}}
% needs weigh
POST /form

%% Round
% play label with tray = lot + "-1"

%% Label
GET /labels/{{tray}}

%% Never
% skip when 1 == 1
GET /never

%% Own
% let lot = "mine"
GET /own/{{lot}}
"#;

#[test]
fn a_chain_takes_values_from_answers() {
    let desk = RequestRecorder::open();
    let workspace = workspace(&desk).file("chain.http", CHAIN);
    let all = |desk: &RequestRecorder| -> Vec<Arrived> {
        desk.all().into_iter().map(|own| Arrived { headers: set(&own), ..own }).collect()
    };
    workspace.run(&["replay", "chain.http", "--no-log"]).exits(0);
    let sent = all(&desk);
    assert_eq!(sent.len(), 5);
    for (target, file, program) in
        [("shell", "c.sh", "sh"), ("python", "c.py", "python3"), ("javascript", "c.mjs", "node")]
    {
        let run = workspace.run(&["export", "chain.http", "--as", target]).exits(0);
        std::fs::write(workspace.path().join(file), &run.stdout).expect("a file");
        let output = Command::new(program).arg(file).current_dir(workspace.path()).output().expect("it is there");
        let shown = format!("{}\n{}", run.stdout, String::from_utf8_lossy(&output.stderr));
        let arrived = all(&desk);
        assert_eq!(arrived.len(), 5, "{shown}");
        for (arrived, sent) in arrived.iter().zip(&sent) {
            assert_eq!((&arrived.method, &arrived.target), (&sent.method, &sent.target), "{shown}");
            assert_eq!(String::from_utf8_lossy(&arrived.body), String::from_utf8_lossy(&sent.body), "{shown}");
            assert_eq!(arrived.headers.get("x-lot"), sent.headers.get("x-lot"), "{shown}");
        }
    }
    // A file of one request is a chain with what that needs of another one.
    let workspace =
        workspace.file("last.http", "% cookies off\n\n%% Last\n% needs chain.http#lots\nGET /last/{{lot}}\n");
    let run = workspace.run(&["export", "last.http", "--as", "python"]).exits(0);
    std::fs::write(workspace.path().join("last.py"), &run.stdout).expect("a file");
    assert!(
        Command::new("python3").arg("last.py").current_dir(workspace.path()).status().expect("it is there").success()
    );
    let targets: Vec<String> = all(&desk).into_iter().map(|own| own.target).collect();
    assert_eq!(targets, ["/lots", "/last/L%2F7%20%C3%A9%22"]);
    let refused = workspace.run(&["export", "chain.http", "--as", "go"]).exits(2);
    assert!(refused.stderr.contains("contains 7 requests, but `go` exports one"), "{}", refused.stderr);
}

/// A request that is exported and imported again sends the same bytes.
#[test]
fn what_is_handed_over_comes_back() {
    let desk = RequestRecorder::open();
    let workspace = workspace(&desk);
    for name in names() {
        workspace.run(&["send", &format!("a.http#{name}"), "--seed", "7", "--no-log"]).exits(0);
        let sent = desk.last().expect("it was sent");
        for (target, import) in [("shell", "curl"), ("har", "har")] {
            let file = format!("{name}.{target}");
            let text =
                workspace.run(&["export", &format!("a.http#{name}"), "--as", target, "--seed", "7"]).exits(0).stdout;
            // A command reads the secrets from the environment, a recording has their names; several chunks of a
            // body is piped in, and the pipe is not a separate command.
            if text.contains("${") || target == "shell" && text.contains("| curl") {
                continue;
            }
            std::fs::write(workspace.path().join(&file), text).expect("a file");
            let again = format!("again/{name}-{target}.http");
            std::fs::create_dir_all(workspace.path().join("again")).expect("a folder");
            let run = workspace.run(&["import", import, &file, "--into", &again]).exits(0);
            if name == "bytes" && target == "shell" {
                std::fs::copy(workspace.path().join("crate.bin"), workspace.path().join("again/crate.bin"))
                    .expect("a file");
            }
            workspace.run(&["lint", &again]).exits(0);
            workspace.run(&["send", &again, "--no-log"]).exits(0);
            let back = desk.last().unwrap_or_else(|| panic!("{name} {target}: {}", run.stderr));
            let shown =
                format!("{name} {target}\n{}", std::fs::read_to_string(workspace.path().join(&again)).expect("a file"));
            assert_eq!((&back.method, &back.target), (&sent.method, &sent.target), "{shown}");
            assert_eq!(String::from_utf8_lossy(&back.body), String::from_utf8_lossy(&sent.body), "{shown}");
            assert_eq!((set(&back), back.body), (set(&sent), sent.body.clone()), "{shown}");
        }
    }
}
