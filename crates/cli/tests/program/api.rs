//! Descriptions of APIs: fetched, explored, compared with what is sent and received.

use crate::support::editor::{Editor, described};
use crate::support::{TestWorkspace, answer, server};
use serde_json::{Value, json};
use std::sync::{Arc, Mutex};
use std::time::Duration;

const LOTS: &str = "%% List lots
GET /lots
% query grower = {{grower}}

% check status == 200

%% Book a lot
POST /lots
X-Api-Key: {{key}}

{ \"grower\": \"{{grower}}\", \"bins\": 3 }

% check status == 201
";

/// A workspace whose configuration has more.
fn with_config(more: &str) -> TestWorkspace {
    let workspace = TestWorkspace::new();
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("a configuration");
    workspace.file("yieldtray.toml", &format!("{config}\n{more}"))
}

fn packhouse_file(workspace: TestWorkspace) -> TestWorkspace {
    workspace.file("openapi.json", yieldtray_packhouse::OPENAPI)
}

#[test]
fn an_unknown_api_is_explored_level_by_level() {
    let workspace = TestWorkspace::new().file("lots.http", LOTS);
    let none = workspace.run(&["api", "tree"]).exits(2);
    assert_eq!(
        none.stderr,
        "error: the API has no description yet in local\n\
         hint: run `yieldtray api fetch`, or set `file` in `[api]` of yieldtray.toml\n"
    );
    // A folder that somebody cloned sends nothing by itself.
    let refused = workspace.run_as_stranger(&["api", "fetch"], &[]).exits(2);
    assert!(refused.stderr.contains("this workspace is not allowed to"), "{}", refused.stderr);
    let fetched = workspace.run(&["api", "fetch"]).exits(0);
    assert_eq!(
        workspace.redacted(&fetched.stderr),
        "fetched 48.2 KiB from http://127.0.0.1:#####/openapi.json: Packhouse, 30 operations\nnext: yieldtray api tree\n"
    );
    let again = workspace.run(&["api", "fetch"]).exits(0);
    assert_eq!(workspace.redacted(&again.stderr), "http://127.0.0.1:#####/openapi.json has not changed\n");
    let mut shown = String::new();
    for args in [
        &["api", "tree"][..],
        &["api", "tree", "/lots"],
        &["api", "tree", "gate"],
        &["api", "tree", "/lotz"],
        &["api", "show", "POST", "/lots"],
        &["api", "show", "list-lots"],
        &["api", "show", "Problem"],
        &["api", "show", "POST /lot"],
    ] {
        let run = workspace.run(args);
        shown.push_str(&format!("$ yieldtray {}\n{}\n", args.join(" "), workspace.redacted(&run.both())));
    }
    insta::assert_snapshot!("explored", shown);
    let data = workspace.run(&["api", "show", "book-lot", "--json"]).exits(0).json();
    assert_eq!(data["requests"], json!(["lots.http#book-a-lot"]));
    assert_eq!(data["body_example"]["bins"], 24);
    let tree = workspace.run(&["api", "tree", "/lots", "--json"]).exits(0).json();
    assert_eq!(tree["operations"][1]["requests"], json!(["lots.http#book-a-lot"]));
    // Another environment has a description of its own.
    workspace.run(&["api", "tree", "-e", "live"]).exits(2);
    let written = workspace.run(&["api", "fetch", "--output", "api.json"]).exits(0);
    assert!(written.stderr.ends_with("written to api.json\n"), "{}", written.stderr);
    assert_eq!(
        std::fs::read_to_string(workspace.path().join("api.json")).ok().as_deref(),
        Some(yieldtray_packhouse::OPENAPI)
    );
}

#[test]
fn a_description_comes_from_where_the_configuration_says() {
    let workspace = packhouse_file(with_config(
        "[api]\nfile = \"openapi.json\"\n\n[api.wire]\nurl = \"{{base}}/openapi.json\"\n\n\
         [api.graph]\ngraphql = \"{{base}}/graphql\"\n\n[api.cell]\nrequest = \"lots.http#describe\"\n\n\
         [environments.live.api.wire]\nurl = \"{{base}}/nowhere\"\n",
    ))
    .file("lots.http", &format!("{LOTS}\n%% Describe\nGET /openapi.json\nX-Api-Key: {{{{key}}}}\n"));
    workspace.run(&["api", "tree"]).exits(0);
    for (name, title) in [("wire", "Packhouse"), ("graph", "The packhouse as a graph"), ("cell", "Packhouse")] {
        let data = workspace.run(&["api", "fetch", "--api", name, "--json"]).exits(0).json();
        assert!(data["title"].as_str().is_some_and(|own| own.starts_with(title)), "{data}");
        workspace.run(&["api", "tree", "--api", name]).exits(0);
    }
    let wrong = workspace.run(&["api", "fetch", "--api", "wire", "-e", "live"]).exits(2);
    assert!(wrong.stderr.contains("/nowhere responded 404 Not Found, not with a description"), "{}", wrong.stderr);
    let unknown = workspace.run(&["api", "tree", "--api", "grahp"]).exits(2);
    assert_eq!(unknown.stderr, "error: no description named `grahp`\nhint: did you mean `graph`?\n");
    let file = workspace.run(&["api", "fetch"]).exits(2);
    assert!(file.stderr.contains("there is nothing to fetch"), "{}", file.stderr);
    let secret = with_config(
        "[api]\nurl = \"{{base}}/{{door}}\"\n\n[values]\ndoor = { value = \"open-sesame\", secret = true }\n",
    );
    let refused = secret.run(&["api", "fetch"]).exits(2);
    assert!(
        refused.stderr.contains("uses the secret `door`") && !refused.stderr.contains("sesame"),
        "{}",
        refused.stderr
    );
}

#[test]
fn mistakes_in_the_section_api_are_told_at_their_places() {
    let workspace = with_config(
        "[api]\nfile = \"../openapi.json\"\nurl = 3\nchek = true\npaths = [\"openapi.json\"]\n\n\
         [api.Stock]\nfile = \"a.json\"\n\n[api.stock]\nfile = \"a.json\"\nurl = \"{{base}}/a\"\n",
    );
    let run = workspace.run(&["list"]).exits(2);
    insta::assert_snapshot!("mistakes", workspace.redacted(&run.stderr));
}

/// Each description has something in it that could cost time, memory or trust.
#[test]
fn hostile_descriptions_do_no_harm() {
    let deep = format!("{}1{}", "[".repeat(100_000), "]".repeat(100_000));
    let bomb: String = (0..30)
        .fold("a0: &a0 [x, x]\n".to_owned(), |text, n| format!("{text}a{}: &a{} [*a{n}, *a{n}]\n", n + 1, n + 1));
    let circle = json!({ "openapi": "3.1.0", "info": { "title": "\u{1b}[2JRed" }, "paths": { "/a": { "$ref": "#/paths/~1b" },
        "/b": { "$ref": "#/paths/~1a" }, "/c\u{1b}[31m": { "get": { "responses": { "200": { "content": { "application/json": {
        "schema": { "$ref": "../../../../etc/passwd#/x" } } } } } } } } });
    let cases = [
        ("{", "it is not valid JSON: EOF while parsing an object"),
        ("openapi: [", "it is not valid YAML"),
        (&deep, "recursion limit"),
        (&bomb, "it is not valid YAML"),
        ("{}", "`openapi` with the version is missing"),
        ("{\"swagger\": \"2.0\"}", "unsupported version 2.0"),
        ("type Query { a: Missing }", "it is not a valid GraphQL schema: line 1"),
        (
            "\u{feff}{\"errors\":[{\"message\":\"introspection is off\"}]}",
            "the response has no schema: introspection is off",
        ),
    ];
    for (text, why) in cases {
        let workspace = with_config("[api]\nfile = \"api.txt\"\n").file("api.txt", text);
        let run = workspace.run(&["api", "tree"]).exits(2);
        assert!(
            run.stderr.starts_with("error: cannot read the description `api.txt`: ") && run.stderr.contains(why),
            "{}",
            run.stderr
        );
    }
    let workspace = with_config("[api]\nfile = \"api.json\"\n").file("api.json", &circle.to_string());
    let run = workspace.run(&["api", "tree"]).exits(0);
    assert!(!run.both().contains('\u{1b}') && run.stdout.contains("/c"), "{}", run.both());
    let shown = workspace.run(&["api", "show", "--json", "GET /c\u{1b}[31m"]).exits(0).json();
    assert_eq!(shown["responses"][0]["content"][0]["schema"], json!({}), "nothing outside is read");
    // A damaged index counts as none.
    let state = workspace.path().join(".yieldtray");
    for entry in std::fs::read_dir(&state).expect("a state").flatten() {
        if entry.file_name().to_string_lossy().ends_with(".index") {
            std::fs::write(entry.path(), b"YTAPI\0\0\x01\xff\xff\xff\xff\xff\xff\xff\x0fzzzz").expect("written");
        }
    }
    workspace.run(&["api", "tree"]).exits(0);
}

#[test]
fn an_introspection_without_end_ends() {
    let base = server(|head| {
        let body = "[".repeat(2 << 20);
        let body = if head.contains("/graphql") { format!("{{\"data\":{{\"__schema\":{body}") } else { body };
        (Duration::ZERO, answer("application/json", &body))
    });
    let workspace = TestWorkspace::empty().file("yieldtray.toml", &format!("[values]\nbase = \"{base}\"\n"));
    let run = workspace.run(&["api", "fetch"]).exits(2);
    assert!(run.stderr.starts_with("error: no description found at http://127.0.0.1"), "{}", run.stderr);
    assert!(run.stderr.contains("tried /, /.well-known/api-catalog, /openapi.json"), "{}", run.stderr);
}

#[test]
fn responses_are_held_against_the_description() {
    let base = server(|head| {
        let lot = |bins: &str| {
            format!(
                "{{\"id\":\"L-1\",\"grower\":\"G-11\",\"variety\":\"gala\",\"bins\":{bins},\"state\":\"open\",\"ref\":null}}"
            )
        };
        let json = |status: &str, body: &str| {
            format!("HTTP/1.1 {status}\r\nContent-Type: application/json\r\nETag: \"1\"\r\nContent-Length: {}\r\n\r\n{body}", body.len()).into_bytes()
        };
        let answer = match head.split(' ').nth(1).unwrap_or_default() {
            "/lots/L-1" => json("200 OK", &lot("24")),
            "/lots/L-2" => json("200 OK", &lot("4000").replace("\"open\"", "\"sold\"").replace(",\"ref\":null", "")),
            "/lots/L-3" => json("418 I'm a teapot", "{}"),
            "/growers" => answer("text/html", "<p>"),
            _ => json("200 OK", "{}"),
        };
        (Duration::ZERO, answer)
    });
    let files = "%% Good\nGET /lots/L-1\n\n%% Wrong body\nGET /lots/L-2\n\n%% Wrong status\nGET /lots/L-3\n\n\
        %% Wrong type\nGET /growers\n\n%% Unknown\nGET /pears\n\n%% Waived\n% waive contract\nGET /pears\n\n\
        %% Elsewhere\nGET http://127.0.0.1:1/x\n% skip when true\n";
    let workspace = packhouse_file(TestWorkspace::empty())
        .file(
            "yieldtray.toml",
            &format!("[values]\nbase = \"{base}\"\n\n[api]\nfile = \"openapi.json\"\ncheck = true\n"),
        )
        .file("a.http", files);
    let run = workspace.run(&["replay", "a.http"]).exits(1);
    let port = base.rsplit(':').next().expect("a port").to_owned();
    insta::assert_snapshot!("contract", workspace.redacted(&run.both()).replace(&port, "#####"));
    // An instruction asks for it where the configuration does not, and then nothing passes silently.
    let config = format!("[values]\nbase = \"{base}\"\n\n[api]\nfile = \"openapi.json\"\n");
    let workspace = workspace
        .file("yieldtray.toml", &config)
        .file("a.http", "% contract\n\n%% Bad\nGET /pears\n\n%% Fine\nGET /lots/L-1\n");
    let run = workspace.run(&["replay", "a.http", "--report", "junit=r.xml"]).exits(1);
    assert!(
        run.stdout.contains("1 of 1 failed") && run.stdout.contains("a.http:1  contract: % contract"),
        "{}",
        run.stdout
    );
    let workspace = workspace.file("yieldtray.toml", &config.replace("openapi.json", "none.json"));
    let run = workspace.run(&["replay", "a.http", "--only", "fine"]).exits(1);
    assert!(run.stdout.contains("cannot read the description `none.json`"), "{}", run.stdout);
    // The log is validated in the same way.
    let run = workspace.file("yieldtray.toml", &config).run(&["replay", "a.http", "--from-log"]).exits(1);
    assert!(run.stdout.contains("`/pears` is not described"), "{}", run.stdout);
}

#[test]
fn coverage_and_drift_say_what_is_missing() {
    let more = "\n%% Upload\nPOST /lots/{{lot}}/photos\n% part photo from lots.http\n% let lot = \"L-2038\"\n\n%% Elsewhere\nGET /pears\n% waive ok\n\n%% From the old URL\nGET /moved\n\n%% As a graph\n% graphql\nPOST /graphql\n\n{ lots { total } }\n";
    let workspace = packhouse_file(with_config("[api]\nfile = \"openapi.json\"\n"))
        .file("lots.http", &format!("{LOTS}{}", more.replace("% waive ok\n", "")));
    let before = workspace.run(&["api", "coverage"]).exits(0);
    assert!(before.stderr.contains("4/30 operations (13 %) · 0/85 statuses"), "{}", before.both());
    assert!(before.stderr.contains("lots.http#elsewhere is no operation of the description"), "{}", before.stderr);
    assert!(workspace.run(&["api", "drift"]).exits(2).stderr.contains("the log has no response of this API"));
    workspace.run(&["replay"]).exits(0);
    let run = workspace
        .run(&[
            "api",
            "coverage",
            "--min",
            "50",
            "--report",
            "html=c.html",
            "--report",
            "junit=c.xml",
            "--report",
            "json=c.json",
        ])
        .exits(1);
    insta::assert_snapshot!("coverage", workspace.redacted(&run.both()));
    let read = |name: &str| std::fs::read_to_string(workspace.path().join(name)).expect("a report");
    let data: Value = serde_json::from_str(&read("c.json")).expect("JSON");
    assert_eq!(data["operation_ratio"], json!({ "covered": 5, "total": 30 }));
    assert_eq!(data, workspace.run(&["api", "coverage", "--json"]).exits(0).json());
    let suite = junit_parser::from_reader(read("c.xml").as_bytes()).expect("JUnit XML");
    assert_eq!((suite.suites[0].tests, suite.suites[0].failures), (30, 25));
    assert!(read("c.html").contains("<title>API coverage: Packhouse</title>"));
    let quiet = workspace.run(&["api", "drift"]).exits(0);
    assert_eq!(
        quiet.stderr.lines().last(),
        Some("6 exchanges compared: nothing undocumented, 8 never received"),
        "{}",
        quiet.both()
    );
    workspace.run(&["api", "drift", "--strict"]).exits(1);
    // The description forgets a member, and has another type for one.
    let mut less: Value = serde_json::from_str(yieldtray_packhouse::OPENAPI).expect("JSON");
    let page = less["components"]["schemas"]["LotPage"].as_object_mut().expect("a schema");
    page["properties"].as_object_mut().expect("members").remove("total");
    page["properties"]["page"] = json!({ "type": "string" });
    let workspace = workspace.file("openapi.json", &less.to_string());
    let drift = workspace.run(&["api", "drift"]).exits(1);
    let first: Vec<&str> = drift.stdout.lines().take(2).map(str::trim_end).collect();
    assert_eq!(
        first,
        [
            "✗  undocumented member    GET /lots               200 total (integer)                        1 ×  log 1",
            "✗  other type             GET /lots               200 page is integer, documented as string  1 ×  log 1",
        ],
        "{}",
        drift.stdout
    );
    let data = workspace.run(&["api", "drift", "--json"]).exits(1).json();
    assert_eq!(data["differences"][0]["kind"], "undocumented-member");
}

#[test]
fn two_descriptions_are_compared() {
    let mut new: Value = serde_json::from_str(yieldtray_packhouse::OPENAPI).expect("JSON");
    new["paths"]["/growers/{id}"] = json!({});
    new["components"]["schemas"]["NewLot"]["required"] = json!(["grower", "bins", "variety"]);
    new["components"]["schemas"]["Lot"]["properties"]["bins"] = json!({ "type": "string" });
    new["paths"]["/pears"] = json!({ "get": { "responses": {} } });
    let workspace = packhouse_file(with_config("[api]\nfile = \"openapi.json\"\n")).file("new.json", &new.to_string());
    let run = workspace.run(&["api", "diff", "openapi.json", "new.json"]).exits(1);
    insta::assert_snapshot!("diff", run.both());
    let same = workspace.run(&["api", "diff", "openapi.json"]).exits(0);
    assert_eq!(same.stderr, "no differences\n");
    let data = workspace.run(&["api", "diff", "openapi.json", "new.json", "--json"]).exits(1).json();
    assert_eq!(data["breaking"], 7, "{data}");
    workspace.run(&["api", "diff", "openapi.json", "none.json"]).exits(2);
}

#[test]
fn lint_knows_the_description() {
    let file = "%% Wrong\nGET /lotz\n\n%% Method\nDELETE /growers\n\n%% Missing\nGET /scale/flaky?key=x\n\n\
        %% Deprecated\nPUT /lots/L-2038\n\n%% Body\nPOST /lots\n\n\
        { \"grower\": {{grower}}, \"bins\": 4000, \"variety\": 7 }\n\n\
        %% Expressions\nGET /lots\n\n% check body.lots.all(l, l.bin > 3)\n% check body.total == \"3\"\n";
    let config = "[values]\nbase = \"http://127.0.0.1:1\"\ngrower = \"G-11\"\n\n[api]\nfile = \"openapi.json\"\n";
    let workspace = packhouse_file(TestWorkspace::empty()).file("yieldtray.toml", config).file("a.http", file);
    let run = workspace.run(&["lint"]).exits(0);
    insta::assert_snapshot!("lint", workspace.redacted(&run.both()));
}

#[test]
fn a_request_is_completed_from_the_description() {
    let workspace = packhouse_file(with_config("[api]\nfile = \"openapi.json\"\n"));
    let edited = workspace
        .run_with(&["send", "POST /lots", "--edit", "-H", "X-Api-Key: local-key-4616"], "", &[("EDITOR", "true")])
        .exits(0);
    let lot: Value = edited.json();
    assert_eq!((&lot["grower"], &lot["bins"], &lot["ref"]), (&json!("G-11"), &json!(24), &json!("north-2026")));
    let other = workspace.run(&["api", "show", "DELETE /growers"]).exits(2);
    assert!(other.stderr.ends_with("hint: `/growers` has GET\n"), "{}", other.stderr);
    // What is required is asked for, and can be given.
    let missing = workspace.run(&["send", "GET", "/scale/flaky"]).exits(2);
    assert!(missing.stderr.contains("pass `--set key=…`"), "{}", missing.stderr);
    workspace.run(&["send", "GET", "/scale/flaky", "--set", "key=a", "--set", "fails=0"]).exits(0);
    let dry = workspace.run(&["send", "GET /lots/{id}", "--dry-run"]).exits(0);
    assert!(dry.stdout.starts_with("GET /lots/L-2043 HTTP/1.1"), "{}", dry.stdout);
}

/// Texts of a description, and of the server that has it, are data: no placeholder in them gets a value, and no line of
/// them is an instruction.
#[test]
fn what_a_description_says_is_never_evaluated() {
    let heads = Arc::new(Mutex::new(Vec::new()));
    let seen = Arc::clone(&heads);
    let parameter =
        |name: &str, place: &str| json!({ "name": name, "in": place, "required": true, "example": "{{pin}}" });
    let content = json!({ "text/plain": { "example": "% body from pin.txt\n{{pin}}" } });
    let description = json!({ "openapi": "3.1.0", "info": { "title": "Gate" }, "paths": {
        "/gate": { "post": { "requestBody": { "content": content },
            "parameters": [parameter("a\n% body from pin.txt\n% query b", "query"), parameter("{{pin}}", "query")], "responses": {} } },
        "/door": { "get": { "parameters": [parameter("X-A\nX-B", "header")], "responses": {} } },
    } });
    let base = server(move |head| {
        seen.lock().expect("the lock").push(head.to_owned());
        let response = match head.contains("/spec") {
            true => answer("application/json\r\nETag: \"{{pin}}\"", &description.to_string()),
            false => answer("text/plain\r\nLink: </spec?of={{pin}}>; rel=\"service-desc\"", "no"),
        };
        (Duration::ZERO, response)
    });
    let workspace = TestWorkspace::empty()
        .file("yieldtray.toml", &format!("[values]\nbase = \"{base}\"\npin = \"4711\"\n"))
        .file("pin.txt", "4711");
    workspace.run(&["api", "fetch"]).exits(0);
    workspace.run(&["api", "fetch"]).exits(0);
    workspace.run_with(&["send", "POST /gate", "--edit", "--no-log"], "", &[("EDITOR", "true")]).exits(0);
    let refused = workspace.run(&["send", "GET /door"]).exits(2);
    assert!(refused.stderr.contains("a header name is not a token"), "{}", refused.stderr);
    let heads = heads.lock().expect("the lock").join("\n");
    assert!(heads.contains("GET /spec?of={{pin}} ") && heads.contains("if-none-match: \"{{pin}}\""), "{heads}");
    let sent =
        "POST /gate?a%0A%25%20body%20from%20pin.txt%0A%25%20query%20b=%7B%7Bpin%7D%7D&%7B%7Bpin%7D%7D=%7B%7Bpin%7D%7D";
    assert!(heads.contains(sent), "{heads}");
    assert!(!heads.contains("4711"), "{heads}");
}

const GRAPH: &str = "%% Open lots
% graphql
% operation Open
% variable grower = grower
% fragments from lot.graphql
POST /graphql

query Open($grower: ID!) { lots(grower: $grower, state: OPEN) { nodes { ...Line } } }
query Other { growers { id } }

% check errors == [] && extensions == {}
% check data.lots.nodes.all(lot, lot.grower.id == grower)

%% Price
% graphql
% variable id = \"L-2038\"
POST /graphql

query ($id: ID!) {
  lot(id: $id) { id price }
}

% check data.lot.price == null

%% By query
% graphql
% variable first = 2
GET /graphql

query ($first: Int!) { lots(first: $first) { total } }

%% Photo
% graphql
% variable lot = \"L-2038\"
% part photo from lot.graphql as leaf.svg
POST /graphql
X-Api-Key: {{key}}

mutation ($lot: ID!, $photo: Upload!) { attachPhoto(lot: $lot, photo: $photo) { filename bytes } }

% check data.attachPhoto.filename == \"leaf.svg\"
";

fn graph() -> TestWorkspace {
    with_config("[api]\ngraphql = \"{{base}}/graphql\"\n")
        .file("graph.http", GRAPH)
        .file("lot.graphql", "fragment Line on Lot { id grower { id } }\n")
}

#[test]
fn graphql_requests_are_sent_and_their_errors_shown_in_the_document() {
    let workspace = graph();
    let run = workspace.run(&["replay", "graph.http", "--seed", "1"]).exits(0);
    insta::assert_snapshot!("graphql_replay", workspace.redacted(&run.both()));
    let dry =
        |name: &str| workspace.redacted(&workspace.run(&["send", name, "--dry-run", "--seed", "1"]).exits(0).stdout);
    insta::assert_snapshot!("graphql_sent", format!("{}\n\n{}\n{}", dry("open-lots"), dry("by-query"), dry("photo")));
    // One that fails for its errors.
    let strict = graph().file(
        "strict.http",
        "%% Strict\n% graphql\nPOST /graphql\n\n{ lot(id: \"L-2038\") { price } }\n\n% check errors == []\n",
    );
    let failed = strict.run(&["send", "strict"]).exits(1);
    assert!(
        failed.stderr.contains("check errors == []") || failed.stderr.contains("errors == []"),
        "{}",
        failed.stderr
    );
    assert!(!failed.stderr.contains("graphql-errors"), "a check reads them: {}", failed.stderr);
}

#[test]
fn graphql_documents_are_validated_before_they_are_sent() {
    let workspace = graph().file(
        "wrong.http",
        "%% Field\n% graphql\nPOST /graphql\n\n{ lots { nodes { id binz crates } } }\n\n% check data.lots.nodes.all(n, n.bin > 1)\n\n\
         %% Variables\n% graphql\n% variable idd = 1\nPOST /graphql\n\nquery ($id: ID!) { lot(id: $id) { id } }\n\n\
         %% Syntax\n% graphql\nPOST /graphql\n\n{ lots(first: ) { total }\n\n\
         %% Several\n% graphql\nPOST /graphql\n\nquery A { growers { id } }\nquery B { growers { id } }\n\n\
         %% Mutation\n% graphql\nGET /graphql\n\nmutation { closeLot(id: \"L-2038\") { id } }\n\n\
         %% Marks\n% graphql\nPOST /graphql\n\n{ lot(id: \"{{grower}}\") { id } }\n\n\
         %% None\n% graphql\nPOST /graphql\n\n%% Plain\n% variable a = 1\nGET /lots\n\n\
         %% Type\n% graphql\n% variable first = \"three\"\nPOST /graphql\n\nquery ($first: Int!) { lots(first: $first) { total } }\n",
    );
    let before = workspace.run(&["lint", "wrong.http"]).exits(2);
    assert!(!before.stderr.contains("binz"), "without a schema only the syntax is known: {}", before.stderr);
    workspace.run(&["api", "fetch"]).exits(0);
    let run = workspace.run(&["lint", "wrong.http"]).exits(2);
    insta::assert_snapshot!("graphql_lint", workspace.redacted(&run.both()));
    let run = workspace.run(&["send", "type"]).exits(2);
    assert!(run.stderr.contains("\"three\" is not a value of the type `Int` of `$first`"), "{}", run.stderr);
    let shown = workspace.run(&["api", "show", "Mutation.bookLot"]).exits(0);
    insta::assert_snapshot!("graphql_show", shown.stdout);
    // The example is a request that can be sent.
    let example: String = shown
        .stdout
        .split("Request\n")
        .nth(1)
        .expect("an example")
        .lines()
        .map(|line| format!("{}\n", line.get(2..).unwrap_or("")))
        .collect();
    let example = example.replace("\"text\"", "\"G-11\"").replace("POST /graphql", "POST /graphql\nX-Api-Key: {{key}}");
    let workspace = workspace.file("new.http", &format!("%% New\n{example}\n% check errors == []\n"));
    workspace.run(&["send", "new"]).exits(0);
}

/// Each document is held against the schema of the endpoint that it goes to.
#[test]
fn each_endpoint_has_its_own_schema() {
    let config = "[api.stock]\nfile = \"stock.graphql\"\n\n[api.graph]\ngraphql = \"{{base}}/graphql\"\n";
    let workspace = with_config(config).file("stock.graphql", "type Query { crates: Int! }\n").file(
        "a.http",
        "%% Graph\n% graphql\nPOST /graphql\n\n{ lots { total } }\n\n\
         %% Stock\n% graphql\nPOST {{base}}/stock\n\n{ crates }\n\n\
         %% Elsewhere\n% graphql\nPOST http://127.0.0.1:1/graphql\n\n{ pears }\n",
    );
    workspace.run(&["api", "fetch", "--api", "graph"]).exits(0);
    let run = workspace.run(&["lint", "a.http"]);
    assert!(run.stdout.contains("3 requests") && !run.stdout.contains("invalid-graphql"), "{}", run.both());
    let swapped = workspace.file("a.http", "%% Graph\n% graphql\nPOST /graphql\n\n{ crates }\n");
    let run = swapped.run(&["lint", "a.http"]);
    assert!(run.stdout.contains("type `Query` does not have a field `crates`"), "{}", run.both());
}

#[test]
fn a_server_that_keeps_its_schema_says_so() {
    let workspace = TestWorkspace::empty();
    let packhouse =
        yieldtray_packhouse::Packhouse::start(yieldtray_packhouse::Server::Production).expect("a packhouse");
    let config = format!("[values]\nbase = \"{}\"\n\n[api]\ngraphql = \"{{{{base}}}}/graphql\"\n", packhouse.base());
    let run = workspace.file("yieldtray.toml", &config).run(&["api", "fetch"]).exits(2);
    assert!(run.stderr.contains("is not a description: the response has no schema"), "{}", run.stderr);
}

#[test]
fn graphql_comes_in_from_commands_and_goes_out_as_code() {
    let workspace = graph();
    let command = "curl -X POST http://127.0.0.1:4616/graphql -H 'Content-Type: application/json' -d '{\"query\":\"query Lot($id: ID!) {\\n  lot(id: $id) { id }\\n}\",\"variables\":{\"id\":\"L-1\"}}'";
    let imported = workspace.run(&["import", "curl", command]).exits(0);
    assert!(
        imported.stdout.contains("% graphql\n% variable id = \"L-1\"\nPOST http://127.0.0.1:4616/graphql\n")
            && imported.stdout.contains("\n\nquery Lot($id: ID!) {\n  lot(id: $id) { id }\n}\n"),
        "{}",
        imported.stdout
    );
    let exported = workspace.run(&["export", "price", "--as", "shell"]).exits(0);
    assert!(exported.stdout.contains("\"variables\"") && exported.stdout.contains("L-2038"), "{}", exported.stdout);
}

#[test]
fn an_editor_knows_both_kinds_of_description() {
    let file = "%% Book\nPOST /lots\nX-Api-Key: {{key}}\n\n{ \"bins\": 3,  }\n\n% check body.\n\n\
        %% List\nGET /lots\n% query st\n\n%% Path\nGET /lo\n";
    let graph_file = "%% Graph\n% graphql\nPOST /graphql\n\nquery ($g: ID!) { lots(grower: $g, sta) { nodes { id bi grower { name } } } }\n";
    let workspace =
        packhouse_file(with_config("[api]\nfile = \"openapi.json\"\n\n[api.graph]\ngraphql = \"{{base}}/graphql\"\n"))
            .file("a.http", file)
            .file("g.http", graph_file);
    workspace.run(&["api", "fetch", "--api", "graph"]).exits(0);
    let mut editor = Editor::start(&workspace);
    editor.open("a.http");
    let at = |text: &str, of: &str, extra: usize| {
        let at = text.find(of).expect("it is there") + of.len() - extra;
        let line = text[..at].matches('\n').count();
        json!({ "line": line, "character": at - text[..at].rfind('\n').map_or(0, |end| end + 1) })
    };
    let mut labels = |name: &str, position: Value| -> Vec<String> {
        let found = editor.ask(
            "textDocument/completion",
            json!({ "textDocument": { "uri": editor.uri(name) }, "position": position }),
        );
        let items = found["items"].as_array().or_else(|| found.as_array()).expect("items").clone();
        items.iter().map(|item| item["label"].as_str().expect("a label").to_owned()).collect()
    };
    let members = labels("a.http", at(file, "\"bins\": 3,  ", 1));
    assert_eq!(members, ["grower", "ref", "variety"]);
    let body = labels("a.http", at(file, "% check body.", 0));
    assert!(["bins", "grower", "id"].iter().all(|name| body.contains(&(*name).to_owned())), "{body:?}");
    let query = labels("a.http", at(file, "% query st", 0));
    assert_eq!(query, ["state"]);
    let paths = labels("a.http", at(file, "GET /lo\n", 1));
    assert!(paths.contains(&"/lots/{id}/weighings".to_owned()) && !paths.contains(&"/growers".to_owned()), "{paths:?}");
    let arguments = labels("g.http", at(graph_file, "sta", 0));
    assert_eq!(arguments, ["state"]);
    let fields = labels("g.http", at(graph_file, "id bi", 0));
    assert_eq!(fields, ["bins"]);
    let hover = |editor: &mut Editor, name: &str, position: Value| {
        let found = editor
            .ask("textDocument/hover", json!({ "textDocument": { "uri": editor.uri(name) }, "position": position }));
        found["contents"]["value"].as_str().unwrap_or_default().to_owned()
    };
    let operation = hover(&mut editor, "a.http", at(file, "POST /lots", 2));
    assert!(
        operation.starts_with("**`POST /lots`** Book a lot in")
            && operation.contains("| 422 | Fields that do not fit. |"),
        "{operation}"
    );
    assert_eq!(
        hover(&mut editor, "a.http", at(file, "\"bins\"", 2)),
        "`bins`: integer, required\n\nHow many bins were delivered."
    );
    assert_eq!(hover(&mut editor, "g.http", at(graph_file, "grower { name", 2)), "`Grower.name: String!`");
    let place = editor.ask(
        "textDocument/definition",
        json!({ "textDocument": { "uri": editor.uri("a.http") }, "position": at(file, "POST /lots", 2) }),
    );
    let line = yieldtray_packhouse::OPENAPI.lines().position(|line| line.trim() == "\"post\": {").expect("a line");
    assert!(place[0]["uri"].as_str().is_some_and(|uri| uri.ends_with("/openapi.json")), "{place}");
    assert!(place[0]["range"]["start"]["line"].as_u64().is_some_and(|found| found >= line as u64), "{place}");
    let found = editor.open("g.http");
    let found = described(&found);
    assert!(found.iter().any(|line| line.contains("type `Lot` does not have a field `bi`")), "{found:?}");
    assert_eq!(editor.end(), 0);
}
