//! Findings as SARIF 2.1.0 (OASIS Standard), which code hosts and editors read.

use crate::ProblemRecord;
use serde_json::{Value, json};
use yieldtray_source::{Code, Problem, Severity};
use yieldtray_workspace::Workspace;

/// The findings as one log with one run. Lines and columns count from 1, columns in characters (`columnKind`,
/// 3.14.17); URIs are relative to the workspace's root.
pub fn sarif(workspace: &Workspace, problems: &[Problem]) -> Value {
    let mut codes: Vec<Code> = problems.iter().map(|problem| problem.code).collect();
    codes.sort_unstable();
    codes.dedup();
    let rules: Vec<Value> = codes.iter().map(|code| json!({ "id": code.as_str() })).collect();
    let results: Vec<Value> = problems
        .iter()
        .map(|problem| {
            let mut result = json!({
                "ruleId": problem.code.as_str(),
                "ruleIndex": codes.binary_search(&problem.code).unwrap_or_default(),
                "level": match problem.severity { Severity::Error => "error", Severity::Warning => "warning", Severity::Info => "note" },
                "message": { "text": message(problem) },
            });
            let noted = ProblemRecord::of(workspace, problem);
            if let Some(file) = &noted.file {
                let region = region([noted.line, noted.column, noted.end_line, noted.end_column]);
                result["locations"] = json!([location(file, region)]);
                result["partialFingerprints"] = json!({ "finding/v1": fingerprint(workspace, problem) });
            }
            if let Some(also) = &noted.also {
                let place = [also.line, also.column, also.end_line, also.end_column].map(Some);
                let mut related = location(&also.file, region(place));
                related["message"] = json!({ "text": also.message });
                result["relatedLocations"] = json!([related]);
            }
            result
        })
        .collect();
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": { "name": "yieldtray", "version": env!("CARGO_PKG_VERSION"), "rules": rules } },
            "columnKind": "unicodeCodePoints",
            "results": results,
        }],
    })
}

fn message(problem: &Problem) -> String {
    let hint = problem.hint.as_ref().map(|hint| format!("; {hint}")).unwrap_or_default();
    format!("{}{hint}", problem.message)
}

fn location(file: &str, region: Value) -> Value {
    // A relative reference (RFC 3986 4.2).
    let uri = file.split('/').map(encoded).collect::<Vec<_>>().join("/");
    json!({ "physicalLocation": { "artifactLocation": { "uri": uri, "uriBaseId": "%SRCROOT%" }, "region": region } })
}

fn encoded(part: &str) -> String {
    use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
    const SET: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');
    utf8_percent_encode(part, SET).to_string()
}

fn region([line, column, end_line, end_column]: [Option<usize>; 4]) -> Value {
    json!({ "startLine": line, "startColumn": column, "endLine": end_line, "endColumn": end_column })
}

/// The identity of a finding when lines above it change: its code, file and message.
fn fingerprint(workspace: &Workspace, problem: &Problem) -> String {
    let text = problem.source.map_or("", |source| problem.span.of(&workspace.source(source).text));
    let file = problem.source.map(|source| workspace.shown_path(source)).unwrap_or_default();
    let whole = format!("{}\0{file}\0{text}\0{}", problem.code.as_str(), problem.message);
    blake3::hash(whole.as_bytes()).to_hex()[..32].to_owned()
}
