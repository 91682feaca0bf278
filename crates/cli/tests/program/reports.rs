//! Reports, read by programs that know their formats: no test here trusts our own reading alone.

use crate::support::{TestWorkspace, raw_server};
use serde_json::Value;
use std::path::Path;
#[cfg(feature = "other-programs")]
use std::process::{Command, Stdio};

const KINDS: [(&str, &str); 5] =
    [("junit", "r.xml"), ("tap", "r.tap"), ("json", "r.json"), ("har", "r.har"), ("html", "r.html")];

/// A cell for each way to come out, and a table.
const DESK: &str = "%% Book
POST /lots
X-Api-Key: {{key}}

{ \"grower\": \"G-11\", \"bins\": 24 }

% yield lot_id = body.id
% check status == 201

%% Read
% needs book
GET /lots/{{lot_id}}?for=the+scale

% check counted: body.bins == 25 else \"count again\"
% yield colour = body.colour

%% Ship
% needs read, book
GET /lots/{{lot_id}}

%% Hall
% skip when true
GET /health

%% Scale
GET http://127.0.0.1:1/scale

%% Slip
GET /{{nobody_gives_this}}

%% Label
% needs book
GET /lots/{{lot_id}}/label.png

%% Readings
GET /scale/readings?count=2

%% Talk
GET /scale/socket

% expect message.ready within 5s

%% Pages
% follow next
GET /readings

%% Rows
% each row in \"rows.csv\"
GET /lots?page={{bins}}

% check status == 200
";

fn workspace() -> TestWorkspace {
    TestWorkspace::new().file("desk.http", DESK).file("rows.csv", "bins\n1\n2\n")
}

/// The options that ask for every format.
fn all_reports() -> Vec<String> {
    KINDS.iter().flat_map(|(kind, file)| ["--report".to_owned(), format!("{kind}={file}")]).collect()
}

fn replay(workspace: &TestWorkspace, more: &[&str], code: i32) -> crate::support::Run {
    let reports = all_reports();
    let args: Vec<&str> =
        ["replay"].into_iter().chain(more.iter().copied()).chain(reports.iter().map(String::as_str)).collect();
    workspace.run(&args).exits(code)
}

fn text(workspace: &TestWorkspace, file: &str) -> String {
    std::fs::read_to_string(workspace.path().join(file)).expect("the report is there")
}

/// Another program, which must be there: a test that cannot judge must not pass.
#[cfg(feature = "other-programs")]
fn tool(program: &str, args: &[&str], folder: &Path) -> (bool, String) {
    let output = Command::new(program)
        .args(args)
        .current_dir(folder)
        .stdin(Stdio::null())
        .output()
        .unwrap_or_else(|error| panic!("`{program}` is needed here: {error}"));
    let both = [output.stdout, output.stderr].concat();
    (output.status.success(), String::from_utf8_lossy(&both).into_owned())
}

/// Each report of a folder against its schema and a second parser; gives the number of entries in each.
#[track_caller]
fn are_well_formed(workspace: &TestWorkspace) -> (usize, usize) {
    #[cfg(feature = "other-programs")]
    {
        let schema = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/schemas/junit.xsd");
        let (valid, message) = tool(
            "xmllint",
            &["--noout", "--huge", "--schema", &schema.display().to_string(), "r.xml"],
            workspace.path(),
        );
        assert!(valid, "{message}");
    }
    let suites = junit_parser::from_reader(text(workspace, "r.xml").as_bytes()).expect("JUnit XML");
    let cases = suites.suites.iter().flat_map(|suite| &suite.cases).count();
    assert_eq!(suites.tests as usize, cases);

    #[cfg(feature = "other-programs")]
    {
        // Its plan, numbers and points are looked at by Perl's own reader of TAP.
        let reader = "use TAP::Parser; my $p = TAP::Parser->new({ tap => join('', <STDIN>), version => 13 }); my $n = 0; \
                      while (my $r = $p->next) { $n++ if $r->is_test; print 'unknown: ', $r->raw, \"\\n\" if $r->is_unknown && $r->raw !~ /^ / } \
                      print join('; ', $p->parse_errors), \"\\n\"; print \"points $n\\n\";";
        let tap = text(workspace, "r.tap").replacen("TAP version 14", "TAP version 13", 1);
        std::fs::write(workspace.path().join("r13.tap"), tap).expect("a file");
        let (_, message) = tool(
            "sh",
            &["-c", &format!("perl -e \"{}\" < r13.tap", reader.replace('$', "\\$").replace('"', "\\\""))],
            workspace.path(),
        );
        assert_eq!(message, format!("\npoints {cases}\n"), "{}", text(workspace, "r.tap"));
    }

    let json: Value = serde_json::from_str(&text(workspace, "r.json")).expect("JSON");
    let schema = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/report.schema.json");
    let schema: Value = serde_json::from_slice(&std::fs::read(schema).expect("the schema")).expect("JSON");
    let schema = jsonschema::validator_for(&schema).expect("a schema");
    let wrong: Vec<String> =
        schema.iter_errors(&json).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert_eq!(wrong, Vec::<String>::new());
    assert_eq!(json["entries"].as_array().expect("a list").len(), cases);

    let har::Har { log: har::Spec::V1_2(log) } = har::from_str(&text(workspace, "r.har")).expect("HAR 1.2") else {
        panic!("another version");
    };
    for entry in &log.entries {
        let timings = &entry.timings;
        let parts = [
            timings.blocked.unwrap_or(-1.0),
            timings.dns.unwrap_or(-1.0),
            timings.connect.unwrap_or(-1.0),
            timings.send,
            timings.wait,
            timings.receive,
        ];
        let sum: f64 = parts.into_iter().filter(|part| *part > 0.0).sum();
        assert!((sum - entry.time).abs() < 0.01, "the phases come to the whole: {parts:?} and {}", entry.time);
    }
    (cases, log.entries.len())
}

#[test]
fn every_format_is_what_it_says_and_tells_the_same() {
    let workspace = workspace();
    let run = replay(&workspace, &[], 3);
    assert!(run.stderr.contains("reports written to r.xml, r.tap, r.json, r.har and r.html"), "{}", run.stderr);
    let (cases, exchanges) = are_well_formed(&workspace);
    // Ten cells, one of them for two rows; three of them were not sent.
    assert_eq!((cases, exchanges), (12, 9));

    let suites = junit_parser::from_reader(text(&workspace, "r.xml").as_bytes()).expect("JUnit XML");
    assert_eq!((suites.failures, suites.errors, suites.skipped), (1, 2, 2));
    let read = &suites.suites[0].cases[1];
    let failure = read.status.failure_as_ref();
    assert_eq!((read.original_name.as_str(), read.file.as_deref(), read.line), ("read", Some("desk.http"), Some(10)));
    assert_eq!(failure.message, "counted: body.bins == 25");
    assert!(
        failure.text.contains(
            "desk.http:14: counted: body.bins == 25\n  body.bins is 24\n  count again\n`colour` was not yielded"
        ),
        "{}",
        failure.text
    );

    let json: Value = serde_json::from_str(&text(&workspace, "r.json")).expect("JSON");
    let entries = json["entries"].as_array().expect("a list");
    let outcomes: Vec<&str> = entries.iter().filter_map(|entry| entry["outcome"].as_str()).collect();
    assert_eq!(outcomes[..6], ["passed", "failed", "not-sent", "skipped", "no-response", "invalid"]);
    assert_eq!(outcomes[6..], ["passed"; 6]);
    assert_eq!(json["run"]["totals"]["failed_checks"], 1);
    let label = &entries[6]["response"];
    assert!(label["body_base64"].is_string() && label.get("body").is_none(), "an image is no text");
    assert_eq!(entries[0]["request"]["headers"][0], serde_json::json!(["x-api-key", "[secret]"]));
    assert_eq!(entries[7]["response"]["parts"]["stream"]["events"], 2);
    assert_eq!(entries[8]["response"]["parts"]["messages"][0]["text"], "{\"scale\":3,\"ready\":true}");
    assert_eq!(entries[9]["response"]["parts"]["pages"].as_array().map(Vec::len), Some(2));
    assert_eq!(entries[11]["row"], 2);
    let page = text(&workspace, "r.html");
    for shown in ["2 events: the server ended the stream", "←  {\"scale\":3,\"ready\":true}", "page 2\n{"] {
        assert!(page.contains(&shown.replace('"', "&quot;")) || page.contains(shown), "{shown}");
    }

    let har: Value = serde_json::from_str(&text(&workspace, "r.har")).expect("JSON");
    let read = &har["log"]["entries"][1]["request"];
    assert_eq!(read["queryString"], serde_json::json!([{ "name": "for", "value": "the scale" }]));
    assert_eq!(har["log"]["entries"][2]["response"]["status"], 0, "there was no answer");
}

#[test]
fn hostile_answers_spoil_no_report() {
    let mut answer =
        b"HTTP/1.1 200 <b>OK\r\nContent-Type: text/html\r\nX-A: ]]><script>alert(1)</script>\r\n\r\n".to_vec();
    answer.extend_from_slice(b"</pre></details><script>document.title='taken'</script>]]>--><!--\x00\x01\x1b[2J\xff\xfe\xe2\x80\xae\xef\xbf\xbf\n...\n1..9\nnot ok 99\n  ---\n");
    let short: &'static [u8] = answer.clone().leak();
    answer.extend(std::iter::repeat_n(b'<', 3 << 20));
    let long: &'static [u8] = answer.leak();
    for (answer, held) in [(short, true), (long, false)] {
        let base = raw_server(answer, false);
        let cell = |name: &str, check: &str| {
            format!("%% {name}\nGET {base}/?a=]]>&b=%00%1b\n\n% check {check}\n% yield all = headers['x-a']\n\n")
        };
        let cells =
            [cell("Fails", "text == 'short' && headers['x-a'] == '1'"), cell("Passes", "text.contains('script')")];
        let workspace = TestWorkspace::empty().file("hostile.http", &cells.concat());
        replay(&workspace, &[], 1);
        assert_eq!(are_well_formed(&workspace), (2, 2));
        let json: Value = serde_json::from_str(&text(&workspace, "r.json")).expect("JSON");
        let bodies = ["body", "body_base64"].map(|name| json["entries"][1]["response"].get(name).is_some());
        assert_eq!(bodies.contains(&true), held, "what is larger than a MiB is left out");
        let page = text(&workspace, "r.html");
        assert_eq!(page.matches("<script>").count(), 1, "the page's own");
        assert!(!page.contains("document.title=") || page.contains("&lt;script&gt;document.title="));
        for file in KINDS.map(|(_, file)| file) {
            let size = std::fs::metadata(workspace.path().join(file)).expect("a report").len();
            assert!(size < 600_000, "{file} has {size} bytes");
        }
    }
}

#[test]
fn shards_joined_are_the_whole_and_a_later_attempt_holds() {
    let workspace = workspace()
        .file("more.http", "%% One\n/health\n\n% check status == 200\n\n%% Two\n/growers\n\n% check status == 200\n");
    replay(&workspace, &[], 3);
    for share in ["1/2", "2/2"] {
        workspace.run(&["replay", "--shard", share, "--report", &format!("json={}.json", &share[..1])]);
    }
    let joined = workspace
        .run(&["report", "merge", "1.json", "2.json", "--report", "json=j.json", "--report", "html=j.html", "--json"])
        .exits(3);
    let whole: Value = serde_json::from_str(&text(&workspace, "r.json")).expect("JSON");
    let parts: Value = serde_json::from_str(&text(&workspace, "j.json")).expect("JSON");
    let record = |report: &Value| {
        let entry = |entry: &Value| {
            format!("{} {} {} {} {}", entry["file"], entry["name"], entry["outcome"], entry["row"], entry["checks"])
        };
        let mut all: Vec<String> = report["entries"].as_array().expect("a list").iter().map(entry).collect();
        all.sort();
        all.dedup();
        all
    };
    assert_eq!(record(&parts), record(&whole));
    assert_eq!(joined.json()["failed_checks"], whole["run"]["totals"]["failed_checks"]);
    assert!(text(&workspace, "j.html").contains("Merged from"));

    // The desk is mended: the second attempt is what counts.
    let workspace = workspace.file("desk.http", "%% Read\nGET /lots/L-2039\n\n% check body.bins == 18\n");
    workspace.run(&["replay", "desk.http", "--report", "json=again.json"]).exits(0);
    let run = workspace
        .run(&["report", "merge", "again.json", "1.json", "2.json", "--report", "junit=r.xml", "--only-failed"])
        .exits(2);
    assert!(run.stderr.contains("--only-failed"), "{}", run.stderr);
    workspace.run(&["report", "merge", "again.json", "1.json", "2.json", "--report", "json=j.json"]).exits(3);
    let parts: Value = serde_json::from_str(&text(&workspace, "j.json")).expect("JSON");
    let read =
        parts["entries"].as_array().expect("a list").iter().find(|entry| entry["name"] == "read").expect("it was sent");
    assert_eq!((&read["outcome"], &read["attempts"]), (&Value::from("passed"), &Value::from(2)));
    let book =
        parts["entries"].as_array().expect("a list").iter().find(|entry| entry["name"] == "book").expect("it was sent");
    assert_eq!(book.get("attempts"), None, "both shards needed it, and it passed");
}

#[test]
fn what_cannot_be_written_or_read_is_said_before_anything_is_sent() {
    let base = raw_server(b"HTTP/1.1 200 OK\r\n\r\n", false);
    let workspace = TestWorkspace::empty()
        .file("a.http", &format!("{base}/\n"))
        .file("lots.json", "{\"lots\": []}")
        .file("half.json", "{\"report\":");
    std::fs::create_dir(workspace.path().join("folder")).expect("a folder");
    for (args, message) in [
        (["replay", "--report", "junti=r.xml"].as_slice(), "unknown format `junti`: did you mean `junit`?"),
        (&["replay", "--report", "pdf=r"], "unknown format `pdf`; available: `junit`, `tap`, `json`, `html` and `har`"),
        (&["replay", "--report", "r.xml"], "expected FORMAT=FILE, for example `html=r.xml`"),
        (&["replay", "--report", "html="], "the file name is missing, for example `html=report`"),
        (&["replay", "--report", "html=gone/r.html"], "cannot write the report `gone/r.html`: directory"),
        (&["replay", "--report", "html=folder"], "cannot write the report `folder`: it is a directory"),
        #[cfg(unix)]
        (&["replay", "--report", "html=/dev/null"], "the report `/dev/null`: it is a device or a pipe, not a file"),
        (&["replay", "--report", "html=r", "--report", "tap=r"], "two reports cannot both be written to `r`"),
        (&["report", "merge", "gone.json"], "cannot read `gone.json`: file not found"),
        (&["report", "merge", "lots.json"], "cannot merge `lots.json`: this is JSON, but not a report"),
        (&["report", "merge", "half.json"], "cannot merge `half.json:1:10`"),
    ] {
        let run = workspace.run(args).exits(2);
        assert!(run.stderr.contains(message), "{args:?}: {}", run.stderr);
        assert!(!run.stdout.contains("request"), "{args:?}: nothing was sent");
    }
    let mut files: Vec<_> = std::fs::read_dir(workspace.path())
        .expect("the folder")
        .map(|file| file.expect("a file").file_name())
        .collect();
    files.sort();
    assert_eq!(files, ["a.http", "folder", "half.json", "lots.json"], "nothing is left behind");
}

#[test]
fn a_report_takes_the_place_of_another_only_when_it_is_whole() {
    let workspace = workspace().file("r.html", "the one before");
    workspace.run(&["replay", "--only", "gone", "--report", "html=r.html"]).exits(2);
    assert_eq!(text(&workspace, "r.html"), "the one before");
    workspace.run(&["replay", "--fail-fast", "--report", "html=r.html", "--report", "tap=r.tap"]).exits(1);
    assert!(text(&workspace, "r.html").contains("not reached") && text(&workspace, "r.tap").ends_with("not reached\n"));
    let quiet = workspace.run(&["replay", "-q", "--report", "html=r.html"]);
    assert!(!quiet.stderr.contains("r.html"), "{}", quiet.stderr);
    // A report has room for what a screen shows to one person alone.
    let run = workspace.run(&["replay", "--reveal", "--report", "html=r.html"]).exits(2);
    assert!(run.stderr.contains("--reveal"), "{}", run.stderr);
}
