//! Every class of error with its whole text.

use crate::support::TestWorkspace;
use std::collections::BTreeSet;
use yieldtray_source::Code;

const CONFIG: &str = "[values]\nkey = { from = 'env:BENCH_KEY' }\nscale = { from = 'env:NO_SUCH_SCALE' }\n[environments.local.values]\ngrower = 'G-11'\ngate = 'n'\n[oauth2.shift]\nclient_id = 'desk'\n";

/// One file for each class: what is wrong with it, and nothing else.
const FILES: &[(&str, &str)] = &[
    ("unknown-instruction", "%% A\nhttp://127.0.0.1:1/\n\n% chekc status == 200\n"),
    ("invalid-graphql", "%% A\n% graphql\nPOST http://127.0.0.1:1/\n\nquery ($id: ID!) { lot(id: $id) { id }\n"),
    ("misplaced-instruction", "%% A\n% yield id = body.id\nhttp://127.0.0.1:1/\n"),
    ("malformed-instruction", "% let season\n\n%% A\nhttp://127.0.0.1:1/\n"),
    ("bad-name", "%% A\n% let lot-id = 1\nhttp://127.0.0.1:1/\n"),
    ("reserved-name", "%% A\n% let body = 1\nhttp://127.0.0.1:1/\n"),
    ("duplicate-name", "%% A\nhttp://127.0.0.1:1/\n%% Two\n% name one\n% name two\nhttp://127.0.0.1:1/\n"),
    ("stray-text", "%% A\nhttp://127.0.0.1:1/\n\n% check true\nbins: 12\n"),
    ("no-request", "%% A\n# Only words.\n"),
    ("shell-command", "%% A\ncurl http://127.0.0.1:1/lots \\\n  -H 'Accept: text/csv'\n"),
    ("bad-request-line", "%% A\nGET http://127.0.0.1:1/the lots\n"),
    ("bad-header", "%% A\nPOST http://127.0.0.1:1/\n{ \"bins\": 3 }\n"),
    ("connection-header", "%% A\nPOST http://127.0.0.1:1/\nContent-Length: 3\n\nabc\n"),
    ("conflicting-lines", "%% A\nPOST http://127.0.0.1:1/\n% field bins = 3\n\n{ \"bins\": 3 }\n"),
    ("unknown-profile", "%% A\n% auth oauth2 shfit\nhttp://127.0.0.1:1/\n"),
    ("unclosed-placeholder", "%% A\nhttp://127.0.0.1:1/{{grower/x\n"),
    ("bad-expression", "%% A\nhttp://127.0.0.1:1/\n\n% check status = 200\n"),
    ("unknown-function", "%% A\nhttp://127.0.0.1:1/{{uid()}}\n"),
    ("wrong-arguments", "%% A\nhttp://127.0.0.1:1/\n\n% check find(text) == 'a'\n"),
    ("mismatched-types", "%% A\nhttp://127.0.0.1:1/\n\n% check status == '200' && size > text\n% check elapsed\n"),
    ("unknown-member", "%% A\nhttp://127.0.0.1:1/\n\n% check sent.header == 'x'\n"),
    ("unknown-variable", "%% A\nhttp://127.0.0.1:1/\n\n% check stauts == 200\n"),
    ("missing-value", "%% A\nhttp://127.0.0.1:1/{{grower}}\n"),
    ("unavailable-source", "%% A\nhttp://127.0.0.1:1/{{scale}}\n"),
    ("unanswered-prompt", "%% A\n% ask bins \"How many bins?\"\nhttp://127.0.0.1:1/{{bins}}\n"),
    ("variable-cycle", "% let a = b + 1\n% let b = a + 1\n\n%% A\nhttp://127.0.0.1:1/{{a}}\n"),
    ("needs-response", "%% A\n% let id = body.id\nhttp://127.0.0.1:1/{{id}}\n"),
    ("failed-expression", "%% A\n% let trays = {'full': 3}\nhttp://127.0.0.1:1/{{trays.ful}}\n"),
    ("invalid-value", "%% A\n% let trays = ['T-1', 'T-2']\nhttp://127.0.0.1:1/{{trays}}\n"),
    ("bad-target", "%% A\nGET lots/L-1\n"),
    ("assumption", "%% A\nget http://127.0.0.1:1/#top\n"),
    ("unknown-cell", "%% Sign in\nhttp://127.0.0.1:1/\n%% A\n% needs sing-in\nhttp://127.0.0.1:1/\n"),
    ("needs-cycle", "%% A\n% needs b\nhttp://127.0.0.1:1/\n%% B\n% needs a\nhttp://127.0.0.1:1/\n"),
    ("secret-destination", "%% A\nhttp://127.0.0.1:1/\nX-Api-Key: {{key}}\n"),
    ("swallowed-text", "%% A\nGET http://127.0.0.1:1/\n\nGET http://127.0.0.1:1/lots\n"),
    ("unknown-label", "% check quick: true\n\n%% A\n% waive qiuck\nhttp://127.0.0.1:1/\n"),
];

/// Warnings after a response.
const ANSWERED: &[(&str, &str)] = &[
    ("empty-list", "%% A\n/lots?grower=G-0\n\n% check body.lots.all(l, l.bins > 0)\n"),
    ("graphql-errors", "%% A\n% graphql\nPOST /graphql\n\n{ lot(id: \"L-2038\") { id price } }\n"),
    ("default-used", "%% A\n% ask grower \"Which grower?\" default \"G-11\"\n/growers/{{grower}}\n"),
];

/// Errors in the configuration or the files themselves.
const CONFIGS: &[(&str, &str)] = &[
    ("bad-configuration", "[workspace]\nrequests = 3\n[values\n"),
    ("unknown-key", "[workspace]\nrequest = \"requests\"\n"),
    ("short-secret", "[values]\npin = { value = \"461\", secret = true }\n[workspace]\nrequests = 3\n"),
    ("unknown-environment", "[workspace]\nenvironment = \"loacl\"\n[environments.local]\n"),
];

/// Warnings that only `lint` shows, since they stop no request.
const ODDITIES: &[(&str, &str)] = &[
    ("shadowed-variable", "% let gate = 's'\n\n%% A\nhttp://127.0.0.1:1/{{gate}}\n"),
    ("unused-yield", "%% A\nhttp://127.0.0.1:1/\n\n% yield lot_id = body.id\n"),
    (
        "repeated-yield",
        "%% A\nhttp://127.0.0.1:1/\n\n% yield id = body.id\n% yield id = body.lot\n%% B\nhttp://127.0.0.1:1/{{id}}\n",
    ),
    ("unused-variable", "% let crop = 'gala'\n\n%% A\nhttp://127.0.0.1:1/\n"),
    ("yielded-later", "%% A\nhttp://127.0.0.1:1/{{id}}\n\n%% B\nhttp://127.0.0.1:1/\n\n% yield id = body.id\n"),
    ("bad-json", "%% A\nPOST http://127.0.0.1:1/\n\n{\n  \"grower\": \"{{grower}}\",\n}\n"),
    ("misspelled-header", "%% A\nhttp://127.0.0.1:1/\nAcept: text/csv\n"),
    ("misspelled-method", "%% A\nPSOT http://127.0.0.1:1/\n"),
    ("plain-credentials", "%% A\nhttp://packhouse.example/\n% auth bearer {{grower}}\n"),
    ("bad-suppression", "%% A\n# accepted unused-yield\nhttp://127.0.0.1:1/\n"),
    ("unused-suppression", "%% A\n# accepted unused-yield: read by hand\nhttp://127.0.0.1:1/\n"),
    ("unmarked-secret", "%% A\nhttp://127.0.0.1:1/\n\n% yield access_token = body.token\n% check access_token != ''\n"),
    ("graphql-placeholder", "%% A\n% graphql\nPOST http://127.0.0.1:1/\n\n{ lot(id: \"{{grower}}\") { id } }\n"),
    ("secret-in-file", "%% A\nhttp://127.0.0.1:1/\nX-Api-Key: local-key-4616\n"),
];

/// Warnings of requests that the description of the API has otherwise.
const DESCRIBED: &[(&str, &str)] = &[
    ("undocumented-request", "%% A\n/lotz\n"),
    ("missing-parameter", "%% A\n/scale/flaky?key=a\n"),
    ("invalid-body", "%% A\nPOST /lots\n\n{ \"grower\": \"G-11\", \"bins\": 4000 }\n"),
    (
        "deprecated",
        "%% A\nPUT /lots/L-2038\n\n{ \"grower\": \"G-11\", \"variety\": \"gala\", \"bins\": 4, \"state\": \"open\" }\n",
    ),
];

#[test]
fn each_class_of_mistake_has_its_text() {
    let (mut texts, mut seen) = (String::new(), BTreeSet::new());
    let mut note = |code: &str, said: &str| {
        assert!(said.contains(&format!("[{code}]: ")), "{code} is not said:\n{said}");
        seen.insert(code.to_owned());
        texts.push_str(&format!("=== {code}\n{}\n\n", said.trim_end()));
    };
    for (code, text) in FILES {
        let workspace =
            TestWorkspace::empty().file("yieldtray.toml", CONFIG).file(".env", "BENCH_KEY=local-key-4616\n");
        let run = workspace.file("a.http", text).run(&["replay", "a.http"]);
        assert!(run.code >= 2, "{code}: {}", run.both());
        note(code, &run.stderr);
    }
    for (code, text) in ANSWERED {
        let run = TestWorkspace::new().file("a.http", text).run(&["replay", "a.http"]).exits(0);
        note(code, &run.stderr);
    }
    let odd =
        crate::support::raw_server(b"HTTP/1.1 200 OK\r\nContent-Encoding: none\r\nContent-Length: 2\r\n\r\n{}", false);
    let run = TestWorkspace::empty().file("a.http", &format!("{odd}/\n")).run(&["replay", "a.http"]).exits(0);
    let port = odd.rsplit(':').next().expect("a port");
    note("malformed-response", &run.stderr.replace(port, "PORT"));
    let signed_in = "%% A\nPOST /session\n\n{ \"email\": \"clerk@packhouse.example\", \"password\": \"windfall-local\" }\n\n\
        % yield token = body.token secret\n% check body.token.size() > 8\n";
    let workspace = TestWorkspace::new().file("a.http", signed_in);
    workspace.run(&["replay", "a.http"]).exits(0);
    note("not-evaluated", &workspace.run(&["replay", "a.http", "--from-log"]).exits(0).stderr);
    for (code, text) in CONFIGS {
        let run = TestWorkspace::empty().file("yieldtray.toml", text).file("a.http", "/x\n").run(&["replay"]).exits(2);
        note(code, &run.stderr);
    }
    for (code, text) in ODDITIES {
        let run = TestWorkspace::empty().file("yieldtray.toml", CONFIG).file("a.http", text).run(&["lint", "a.http"]);
        assert!(run.code != 1, "{code}: {}", run.both());
        note(code, &run.stdout);
    }
    for (code, text) in DESCRIBED {
        let workspace = TestWorkspace::empty()
            .file("yieldtray.toml", "[values]\nbase = \"http://127.0.0.1:1\"\n[api]\nfile = \"openapi.json\"\n")
            .file("openapi.json", yieldtray_packhouse::OPENAPI);
        note(code, &workspace.file("a.http", text).run(&["lint", "a.http"]).exits(0).stdout);
    }
    let workspace = TestWorkspace::empty()
        .file("yieldtray.toml", "[lint]\nno-checks = \"warning\"\n")
        .file("a.http", "http://127.0.0.1:1/\n");
    note("no-checks", &workspace.run(&["lint"]).exits(0).stdout);
    let workspace = TestWorkspace::empty().file("yieldtray.local.toml", "[values]\nx = 1\n").file("a.http", "/x\n");
    std::fs::create_dir(workspace.path().join(".git")).expect("a folder");
    let outside = "[send]\nsocket = '/run/packhouse.sock'\n";
    let reaching = TestWorkspace::empty().file("yieldtray.toml", outside).file("a.http", "http://127.0.0.1:1/\n");
    note("not-allowed", &reaching.run_as_stranger(&["send", "a.http"], &[]).exits(2).stderr);
    note("tracked-file", &workspace.run(&["list"]).stderr);
    let workspace = TestWorkspace::empty();
    std::fs::write(workspace.path().join("latin.http"), b"# Sm\xf8rrebr\xf8d\n/x\n").expect("a file");
    note("unreadable-file", &workspace.run(&["replay", "latin.http"]).exits(2).stderr);
    insta::assert_snapshot!("mistakes", texts);
    // No file is known that makes the program itself fail; core tries that with files that cannot be read.
    let known = Code::ALL.iter().filter(|code| **code != Code::InternalError);
    let all: BTreeSet<String> = known.map(|code| code.as_str().to_owned()).collect();
    assert_eq!(seen, all, "each code is tried");
}

#[test]
fn mistakes_are_data_too() {
    let workspace = TestWorkspace::empty().file("a.http", "%% Ä\n% chekc true\nhttp://127.0.0.1:1/\n");
    let run = workspace.run(&["replay", "--json"]).exits(2);
    let event: serde_json::Value = serde_json::from_str(run.stdout.lines().nth(1).expect("an event")).expect("JSON");
    assert_eq!(
        event["diagnostics"],
        serde_json::json!([{ "code": "unknown-instruction", "severity": "error", "message": "unknown instruction `% chekc`",
            "hint": "did you mean `% check`?", "file": "a.http", "line": 2, "column": 3, "end_line": 2, "end_column": 8 }])
    );
    assert_eq!(run.stderr, "");
}
