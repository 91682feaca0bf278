//! `lint` and `tidy`, as they are run by hand, before a commit, and for a code host.

use crate::support::TestWorkspace;
use serde_json::json;
#[cfg(feature = "other-programs")]
use std::process::Command;

#[cfg(feature = "other-programs")]
fn git(workspace: &TestWorkspace, args: &[&str]) {
    let author = ["-c", "user.name=Clerk", "-c", "user.email=clerk@packhouse.example"];
    let status =
        Command::new("git").args(author).args(args).current_dir(workspace.path()).output().expect("git is there");
    assert!(status.status.success(), "git {args:?}: {}", String::from_utf8_lossy(&status.stderr));
}

#[cfg(feature = "other-programs")]
const CLEAN: &str = "%% Look\nGET http://127.0.0.1:1/lots\n\n% check status == 200\n";

#[cfg(feature = "other-programs")]
#[test]
fn what_is_staged_is_looked_at_as_it_would_be_committed() {
    let workspace = TestWorkspace::empty().file("a.http", CLEAN).file("b.http", "%% B\nhttp://127.0.0.1:1/{{gone}}\n");
    let outside = workspace.run(&["lint", "--staged"]).exits(2);
    assert!(outside.stderr.contains("cannot list staged files"), "{}", outside.stderr);
    git(&workspace, &["init", "-q"]);
    git(&workspace, &["add", "."]);
    git(&workspace, &["commit", "-qm", "The desk"]);
    // Nothing is staged: an error in another file does not matter.
    assert!(workspace.run(&["lint", "--staged"]).exits(0).stdout.contains("0 files"));
    // Staged with an error, corrected only on disk.
    let workspace = workspace.file("a.http", &CLEAN.replace("status ==", "staus =="));
    git(&workspace, &["add", "a.http"]);
    let workspace = workspace.file("a.http", CLEAN);
    let run = workspace.run(&["lint", "--staged"]).exits(2);
    assert!(run.stdout.contains("a.http:4:9") && run.stdout.contains("staus == 200"), "{}", run.stdout);
    assert!(!run.stdout.contains("b.http"), "{}", run.stdout);
    // Staged well, spoiled only on disk.
    git(&workspace, &["add", "a.http"]);
    let workspace = workspace.file("a.http", "%% Look\nGET {{nowhere}}\n");
    workspace.run(&["lint", "--staged"]).exits(0);
    // An untracked file is in no commit.
    let workspace = workspace.file("c.http", "%% C\nhttp://127.0.0.1:1/{{nothing}}\n");
    workspace.run(&["lint", "--staged"]).exits(0);
    // A shared file affects all files below it.
    let workspace = workspace.file("_common.http", "% check ok: statsu == 200\n");
    git(&workspace, &["add", "_common.http"]);
    let run = workspace.run(&["lint", "--staged", "--json"]).exits(2);
    let places: Vec<String> = run.json()["diagnostics"]
        .as_array()
        .expect("a list")
        .iter()
        .map(|problem| {
            format!("{}:{}", problem["file"].as_str().unwrap_or("?"), problem["code"].as_str().unwrap_or("?"))
        })
        .collect();
    assert!(places.contains(&"_common.http:unknown-variable".to_owned()), "{places:?}");
    assert!(places.contains(&"b.http:unknown-variable".to_owned()), "{places:?}");
}

/// The parts of SARIF's schema that every reader relies on, from the standard's text (3.13 to 3.30).
fn schema() -> serde_json::Value {
    let region = json!({
        "type": "object",
        "required": ["startLine", "startColumn", "endLine", "endColumn"],
        "additionalProperties": { "type": "integer", "minimum": 1 },
    });
    let location = json!({
        "type": "object",
        "required": ["physicalLocation"],
        "properties": { "physicalLocation": {
            "type": "object",
            "required": ["artifactLocation", "region"],
            "properties": {
                "artifactLocation": { "type": "object", "required": ["uri"], "properties": { "uri": { "type": "string", "format": "uri-reference" } } },
                "region": region,
            },
        } },
    });
    json!({
        "type": "object",
        "required": ["version", "runs"],
        "properties": {
            "version": { "const": "2.1.0" },
            "runs": { "type": "array", "minItems": 1, "items": {
                "type": "object",
                "required": ["tool", "results"],
                "properties": {
                    "tool": { "type": "object", "required": ["driver"], "properties": { "driver": { "type": "object", "required": ["name", "rules"] } } },
                    "columnKind": { "enum": ["utf16CodeUnits", "unicodeCodePoints"] },
                    "results": { "type": "array", "items": {
                        "type": "object",
                        "required": ["message", "ruleId", "ruleIndex", "level"],
                        "properties": {
                            "level": { "enum": ["none", "note", "warning", "error"] },
                            "message": { "type": "object", "required": ["text"] },
                            "locations": { "type": "array", "items": location },
                            "relatedLocations": { "type": "array", "items": location },
                            "partialFingerprints": { "type": "object", "additionalProperties": { "type": "string" } },
                        },
                    } },
                },
            } },
        },
    })
}

#[test]
fn findings_are_written_for_code_hosts() {
    let workspace = TestWorkspace::empty()
        .file("yieldtray.toml", "[environments.local.values]\ngate = 'n'\n")
        .file("the desk/a.http", "% let gate = 's'\n\n%% Äpfel\n% chekc 1\nhttp://127.0.0.1:1/{{gate}}\n");
    let run = workspace.run(&["lint", "--report", "sarif=lint.sarif"]).exits(2);
    assert!(run.stdout.contains("1 error"), "{}", run.stdout);
    let text = std::fs::read_to_string(workspace.path().join("lint.sarif")).expect("the report is there");
    let report: serde_json::Value = serde_json::from_str(&text).expect("JSON");
    let schema = jsonschema::options().should_validate_formats(true).build(&schema()).expect("a schema");
    let errors: Vec<String> = schema.iter_errors(&report).map(|error| error.to_string()).collect();
    assert_eq!(errors, Vec::<String>::new());
    let results = report["runs"][0]["results"].as_array().expect("results");
    let record: Vec<String> = results
        .iter()
        .map(|result| {
            let rule =
                &report["runs"][0]["tool"]["driver"]["rules"][result["ruleIndex"].as_u64().expect("a number") as usize];
            assert_eq!(rule["id"], result["ruleId"]);
            let place = &result["locations"][0]["physicalLocation"];
            format!(
                "{} {} {} {}",
                result["level"], result["ruleId"], place["artifactLocation"]["uri"], place["region"]["startLine"]
            )
        })
        .collect();
    assert_eq!(
        record,
        [
            "\"warning\" \"shadowed-variable\" \"the%20desk/a.http\" 1",
            "\"error\" \"unknown-instruction\" \"the%20desk/a.http\" 4",
        ]
    );
    assert_eq!(results[0]["relatedLocations"][0]["message"]["text"], "this one is used");
    let refused = workspace.run(&["lint", "--report", "srif=x"]).exits(2);
    assert!(refused.stderr.contains("for example `sarif=lint.sarif`"), "{}", refused.stderr);
}

#[test]
fn files_are_laid_out_or_only_looked_at() {
    let untidy = "%%Look  \nGET   http://127.0.0.1:1/lots\nAccept:*/*\n\n\n\n% check status == 200";
    let tidy = "%% Look\nGET http://127.0.0.1:1/lots\nAccept: */*\n\n% check status == 200\n";
    let workspace = TestWorkspace::empty()
        .file("yieldtray.toml", "a =  1\n")
        .file("a.http", untidy)
        .file("in/_common.http", "%let a=1\n")
        .file("in/b.http", tidy);
    let seen = workspace.run(&["tidy", "--check"]).exits(1);
    assert_eq!(seen.stdout, "a.http\nin/_common.http\n");
    assert_eq!(seen.stderr, "3 files · 2 would change\n");
    assert_eq!(std::fs::read_to_string(workspace.path().join("a.http")).expect("a file"), untidy);
    let done = workspace.run(&["tidy", "--json"]).exits(0).json();
    assert_eq!(done, json!({ "files": 3, "changed": ["a.http", "in/_common.http"], "unread": [] }));
    assert_eq!(std::fs::read_to_string(workspace.path().join("a.http")).expect("a file"), tidy);
    assert_eq!(workspace.run(&["tidy", "--check", "in"]).exits(0).stderr, "2 files · all files are formatted\n");
    assert_eq!(workspace.run_with(&["tidy", "-"], untidy, &[]).exits(0).stdout, tidy);
    assert_eq!(workspace.run_with(&["tidy", "-", "--check"], untidy, &[]).exits(1).stdout, "");
    for (args, message) in [
        (["tidy", "gone.http"], "cannot read"),
        (["tidy", "a.http:3"], "`tidy` works on whole files"),
        (["tidy", "look"], "no file or directory `look`"),
        (["tidy", "yieldtray.toml"], "is not a request file"),
    ] {
        let refused = workspace.run(&args).exits(2);
        assert!(refused.stderr.contains(message), "{}", refused.stderr);
    }
}
