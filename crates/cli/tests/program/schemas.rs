//! The JSON Schemas of the documentation against real output and real configurations.

use crate::support::TestWorkspace;
use serde_json::{Value, json};
use std::path::Path;

fn read(name: &str) -> Value {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas").join(name);
    serde_json::from_str(&std::fs::read_to_string(path).expect("a schema")).expect("JSON")
}

/// The errors of a value against a definition of the output's schema.
fn errors(definition: &str, value: &Value) -> Vec<String> {
    let mut schema = read("output.schema.json");
    schema["$ref"] = json!(format!("#/$defs/{}", definition.replace(' ', "%20")));
    let validator = jsonschema::draft202012::new(&schema).expect("a schema");
    validator.iter_errors(value).map(|error| format!("{}: {error}", error.instance_path())).collect()
}

const FILE: &str = "%% Sign in\nPOST /session\n\n{ \"email\": \"a@b.example\", \"password\": \"x\" }\n\n% check status == 401\n\n\
                    %% Lots\nGET /lots?per_page=2\n\n% let n = random(1, 9)\n% yield lot = body.lots[0].id\n% check size(body.lots) == 3\n\n\
                    %% One\n% needs lots\nGET /lots/{{lot}}\n\n% check body.id == lot\n";

const CLIENT: &str = "token_url = '{{base}}/oauth/token'\nclient_id = 'packhouse-scale'\nkey = 'scale.pem'\nclient_auth = 'private_key_jwt'\n";

const STREAMS: &str = "%% Readings\nGET /scale/readings?count=2\n\n\
                       %% Scale\nGET /scale/socket\n\n% expect message.ready within 5s\n% say {\"want\": \"tare\", \"kg\": 1}\n% expect message.zero == 1 within 5s\n";

#[test]
fn every_output_is_as_its_schema_says() {
    let workspace = TestWorkspace::new().file("a.http", FILE).file("b.http", "GET /health\n\n% check status == 200\n");
    let workspace = workspace.file("old.json", "{\"openapi\":\"3.1.0\",\"paths\":{}}");
    let cases: &[(&str, &[&str])] = &[
        ("send", &["send", "b.http"]),
        ("send", &["send", "b.http", "--dry-run"]),
        ("send", &["send", "http://127.0.0.1:1/"]),
        ("list", &["list"]),
        ("list --graph", &["list", "--graph"]),
        ("values", &["values", "a.http"]),
        ("values --functions", &["values", "--functions"]),
        ("env", &["env"]),
        ("prove", &["prove", "b.http"]),
        ("send", &["send", "a.http#lots"]),
        ("tray", &["tray"]),
        ("cookies", &["cookies"]),
        ("log", &["log", "--limit", "2"]),
        ("log show", &["log", "show", "1"]),
        ("log compare", &["log", "compare", "-e", "local", "-e", "live", "b.http"]),
        ("log resend", &["log", "resend", "1"]),
        ("log trend", &["log", "trend", "b"]),
        ("lint", &["lint"]),
        ("tidy", &["tidy", "--check"]),
        ("import", &["import", "curl", "curl http://127.0.0.1/"]),
        ("export", &["export", "b", "--as", "shell"]),
        ("export --targets", &["export", "--targets"]),
        ("allow", &["allow", "--list"]),
        ("api fetch", &["api", "fetch"]),
        ("api fetch", &["api", "fetch"]),
        ("api tree", &["api", "tree"]),
        ("api tree", &["api", "tree", "/lots"]),
        ("api show", &["api", "show", "book-lot"]),
        ("api coverage", &["api", "coverage"]),
        ("api drift", &["api", "drift"]),
        ("api diff", &["api", "diff", "old.json"]),
        ("failed", &["send", "nothing-here"]),
        ("failed", &["send", "--no-such-option"]),
    ];
    let mut wrong = Vec::new();
    for (definition, args) in cases {
        let args: Vec<&str> = args.iter().copied().chain(["--json"]).collect();
        let run = workspace.run(&args);
        let found = errors(definition, &run.json());
        wrong.extend(found.into_iter().map(|error| format!("{args:?}: {error}")));
    }
    let streams = crate::oauth::workspace(CLIENT).file("s.http", STREAMS);
    for (definition, args) in [
        ("send", &["send", "pay"][..]),
        ("token", &["token"]),
        ("token get", &["token", "get", "scale"]),
        ("secret identity", &["secret", "identity"]),
    ] {
        let args: Vec<&str> = args.iter().copied().chain(["--json"]).collect();
        let found = errors(definition, &streams.run(&args).json());
        wrong.extend(found.into_iter().map(|error| format!("{args:?}: {error}")));
    }
    for (definition, cell) in [("send event", "readings"), ("send message", "scale")] {
        let run = streams.run(&["send", cell, "--json"]).exits(0);
        let lines: Vec<Value> = run.stdout.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
        let (last, events) = lines.split_last().expect("lines");
        wrong.extend(events.iter().flat_map(|line| errors(definition, line)));
        wrong.extend(errors("send", last));
        assert!(!events.is_empty() && !last["response"]["parts"].is_null(), "{last}");
        wrong.extend(errors("log show", &streams.run(&["log", "show", "1", "--json"]).json()));
    }
    for args in [&["replay", "--json"][..], &["replay", "--from-log", "--json"]] {
        for line in workspace.run(args).stdout.lines() {
            let event: Value = serde_json::from_str(line).expect("JSON");
            wrong.extend(errors("replay", &event).into_iter().map(|error| format!("{args:?}: {error}: {line}")));
        }
    }
    workspace.run(&["replay", "--report", "json=r.json"]);
    let merged = workspace.run(&["report", "merge", "r.json", "--report", "json=m.json", "--json"]).json();
    wrong.extend(errors("report merge", &merged));
    assert_eq!(wrong, [""; 0]);
}

#[test]
fn a_schema_refuses_what_the_program_never_prints() {
    for (definition, value) in [
        ("list", json!({ "requests": [] })),
        ("replay", json!({ "event": "began", "environment": null, "cells": 1 })),
        ("values", json!({ "environment": null, "values": [{ "name": "a" }] })),
        ("lint", json!({ "diagnostics": [{ "severity": "mistake", "message": "m" }] })),
    ] {
        assert_ne!(errors(definition, &value), [""; 0], "{definition}");
    }
}

#[test]
fn the_schema_of_the_configuration_agrees_with_the_program() {
    let schema = read("configuration.schema.json");
    let validator = jsonschema::draft202012::new(&schema).expect("a schema");
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo");
    let of_file = |name: &str| std::fs::read_to_string(demo.join(name)).expect("a file");
    let good = [
        of_file("yieldtray.toml"),
        of_file("yieldtray.local.toml"),
        of_file("init.toml"),
        "[send]\ntimeout = \"1m30s\"\nbody_limit = \"64MiB\"\n[log]\ndays = 3\n[lint]\nno-checks = \"warn\"\n"
            .to_owned(),
    ];
    let bad = [
        "[workspce]\n",
        "[send]\nredirects = 51\n",
        "[log]\ndays = 0\n",
        "[lint]\nno-checks = \"loud\"\n",
        "[environments.a]\ngard = true\n",
    ];
    let to_json = |text: &str| -> Value {
        serde_json::to_value(toml::from_str::<toml::Table>(text).expect("TOML")).expect("JSON")
    };
    let schema_line = format!("#:schema {}\n", schema["$id"].as_str().expect("a URL"));
    assert!(
        ["yieldtray.toml", "init.toml"].iter().all(|name| of_file(name).starts_with(&schema_line)),
        "{schema_line}"
    );
    for (text, fits) in good.iter().map(|text| (text.as_str(), true)).chain(bad.map(|text| (text, false))) {
        let workspace = TestWorkspace::empty().file("yieldtray.toml", text).file("requests/.keep", "");
        // Values with secrets belong into the local file.
        let workspace = match text.contains("secret = true") {
            true => TestWorkspace::empty().file("yieldtray.local.toml", text).file("requests/.keep", ""),
            false => workspace,
        };
        let listed = workspace.run(&["list"]);
        // Values in the shared file may be warned about; they are read.
        assert_eq!((listed.code == 0, validator.is_valid(&to_json(text))), (fits, fits), "{text}: {}", listed.both());
    }
}
