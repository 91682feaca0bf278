//! Checks that fail or can never pass, each with its whole explanation.

use std::fmt::Write;
use yieldtray_engine::{CheckFailure, CheckPart};
use yieldtray_source::diff::DiffLine;
use yieldtray_test_support::{answer, replay, settings};

/// Every check fails, or passes with a warning, against the lot below.
const CHECKS: &[&str] = &[
    // Operators: both sides, literals left out.
    "status == 200",
    "status != 201",
    "body.bins > 24",
    "body.bins >= body.limit && body.limit < 100",
    "body.bins + body.limit == 100",
    "body.bins < 3 || body.kg > 20.0",
    "!(body.open)",
    "body.open ? body.bins == 1 : body.bins == 2",
    "body.grower in ['G-11', 'G-12']",
    "-body.bins == 24",
    // Kinds that never fit.
    "body.bins == '24'",
    "body.note == 3",
    "headers['x-count'] > 3",
    "body.tags == 'gala'",
    "body.bins",
    "body.id",
    // Missing values.
    "body.colour == 'red'",
    "body.grwoer == 'G-13'",
    "body.place.room.shelf == 3",
    "body.tags[7] == 'fuji'",
    "headers['x-missing'] == '1'",
    "cookies.shift == 'early'",
    "body.note.length > 3",
    // Lists: which member.
    "body.weighings.all(w, w.kg > 10.0)",
    "body.weighings.exists(w, w.tray == 'T-9')",
    "body.none.exists(w, w.tray == 'T-9')",
    "body.none.all(w, w.kg > 10.0)",
    "body.weighings.all(w, w.weight > 10.0)",
    "body.tags.all(t, t == upper(t))",
    "size(body.weighings) == 3",
    "body.weighings.map(w, w.kg) == [11.5, 12.0]",
    "body.weighings.filter(w, w.kg > 11.0).size() == 2",
    // Texts and functions.
    "body.id.startsWith('M-')",
    "body.id.matches('^L-[0-9]{5}$')",
    "find(text, 'bins.: (\\\\d+)') == '23'",
    "lower(body.variety) == 'fuji'",
    "path(body, '$.weighings[*].tray') == ['T-1']",
    "pointer(body, '/place/room') == 'C-2'",
    "parse_json(body.ref).truck == 'PK 4617'",
    "xpath('<lot><bins>24</bins></lot>', '/lot/bins') == ['23']",
    "timestamp(body.at) > timestamp('2026-09-15T00:00:00Z')",
    "elapsed < duration('2ms')",
    // Long ones: where they differ.
    "body.place == {'room': 'C-1', 'row': 3, 'shelf': 2, 'door': 'north', 'note': 'behind the wide door', 'zone': 4}",
    "!(body.tags + [body.remark] == ['gala', 'early', body.remark])",
    "body.remark == 'the first truck of the morning came late, and its bins were counted twice at the gate'",
    "body.weighings == [{'tray': 'T-1', 'kg': 11.5, 'by': 'scale-1'}, {'tray': 'T-2', 'kg': 9.0, 'by': 'scale-1'}]",
    // Secrets in messages.
    "body.token == 'x'",
    "headers['authorization-info'] == 'none'",
];

const LOT: &str = r#"{
  "id": "L-2043", "grower": "G-13", "variety": "Gala", "bins": 24, "limit": 40, "kg": 11.5, "open": true, "note": null,
  "at": "2026-09-14T06:10:00Z", "tags": ["gala", "early"], "none": [], "ref": "{\"truck\": \"PK 4616\"}",
  "remark": "the first truck of the morning came late, and its bins were counted once at the gate",
  "place": {"room": "C-1", "row": 2, "door": "north", "note": "behind the wide door", "zone": 4},
  "weighings": [{"tray": "T-1", "kg": 11.5, "by": "scale-1"}, {"tray": "T-2", "kg": 9.5, "by": "scale-2"}],
  "token": "t-4616-early"
}"#;

fn record(failure: &CheckFailure) -> String {
    let mut record = String::new();
    for CheckPart { text, value, .. } in &failure.parts {
        let _ = match value {
            Ok(value) => writeln!(record, "    {text}  is  {value}"),
            Err(why) => writeln!(record, "    {text}  has no value: {why}"),
        };
    }
    if let Some(difference) = &failure.difference {
        let _ = writeln!(record, "    < {}\n    > {}", difference.left, difference.right);
        for line in &difference.lines {
            let _ = match line {
                DiffLine::Context(text) => writeln!(record, "        {text}"),
                DiffLine::Left(text) => writeln!(record, "      < {text}"),
                DiffLine::Right(text) => writeln!(record, "      > {text}"),
                DiffLine::Skipped(lines) => writeln!(record, "      … {lines} alike"),
                DiffLine::Truncated(lines) => writeln!(record, "      … {lines} more"),
            };
        }
    }
    for (what, message) in
        failure.notes.iter().map(|note| ("note", note)).chain(failure.hint.iter().map(|it| ("hint", it)))
    {
        let _ = writeln!(record, "    {what}: {message}");
    }
    record
}

#[test]
fn each_failed_check_tells_what_it_was_about() {
    let mut all = String::new();
    for check in CHECKS {
        let fixture = format!(
            "#- a.http\n%% one\nGET http://local/lots/1\nAuthorization: Bearer t-4616-early\n\n\
             % check {check} else \"look at {{{{body.id}}}}\"\n"
        );
        let run = replay(&fixture, &["a.http"], settings(None, &[]), |_| {
            let headers = [
                ("content-type", "application/json"),
                ("x-count", "12"),
                ("authorization-info", "for t-4616-early"),
                ("set-cookie", "session=s-9027-late"),
            ];
            Ok(answer(201, &headers, LOT))
        });
        let report = run.reports().next().expect("a report");
        let _ = writeln!(all, "{check}");
        match report.failures.as_slice() {
            [] => {
                let what = match report.outcome.as_str() {
                    "passed" => "passes",
                    "invalid" => "is not sent",
                    other => panic!("{check}: {other}"),
                };
                assert!(!report.problems.is_empty(), "{check} {what}");
                for problem in &report.problems {
                    let _ = writeln!(all, "    {what}: {}", problem.message);
                }
            }
            [failure] => all.push_str(&record(failure)),
            more => panic!("{check}: {more:?}"),
        }
        all.push('\n');
    }
    assert!(!all.contains("4616-early"), "a secret is told");
    insta::assert_snapshot!("failed_checks", all);
}
