//! `yieldtray send` on the built program.

use crate::support::TestWorkspace;

const LOTS: &str = "# The lots.

%% All lots
GET /lots?per_page=1

% check status == 200
% yield first = body.lots[0].id

%% Echo
POST /echo
X-Grower: {{grower}}

{ \"grower\": \"{{grower}}\", \"bins\": {{bins}} }

%% One lot
% needs all-lots
GET /lots/{{first}}

% check body.id == first
";

fn workspace() -> TestWorkspace {
    TestWorkspace::new().file("requests/lots.http", LOTS).file("requests/only.http", "GET /health\n")
}

#[test]
fn each_form_of_a_place_finds_its_cell() {
    let workspace = workspace();
    for place in ["requests/lots.http#all-lots", "requests/lots.http:4", "requests/lots.http:7", "all-lots"] {
        let run = workspace.run(&["send", place]).exits(0);
        assert!(run.stdout.starts_with("{\"lots\":[{\"id\":\"L-2038\""), "{place}: {}", run.stdout);
        assert!(run.stderr.contains("  requests/lots.http:3  all-lots\n"), "{place}: {}", run.stderr);
    }
    for place in ["requests/only.http", "./requests/only.http:1", "only"] {
        let run = workspace.run(&["send", place]).exits(0);
        assert_eq!(run.stdout, "{\"status\":\"open\",\"server\":\"local\"}", "{place}");
    }
    let inside = workspace.run(&["send", "-C", "requests", "only.http"]).exits(0);
    assert!(inside.stderr.contains("requests/only.http:1"));
}

#[test]
fn places_that_name_no_one_cell_say_which_there_are() {
    let workspace = workspace().file("requests/more.http", "%% Echo\n/echo\n");
    for (place, expected) in [
        ("requests/lots.http", "`requests/lots.http` contains 3 requests"),
        ("requests/lots.http#all-lot", "did you mean `all-lots`?"),
        ("requests/lots.http:1", "line 1 of `requests/lots.http` is before the first request"),
        ("requests/lots.http:99", "`requests/lots.http` has no line 99"),
        ("requests/gone.http", "no file `requests/gone.http`"),
        ("al-lots", "did you mean `all-lots`?"),
        ("echo", "choose one of `requests/lots.http#echo` and `requests/more.http#echo`"),
        ("../else.http", "no file `../else.http`"),
    ] {
        let run = workspace.run(&["send", place]).exits(2);
        assert!(run.stderr.contains(expected), "{place}: {}", run.stderr);
        assert_eq!(run.stdout, "");
    }
}

#[test]
fn a_request_comes_from_the_line_or_from_standard_input() {
    let workspace = workspace();
    let run = workspace.run(&["send", "--text", "GET /growers/{{grower}}", "--pick", "body.name"]).exits(0);
    assert_eq!(run.stdout, "Marlow Ridge\n");
    let cell =
        "POST /echo\nContent-Type: text/plain\n\ntwo\nlines\n\n% check status == 200\n% check body.body == 'two'\n";
    let run = workspace.run_with(&["send", "-", "--pick", "body.body"], cell, &[]).exits(1);
    assert_eq!(run.stdout, "two\nlines\n");
    assert!(run.stderr.contains("1 of 2 checks failed"), "{}", run.stderr);
    assert!(run.stderr.contains("<stdin>:8"), "{}", run.stderr);
    // Without a configuration a file still sends.
    let alone = TestWorkspace::empty();
    let run = alone.run(&["send", "--text", &format!("{}/health", workspace.base())]).exits(0);
    assert!(run.stderr.starts_with("no environment  "), "{}", run.stderr);
    alone.run(&["send", "--text", "%% a\n/x\n%% b\n/y"]).exits(2);
    alone.run_with(&["send", "-"], "# nothing", &[]).exits(2);
}

#[test]
fn values_come_from_the_environment_and_the_line() {
    let workspace = workspace();
    let sent = |args: &[&str], variables: &[(&str, &str)]| {
        let args = [&["send", "echo", "--set", "bins=24", "--pick", "body.body"], args].concat();
        workspace.run_with(&args, "", variables).exits(0).stdout
    };
    assert_eq!(sent(&[], &[]), "{ \"grower\": \"G-11\", \"bins\": 24 }\n");
    assert_eq!(sent(&["-e", "live"], &[]), "{ \"grower\": \"G-13\", \"bins\": 24 }\n");
    assert_eq!(sent(&[], &[("YIELDTRAY_ENV", "live")]), "{ \"grower\": \"G-13\", \"bins\": 24 }\n");
    assert_eq!(sent(&["-e", "local"], &[("YIELDTRAY_ENV", "live")]), "{ \"grower\": \"G-11\", \"bins\": 24 }\n");
    assert_eq!(sent(&["--set", "grower=G\"9"], &[]), "{ \"grower\": \"G\\\"9\", \"bins\": 24 }\n");
    let unknown = workspace.run(&["send", "echo", "-e", "loacl"]).exits(2);
    assert!(unknown.stderr.contains("no environment `loacl`") && unknown.stderr.contains("did you mean `local`?"));
    workspace.run(&["send", "echo", "--set", "status=1"]).exits(2);
    let header = workspace.run(&["send", "echo", "-H", "foo"]).exits(2);
    assert!(header.stderr.contains("the colon is missing\nhint: write `foo: VALUE`"), "{}", header.stderr);
    let file = workspace.run(&["send", "requests/lot.http"]).exits(2);
    assert!(file.stderr.contains("hint: did you mean `requests/lots.http`?"), "{}", file.stderr);
    let directly = workspace.run(&["send", "POST", &format!("{}/echo", workspace.base())]).exits(0);
    assert!(directly.stdout.contains("\"method\":\"POST\""), "{}", directly.both());
    workspace.run(&["send", &format!("{}/health", workspace.base())]).exits(0);
    workspace.run(&["send", "echo", "echo"]).exits(2);
}

#[test]
fn what_a_cell_needs_is_sent_first_when_told_to() {
    let workspace = workspace();
    let alone = workspace.run(&["send", "one-lot"]).exits(2);
    insta::assert_snapshot!("needs_never", workspace.redacted(&alone.both()));
    let both = workspace.run(&["send", "one-lot", "--needs", "send"]).exits(0);
    assert!(both.stdout.starts_with("{\"id\":\"L-2038\""));
    assert!(both.stderr.contains("all-lots  GET  /lots?per_page=1"), "{}", both.stderr);
}

#[test]
fn the_body_is_piped_byte_for_byte() {
    let workspace = workspace();
    let run = workspace.run(&["send", "--text", "GET /stock.csv"]).exits(0);
    assert!(run.stdout.starts_with("lot,grower,variety,bins\r\nL-2038,"));
    let image = workspace.run(&["send", "--text", "GET /lots/L-2038/label.png"]).exits(0);
    assert!(image.bytes.starts_with(b"\x89PNG\r\n\x1a\n"));
    let file = workspace.path().join("label.png");
    let kept = workspace.run(&["send", "--text", "GET /lots/L-2038/label.png", "--output", "label.png"]).exits(0);
    assert_eq!(kept.stdout, "");
    assert_eq!(std::fs::read(&file).expect("the file is there"), image.bytes);
    let names: Vec<_> = std::fs::read_dir(workspace.path())
        .expect("a folder")
        .filter_map(|e| e.ok()?.file_name().into_string().ok())
        .collect();
    assert!(names.iter().all(|name| !name.starts_with(".yieldtray-")), "nothing half-written is left: {names:?}");
    let nowhere = workspace.run(&["send", "--text", "GET /health", "--output", "no/such/folder"]).exits(2);
    assert!(nowhere.stderr.contains("cannot write `no/such/folder`"), "{}", nowhere.stderr);
}

#[test]
fn parts_are_shown_when_asked_for() {
    let workspace = workspace();
    let run = workspace.run(&["send", "echo", "--set", "bins=3", "--show", "sent,head,body"]).exits(0);
    let stable = workspace.redacted(&run.stdout);
    let stable: String =
        stable.lines().filter(|line| !line.starts_with("date:")).map(|line| format!("{line}\n")).collect();
    insta::assert_snapshot!("show_parts", stable);
    let timeline = workspace.run(&["send", "only", "--show", "timeline"]).exits(0).stdout;
    // An IP address needs no lookup.
    let phases: Vec<&str> = timeline.lines().skip(1).filter_map(|line| line.get(..10)).map(str::trim).collect();
    assert_eq!(phases, ["connect", "wait", "receive", "total"]);
}

#[test]
fn data_has_the_documented_shape() {
    let workspace = workspace();
    let data = workspace.run(&["send", "all-lots", "--json"]).exits(0).json();
    assert_eq!(data["environment"], "local");
    let cell = &data["cells"][0];
    assert_eq!(
        (cell["file"].as_str(), cell["line"].as_u64(), cell["name"].as_str()),
        (Some("requests/lots.http"), Some(3), Some("all-lots"))
    );
    assert_eq!((cell["outcome"].as_str(), cell["checks"].as_u64()), (Some("passed"), Some(1)));
    assert_eq!(cell["yields"][0], serde_json::json!({ "name": "first", "value": "\"L-2038\"" }));
    assert_eq!(data["response"]["status"], 200);
    assert_eq!(data["response"]["body"]["lots"][0]["id"], "L-2038");
    assert!(data["response"]["timings_ms"]["wait"].as_f64().is_some_and(|ms| ms > 0.0));
    let broken = workspace.run(&["send", "--text", "GET /{{nope}}", "--json"]).exits(2).json();
    let problem = &broken["cells"][0]["diagnostics"][0];
    assert_eq!(
        (
            problem["code"].as_str(),
            problem["line"].as_u64(),
            problem["column"].as_u64(),
            problem["end_column"].as_u64()
        ),
        (Some("unknown-variable"), Some(1), Some(8), Some(12))
    );
    let refused = workspace.run(&["send", "gone.http", "--json"]).exits(2).json();
    assert_eq!(refused["diagnostics"][0]["message"], "no file `gone.http`");
}

#[test]
fn a_redirect_is_told() {
    let workspace = workspace();
    let run = workspace.run(&["send", "--text", "POST /lots/\n\n{}"]).exits(0);
    assert!(
        workspace.redacted(&run.stderr).contains(
            "POST http://127.0.0.1:#####/lots/ → 301 http://127.0.0.1:#####/lots\nGET http://127.0.0.1:#####/lots  200 OK"
        ),
        "{}",
        run.stderr
    );
}

#[test]
fn no_secret_is_shown_in_any_form() {
    let canary = "c4n/ary \"+ß";
    let workspace = TestWorkspace::new().file(
        "s.http",
        "%% One\nPOST /echo\nContent-Type: text/plain\nX-Shown: {{base64(c)}}\n\n{{c}}\n\n% yield s = body.body secret\n% check body.body == 'x'\n\
         %% Two\n% needs one\nPOST /echo?q={{s}}\nAuthorization: Bearer {{s}}\nX-Form: {{sha256(s)}}\n\n{ \"s\": \"{{s}}\", \"b\": \"{{base64('ab' + s)}}\" }\n\n\
         % check false else \"{{s}}\"\n% check sent.body == s\n% check path(body, s) == []\n% yield again = s\n",
    );
    let set = format!("c={canary}");
    // The first is only known as a secret once it was yielded, so the second is what is looked at.
    for args in [
        &["send", "two", "--needs", "send"][..],
        &["send", "two", "--needs", "send", "--show", "all"],
        &["send", "two", "--needs", "send", "--json"],
        &["send", "two", "--needs", "send", "--pick", "body"],
        &["send", "two", "--needs", "send", "-v"],
        &["replay"],
        &["replay", "--json"],
    ] {
        // The check that fails in the first cell must not keep the second from being sent.
        let fixed = std::fs::read_to_string(workspace.path().join("s.http"))
            .expect("a file")
            .replace("% check body.body == 'x'\n", "");
        std::fs::write(workspace.path().join("s.http"), fixed).expect("files can be written");
        let args = [args, &["--set", &set]].concat();
        let run = workspace.run(&args);
        let output = run.both();
        for form in [
            canary.to_owned(),
            "c4n%2Fary".to_owned(),
            "c4n/ary \\\"".to_owned(),
            "YzRuL2FyeSA".to_owned(),
            "M0bi9hcnkgI".to_owned(),
        ] {
            assert!(!output.contains(&form), "{args:?} shows {form}:\n{output}");
        }
        assert!(output.contains("[secret]"), "{args:?}:\n{output}");
    }
}
