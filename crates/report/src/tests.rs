//! Tests of the report formats.

use super::saved::summary_of;
use super::{Entry, LoadedReport, ReportKind, RunInfo, Streams, merge};
use chrono::{DateTime, TimeDelta, Utc};
use std::time::Duration;
use yieldtray_engine::{Event, Outcome, RunOptions, Summary};
use yieldtray_http::{Failure, FailureKind};
use yieldtray_test_support::{answer, json_answer, settings, side_by_side, with_options};

/// A cell for each way to come out.
const DESK: &str = "#- desk.http
%% Book a lot in
POST http://local/lots
X-Api-Key: local-key-4616

{ \"bins\": 24 }

% yield lot_id = body.id
% check status == 201

%% Weigh it
GET http://local/lots/{{lot_id}}/weighings

% check full: body.kg > 10 else \"a full tray weighs more\"
% check body.note == 'behind the wide door, on the second shelf, where the early lots are kept for the night'
% yield tray = body.tray

%% Read the scale
GET http://local/scale

%% Grade it
% needs weigh-it
GET http://local/grade

%% Sweep the hall
% skip when true
GET http://local/hall

%% A slip
GET http://local/{{nobody_gives_this}}
";

const HOSTILE: &str = "<script>alert('x')</script>]]>&amp;\u{1b}[2J\u{0}\u{202e}-->\u{fffe}\"#\\";

/// The entries of a replay of the desk, as a report has them.
fn entries() -> Vec<Entry<'static>> {
    let run = |run: &mut yieldtray_engine::Run<'_>| {
        let mut entries = Vec::new();
        let record = side_by_side(run, 1, &mut |_| 0, &mut |request| match request.url.path() {
            "/lots" => Ok(json_answer(201, "{\"id\": \"L-2043\", \"bins\": 24}")),
            "/scale" => Err(Failure {
                kind: FailureKind::Refused,
                message: "nothing answers at local".to_owned(),
                hint: Some("is the scale switched on?".to_owned()),
                elapsed: Duration::from_millis(2),
            }),
            _ => {
                let note = serde_json::json!({ "kg": 9.5, "note": HOSTILE });
                Ok(answer(200, &[("Content-Type", "application/json"), ("X-Note", HOSTILE)], &note.to_string()))
            }
        });
        for event in &record.events {
            if let Event::CellFinished(report) = event {
                let entry = Entry::of(run.workspace(), report);
                let entry = match &report.captured {
                    Some(kept) => entry.with_exchange(kept, run.masker()),
                    None => entry,
                };
                let text = serde_json::to_string(&entry).expect("data");
                entries.push(serde_json::from_str(&text).expect("an entry"));
            }
        }
        entries
    };
    let options = RunOptions { capture_limit: Some(1 << 20), ..RunOptions::default() };
    with_options(DESK, &["desk.http"], settings(None, &[]), 1, options, run)
}

fn about(minutes: i64, entries: &[Entry<'_>]) -> RunInfo {
    let noon: DateTime<Utc> = "2026-09-14T12:00:00Z".parse().expect("a time");
    let mut about = RunInfo::new(noon + TimeDelta::minutes(minutes), Some("local".to_owned()), None);
    about.totals = summary_of(entries);
    about.elapsed_ms = 40.0;
    about.seed = Some(4616);
    about
}

/// A whole report.
fn written(kind: ReportKind, about: &RunInfo, entries: &[Entry<'_>]) -> String {
    let mut format = kind.format(about);
    let mut streams = Streams::default();
    entries.iter().for_each(|entry| format.entry(entry, &mut streams));
    let frame = format.frame(about);
    [frame.head, streams.first, frame.middle, streams.all, frame.tail].concat()
}

#[test]
fn each_way_to_come_out_is_told() {
    let entries = entries();
    let outcomes: Vec<Outcome> = entries.iter().map(|entry| entry.outcome).collect();
    use Outcome::{Failed, Invalid, NoResponse, NotSent, Passed, Skipped};
    assert_eq!(outcomes, [Passed, Failed, NoResponse, NotSent, Skipped, Invalid]);
    let mut about = about(0, &entries);
    about.totals.not_reached = 2;
    about.totals.interrupted = true;
    insta::assert_snapshot!("junit", written(ReportKind::Junit, &about, &entries));
    insta::assert_snapshot!("tap", written(ReportKind::Tap, &about, &entries));
    insta::assert_snapshot!("har", written(ReportKind::Har, &about, &entries));
}

#[test]
fn a_json_report_is_read_as_it_was_written() {
    let entries = entries();
    let about = about(0, &entries);
    let saved = LoadedReport::read(written(ReportKind::Json, &about, &entries).as_bytes()).expect("it is a report");
    assert_eq!((saved.about, saved.entries), (about.clone(), entries.clone()));
    let none = written(ReportKind::Json, &about, &[]);
    assert_eq!(LoadedReport::read(none.as_bytes()).expect("it is a report").entries, []);
}

#[test]
fn what_is_no_report_is_told_apart() {
    let whole = written(ReportKind::Json, &about(0, &[]), &[]);
    let read = |text: &str| {
        let wrong = LoadedReport::read(text.as_bytes()).expect_err("it is none");
        (wrong.message, wrong.place)
    };
    assert_eq!(read("{\"lots\": []}"), ("this is JSON, but not a report".to_owned(), None));
    assert_eq!(read("[1]"), ("this is JSON, but not a report".to_owned(), None));
    let (message, place) = read("{\"report\":\n ]");
    assert_eq!((message.as_str(), place), ("expected value", Some((2, 2))));
    assert_eq!(
        read(&whole.replace("\"version\":2", "\"version\":3")).0,
        "unsupported report version 3; this program reads version 2"
    );
    assert_eq!(
        read(&whole.replace("yieldtray\",\"version", "another\",\"version")).0,
        "this is JSON, but not a report"
    );
    let (message, place) = read(&whole.replace("\"started\":\"2026", "\"started\":\"then, 2026"));
    assert!(place.is_some() && message.contains("invalid"), "{message}");
}

/// A report of version 1, whose fields have other names.
#[test]
fn a_report_of_the_version_before_is_read() {
    let old = r#"{"report":"yieldtray","version":1,"run":{"tool":"yieldtray 0.1.0","began":"2026-09-14T06:30:00.000Z","elapsed_ms":4.5,
        "environment":null,"base":null,"seed":7,"joined":2,"totals":{"cells":2,"requests":1,"checks":1,"failed_checks":0,
        "failed_yields":0,"not_sent":0,"skipped":0,"left_out":1,"mistaken":1,"no_answer":0,"interrupted":false}},"entries":[
        {"file":"a.http","line":1,"name":"a","outcome":"mistaken","checks":0,"failures":[],"yields":[],
         "problems":[{"code":"unknown-value","level":"mistake","message":"no value `b`"},{"code":"assumption","level":"remark","message":"m"}]},
        {"file":"a.http","line":4,"name":"b","outcome":"no-answer","began_ms":1.5,"checks":0,"failures":[],"yields":[],
         "response":{"status":200,"reason":"OK","version":"HTTP/1.1","headers":[],"size":0,"elapsed_ms":1,"hops":[],
         "timings_ms":{"began":0,"lookup":null,"connect":null,"tls":null,"wait":1,"receive":0},
         "cookies":[{"name":"n","host":"h","fate":"ended","words":"w"}]}}]}"#;
    let read = LoadedReport::read(old.as_bytes()).expect("a report");
    assert_eq!((read.about.merged, read.about.totals.not_reached, read.about.totals.invalid), (Some(2), 1, 1));
    let [invalid, lost] = read.entries.as_slice() else { panic!("two entries") };
    let severities: Vec<&str> = invalid.diagnostics.iter().map(|one| one.severity.as_str()).collect();
    assert_eq!((invalid.outcome, severities), (Outcome::Invalid, vec!["error", "warning"]));
    assert_eq!((lost.outcome, lost.started_ms), (Outcome::NoResponse, Some(1.5)));
    let cookie = &lost.response.as_ref().expect("a response").cookies[0];
    assert_eq!((cookie.action.as_str(), cookie.reason.as_str()), ("ended", "w"));
}

#[test]
fn a_page_shows_hostile_text_and_obeys_none() {
    let mut entries = entries();
    let long = format!("{}{HOSTILE}", "x".repeat(3 << 20));
    let name = entries[1].clone();
    entries.push(Entry { name: HOSTILE.to_owned(), file: HOSTILE.to_owned(), url: Some(HOSTILE.to_owned()), ..name });
    let last = entries.last_mut().expect("one");
    let response = last.response.as_mut().expect("an answer");
    response.body = Some(long.into());
    response.headers.push(("content-type".into(), HOSTILE.into()));
    let page = written(ReportKind::Html, &about(0, &entries), &entries);
    assert!(!page.contains("<script>alert"), "markup of an answer became markup of the page");
    assert_eq!(page.matches("<script>").count(), 1, "the only script is the page's own");
    assert!(page.contains("&lt;script&gt;alert('x')&lt;/script&gt;]]&gt;&amp;amp;\\u{1b}[2J\\u{0}\\u{202e}"));
    assert!(!page.contains(['\u{0}', '\u{1b}', '\u{202e}', '\u{fffe}']));
    assert!(page.len() < 300_000, "{}: a long body is cut", page.len());
    assert!(page.contains("more bytes"));
    // No URL to load from, and no attribute that the policy would have to allow.
    for outside in ["src=", "href=\"http", "style=\"", "onclick", "url(", "@import"] {
        assert!(!page.contains(outside), "{outside}");
    }
}

#[test]
fn the_more_there_is_the_less_is_shown_of_each() {
    let one = entries().swap_remove(0);
    let size = |count: usize| {
        let mut entry = one.clone();
        entry.response.as_mut().expect("an answer").body = Some(format!("[\"{}\"]", "<&>".repeat(7_000)).into());
        written(ReportKind::Html, &about(0, &[]), &vec![entry; count]).len()
    };
    let (few, many) = (size(50), size(5_000));
    assert!(few > 50 * 4_000, "{few}: of a few much is shown");
    assert!(many < 15_000_000, "{many}: of 5,000 with bodies of 20 KB each");
}

#[test]
fn shards_and_attempts_are_joined() {
    let all = entries();
    let saved = |minutes: i64, entries: &[Entry<'static>]| LoadedReport {
        about: about(minutes, entries),
        entries: entries.to_vec(),
    };
    // Shards share nothing: what each left out is left out.
    let (mut one, two) = (saved(0, &all[..2]), saved(1, &all[2..]));
    one.about.totals.not_reached = 3;
    let joined = merge(vec![two.clone(), one.clone()]);
    let names = |saved: &LoadedReport| saved.entries.iter().map(|entry| entry.name.clone()).collect::<Vec<_>>();
    assert_eq!(names(&joined), all.iter().map(|entry| entry.name.clone()).collect::<Vec<_>>());
    assert_eq!(joined.about.totals, Summary { not_reached: 3, cells: all.len() + 3, ..summary_of(&all) });
    assert_eq!((joined.about.merged, joined.about.seed, joined.about.elapsed_ms), (Some(2), None, 60_040.0));
    let began = |saved: &LoadedReport, at: usize| saved.entries[at].started_ms;
    assert_eq!((began(&joined, 0), began(&joined, 2)), (Some(0.0), Some(60_000.0)), "counted from the first run");

    // A later attempt holds, whatever the order they are named in, and so does what it left out.
    let mut again = all.clone();
    again[1].outcome = Outcome::Passed;
    again[1].failures.clear();
    again[1].yields.clear();
    let (mut first, second) = (saved(0, &all), saved(5, &again[..4]));
    first.about.totals.interrupted = true;
    for reports in [vec![first.clone(), second.clone()], vec![second, first]] {
        let joined = merge(reports);
        let record = |at: usize| (joined.entries[at].outcome, joined.entries[at].attempts);
        assert_eq!(
            [record(0), record(1), record(4)],
            [(Outcome::Passed, None), (Outcome::Passed, Some(2)), (Outcome::Skipped, None)]
        );
        assert!(joined.about.totals.interrupted, "the last cells are those of the run that was broken off");
        assert_eq!(joined.entries.len(), all.len());
        assert_eq!(joined.about.totals.failed_checks, 0);
        let thrice = merge(vec![joined, saved(9, &all)]);
        assert_eq!((thrice.about.merged, thrice.entries[1].attempts), (Some(3), Some(2)));
        assert!(!thrice.about.totals.interrupted, "all of it was done again");
    }
}
