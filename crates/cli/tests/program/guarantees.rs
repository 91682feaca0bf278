//! The first and the last guarantee of SECURITY.md, watched from outside: the system calls of every command and of
//! the editor's server in workspaces that mean harm, and those by which a file is written.

use crate::support::{TestWorkspace, editor::Editor};
use serde_json::json;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::process::Command;
use tempfile::TempDir;

/// The traced system calls: programs, files and sockets.
const CALLS: &str = "trace=execve,execveat,open,openat,openat2,creat,socket,connect,rename,renameat,renameat2,link,linkat,\
                     symlink,symlinkat,unlink,unlinkat,mkdir,mkdirat,truncate,chmod,fchmodat";

/// The directories of the program, its libraries and the system: reading there reveals nothing.
const SYSTEM: &[&str] =
    &["/lib", "/usr/lib", "/usr/share", "/etc/", "/proc/", "/sys/", "/dev/null", "/dev/urandom", "/dev/tty"];

/// A workspace that reaches outside in every way that was ever found, and the folder that it reaches for.
fn hostile() -> (TestWorkspace, TempDir) {
    let outside = tempfile::Builder::new().prefix("outside-").tempdir().expect("a folder");
    let target = |name: &str| outside.path().join(name).display().to_string();
    for (name, text) in [
        ("credentials", "outer-4616"),
        ("dot", "GATE_KEY=windfall-4616\n"),
        ("schema.json", "{}"),
        ("rows.csv", "a\n1\n"),
        ("other.http", "/lots\n"),
        ("_common.http", "% header X-A: b\n"),
        ("environment", "live\n"),
        ("ran.sh", "#!/bin/sh\ntouch ran\n"),
    ] {
        std::fs::write(outside.path().join(name), text).expect("a file");
    }
    let workspace = TestWorkspace::new();
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("a file");
    let workspace = workspace
        .file(
            "yieldtray.toml",
            &format!("{config}shared = {{ from = 'file:link.txt' }}\n[oauth2.desk]\ntoken_url = '{{{{base}}}}/t'\nclient_id = '{{{{read}}}}'\n"),
        )
        .file(
            "yieldtray.local.toml",
            &format!(
                "[env]\nallow = ['HOME']\n[values]\nran = {{ command = ['touch', '{}'] }}\nread = {{ from = 'file:{}' }}\n\
                 linked = {{ from = 'file:link.txt' }}\nhome = {{ from = 'env:HOME' }}\nsealed = {{ from = 'sealed:link.txt' }}\n\
                 stored = {{ from = 'keyring:pin' }}\n[oauth2.person]\ngrant = 'authorization_code'\ntoken_url = '{{{{base}}}}/t'\n\
                 authorization_url = '{{{{base}}}}/a'\nclient_id = 'x'\nsign_in_timeout = '1s'\n[oauth2.keyed]\ntoken_url = '{{{{base}}}}/t'\n\
                 client_id = 'x'\nclient_auth = 'private_key_jwt'\nkey = '{1}'\n[signing.outer]\nkey = '{1}'\n[environments.socket.send]\nsocket = '{}'\n\
                 [environments.ca.send]\nca = '{}'\n",
                target("ran"),
                target("credentials"),
                target("socket"),
                target("credentials"),
            ),
        )
        .file(".git/HEAD", "ref: refs/heads/main\n")
        .file(
            ".git/config",
            &format!("[core]\nrepositoryformatversion = 0\nfsmonitor = {0}\nhooksPath = {1}\n[filter \"x\"]\nclean = {0}\n", target("ran.sh"), target("")),
        )
        .file(".git/objects/info/x", "")
        .file(".git/refs/heads/x", "")
        .file("bare/HEAD", "ref: refs/heads/main\n")
        .file("bare/config", &format!("[core]\nbare = true\nfsmonitor = {}\n", target("ran.sh")))
        .file("bare/objects/x", "")
        .file("bare/refs/x", "")
        .file("bare/in.http", "/lots\n")
        .file("sub/deep.http", "/lots\n")
        .file("near.schema.json", "{ \"$ref\": \"../../outside/schema.json\" }")
        .file("api/desc.json", &format!(
            r#"{{"openapi":"3.1.0","info":{{"title":"x"}},"paths":{{"/x":{{"get":{{"responses":{{"200":{{"content":{{"application/json":{{"schema":{{"$ref":"{}#/a"}}}}}}}}}}}}}}}}}}"#,
            target("schema.json")
        ))
        .file("a.har", &format!(
            r#"{{"log":{{"entries":[{{"request":{{"method":"POST","url":"http://127.0.0.1:1/","headers":[],"postData":{{"mimeType":"multipart/form-data","params":[{{"name":"a","fileName":"{}"}}]}}}},"response":{{"status":200,"headers":[],"content":{{}}}}}}]}}}}"#,
            target("credentials")
        ))
        .file(
            "a.http",
            &format!(
                "%% ran\n/{{{{ran}}}}\n%% read\n/{{{{read}}}}{{{{linked}}}}{{{{shared}}}}{{{{home}}}}\n%% body\nPOST /lots\n% body from link.txt verbatim\n\
                 %% above\nPOST /lots\n% part a from ../outside/credentials\n%% file\n/{{{{file('{0}')}}}}{{{{file('link.txt')}}}}\n\
                 %% rows\n% each row in \"rows.csv\"\n/lots\n%% schema\n/health\n\n% check conforms(body, 'schema.json') || conforms(body, 'near.schema.json')\n\
                 %% save\n/health\n\n% save ../../outside/saved\n%% token\n% auth oauth2 desk\n/lots\n%% sealed\n/{{{{sealed}}}}\n%% stored\n/{{{{stored}}}}\n\
                 %% person\n% auth oauth2 person\n/lots\n%% keyed\n% auth oauth2 keyed\n/lots\n%% signed\n% sign outer\n/lots\n\
                 %% talk\nGET /scale/socket\n\n% say from link.txt\n%% plain\n/health\n\n% yield s = body.status secret\n",
                target("credentials")
            ),
        );
    for (link, name) in [
        ("link.txt", "credentials"),
        (".env", "dot"),
        ("rows.csv", "rows.csv"),
        ("schema.json", "schema.json"),
        ("other.http", "other.http"),
        ("sub/_common.http", "_common.http"),
        ("folder", ""),
        (".yieldtray", ""),
        ("saved", ""),
    ] {
        symlink(outside.path().join(name), workspace.path().join(link)).expect("a link");
    }
    (workspace, outside)
}

/// The program under `strace`, which writes what it sees to a file of its own.
fn watched(workspace: &TestWorkspace, trace: &Path) -> Command {
    let mut command = workspace.stranger();
    let mut strace = Command::new("strace");
    strace.args(["-f", "-qq", "-s", "4096", "-e", CALLS, "-o"]).arg(trace).arg(command.get_program());
    strace.current_dir(workspace.path());
    for (name, value) in command.get_envs() {
        match value {
            Some(value) => strace.env(name, value),
            None => strace.env_remove(name),
        };
    }
    strace.env("HOME", workspace.home());
    command.env_clear();
    strace
}

/// The lines of a trace that must not be in it.
fn violations(trace: &str, workspace: &TestWorkspace, outside: &Path) -> Vec<String> {
    let allowed: Vec<PathBuf> =
        [workspace.path(), workspace.home()].iter().map(|path| path.canonicalize().expect("a path")).collect();
    let outside = outside.canonicalize().expect("a path");
    let mut found = Vec::new();
    let mut programs = 0;
    for line in trace.lines() {
        let call = line.split_once(' ').map_or(line, |(_, call)| call.trim_start());
        if call.starts_with("---") || call.starts_with("+++") || call.contains("resumed>") {
            continue;
        }
        let failed = call.contains(" = -1 ");
        if call.starts_with("execve") {
            programs += usize::from(!failed);
            continue;
        }
        if call.starts_with("socket(") {
            let inet =
                call.starts_with("socket(AF_INET, SOCK_STREAM") || call.starts_with("socket(AF_INET6, SOCK_STREAM");
            // Threads of the runtime wake each other through a `socketpair`.
            if !inet {
                found.push(line.to_owned());
            }
            continue;
        }
        if call.starts_with("connect(") {
            if !call.contains("inet_addr(\"127.0.0.1\")") && !call.contains("\"::1\"") {
                found.push(line.to_owned());
            }
            continue;
        }
        for path in call.split('"').skip(1).step_by(2).filter(|path| !path.is_empty()) {
            let path = Path::new(path);
            let full = if path.is_absolute() {
                path.to_owned()
            } else {
                workspace.path().canonicalize().expect("a path").join(path)
            };
            // Where a link leads is what counts. What is gone by now was inside, or a temporary name beside it.
            let real = full.canonicalize().unwrap_or_else(|_| {
                let folder = full.parent().and_then(|folder| folder.canonicalize().ok()).unwrap_or_default();
                folder.join(full.file_name().unwrap_or_default())
            });
            let inside = allowed.iter().any(|root| real.starts_with(root));
            let writes = !call.starts_with("open")
                || call.contains("O_WRONLY")
                || call.contains("O_RDWR")
                || call.contains("O_CREAT");
            let system = SYSTEM.iter().any(|start| full.to_string_lossy().starts_with(start))
                && (!writes || full.starts_with("/dev"));
            let harmless = inside || system || failed && !full.starts_with(&outside);
            if !harmless || (real.starts_with(&outside) && !failed) {
                found.push(line.to_owned());
            }
        }
    }
    if programs > 1 {
        found.push(format!("{programs} programs were started"));
    }
    found
}

#[test]
fn a_workspace_nobody_allowed_starts_nothing_and_reaches_nowhere() {
    let commands: &[&[&str]] = &[
        &["list"],
        &["list", "--graph"],
        &["lint"],
        &["lint", "--staged"],
        &["values"],
        &["values", "--all-envs"],
        &["env"],
        &["env", "live"],
        &["tray"],
        &["cookies"],
        &["log"],
        &["replay", "--yes"],
        &["replay", "--yes", "a.http", "--report", "json=r.json", "--save-yields"],
        &["replay", "--yes", "-e", "socket"],
        &["replay", "--yes", "-e", "ca"],
        &["prove", "--yes"],
        &["send", "a.http#plain"],
        &["send", "a.http#ran"],
        &["send", "a.http#read"],
        &["send", "a.http#token"],
        &["send", "a.http#sealed"],
        &["send", "a.http#stored"],
        &["send", "a.http#person"],
        &["send", "a.http#keyed"],
        &["send", "a.http#signed"],
        &["send", "a.http#talk"],
        &["token"],
        &["token", "get", "desk"],
        &["token", "get", "person"],
        &["token", "clear"],
        &["secret", "reseal", "--file", "link.txt"],
        &["api", "tree"],
        &["api", "fetch"],
        &["api", "coverage"],
        &["send", "a.http#plain", "--dry-run"],
        &["send", "other.http"],
        &["send", "-C", "bare", "in.http"],
        &["list", "folder"],
        &["list", "a.http", "folder"],
        &["export", "a.http", "--as", "shell"],
        &["tidy", "--check"],
        &["import", "openapi", "api/desc.json", "--into", "taken"],
        &["import", "curl", "curl -F a=@link.txt http://127.0.0.1/", "--into", "taken/a.http"],
        &["import", "har", "a.har", "--into", "taken/b.http"],
        &["log", "show"],
        &["log", "again", "1"],
        &["log", "compare"],
        &["log", "trend", "plain"],
        &["log", "export", "har"],
        &["log", "clear"],
        &["report", "merge", "r.json", "--report", "html=r.html"],
        &["tray", "clear"],
        &["cookies", "clear"],
        &["init", "fresh"],
        &["allow", "--list"],
    ];
    for environment in [true, false] {
        let (workspace, outside) = hostile();
        if environment {
            // Without its `.env`, which stops everything, the others are tried.
            std::fs::remove_file(workspace.path().join(".env")).expect("a link");
        }
        let trace = workspace.home().join("trace");
        for args in commands {
            let mut command = watched(&workspace, &trace);
            command.args(*args);
            let run = crate::support::run(command, "");
            assert!(run.code != 101, "{args:?}: {}", run.both());
            let seen = std::fs::read_to_string(&trace).expect("strace wrote");
            assert!(seen.contains("execve("), "{args:?}: strace saw nothing");
            let found = violations(&seen, &workspace, outside.path());
            assert_eq!(found, Vec::<String>::new(), "{args:?}: {}", run.both());
            assert!(!run.both().contains("outer-4616") && !run.both().contains("windfall"), "{args:?}: {}", run.both());
        }
        assert!(!outside.path().join("ran").exists() && !workspace.path().join("ran").exists());
    }
}

#[test]
fn the_editors_server_does_not_either() {
    let (workspace, outside) = hostile();
    std::fs::remove_file(workspace.path().join(".env")).expect("a link");
    let trace = workspace.home().join("trace");
    let mut command = watched(&workspace, &trace);
    command.arg("lsp");
    let mut editor = Editor::of(&workspace, command);
    editor.ask("initialize", json!({ "capabilities": {} }));
    editor.tell("initialized", json!({}));
    editor.open("a.http");
    let text = std::fs::read_to_string(workspace.path().join("a.http")).expect("a file");
    for method in ["documentSymbol", "codeLens", "documentLink", "foldingRange"] {
        editor.about(&format!("textDocument/{method}"), "a.http");
    }
    let uri = editor.uri("a.http");
    for (line, _) in text.lines().enumerate() {
        for method in ["hover", "completion", "definition", "signatureHelp"] {
            let at = json!({ "textDocument": { "uri": uri }, "position": { "line": line, "character": 4 } });
            editor.request(&format!("textDocument/{method}"), at);
        }
    }
    let whole =
        json!({ "start": { "line": 0, "character": 0 }, "end": { "line": text.lines().count(), "character": 0 } });
    editor.ask("textDocument/inlayHint", json!({ "textDocument": { "uri": uri }, "range": whole }));
    editor.ask(
        "textDocument/codeAction",
        json!({ "textDocument": { "uri": uri }, "range": whole, "context": { "diagnostics": [] } }),
    );
    // No client is there that could show a question: everything that reaches outside is refused.
    let lenses = editor.about("textDocument/codeLens", "a.http");
    for lens in lenses.as_array().expect("lenses") {
        editor.request(
            "workspace/executeCommand",
            json!({ "command": lens["command"]["command"], "arguments": lens["command"]["arguments"] }),
        );
    }
    std::thread::sleep(std::time::Duration::from_secs(3));
    editor.end();
    let seen = std::fs::read_to_string(&trace).expect("strace wrote");
    assert_eq!(violations(&seen, &workspace, outside.path()), Vec::<String>::new());
    assert!(!outside.path().join("ran").exists());
}

/// The bytes of a file are on the disk before it gets its name, and the name after that.
#[test]
fn a_file_is_whole_after_power_loss() {
    let workspace =
        TestWorkspace::new().file("a.http", "%% a\n/health\n\n% yield s = body.status secret\n% save kept.json\n");
    let trace = workspace.home().join("trace");
    for (args, name) in [
        (&["import", "curl", "curl http://127.0.0.1/", "--into", "b.http"][..], "b.http"),
        (&["send", "a.http", "--output", "out.json"], "out.json"),
        (&["send", "a.http"], "kept.json"),
        (&["tidy", "a.http"], "a.http"),
        (&["env", "live"], "/environment"),
    ] {
        std::fs::write(workspace.path().join("c.http"), "GET   /lots\n").expect("a file");
        if args[0] == "tidy" {
            std::fs::write(workspace.path().join("a.http"), "%%   a\nGET   /lots\n").expect("a file");
        }
        let mut command = Command::new("strace");
        command.args(["-f", "-qq", "-s", "4096", "-y", "-e", "trace=fsync,fdatasync,rename,renameat,renameat2", "-o"]);
        command.arg(&trace).arg(crate::support::program()).args(args).current_dir(workspace.path());
        command.env("XDG_STATE_HOME", workspace.home()).env("YIELDTRAY_ALLOW", workspace.path());
        crate::support::run(command, "").exits(0);
        let seen = std::fs::read_to_string(&trace).expect("strace wrote");
        let lines: Vec<&str> = seen.lines().collect();
        let renamed = lines.iter().position(|line| line.contains("rename") && line.contains(&format!("{name}\"")));
        let renamed = renamed.unwrap_or_else(|| panic!("{args:?}: nothing was named {name}:\n{seen}"));
        let temporary = lines[renamed].split('"').nth(1).expect("a name").to_owned();
        let temporary = temporary.rsplit('/').next().expect("a name").to_owned();
        let synced = |line: &&str| line.contains("sync(") && line.contains(" = 0");
        assert!(lines[..renamed].iter().any(|line| synced(line) && line.contains(&temporary)), "{args:?}:\n{seen}");
        assert!(
            lines[renamed + 1..].iter().any(|line| synced(line) && !line.contains(&temporary)),
            "{args:?}:\n{seen}"
        );
    }
}
