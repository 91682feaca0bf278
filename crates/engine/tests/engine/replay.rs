//! Runs of several cells: order, needs, checks, captures, and what they report.

use std::time::Duration;
use yieldtray_engine::{CheckPart, Event, Next, Outcome, Run, RunOptions};
use yieldtray_expression::{EvalError, Value};
use yieldtray_http::{Exchange, Failure, FailureKind, PreparedRequest};
use yieldtray_source::Span;
use yieldtray_source::glob::glob_match;
use yieldtray_test_support::{RunRecord, answer, json_answer, replay, settings};
use yieldtray_workspace::plan::{Plan, Selection};

const DESK: &str = "#- desk.http
% check ok: status == 200

%% Sign in
POST http://local/session

% yield token = body.token secret

%% Book in
% needs sign-in
% waive ok
POST http://local/lots
Authorization: Bearer {{token}}

{ \"bins\": 24 }

% yield lot_id = body.id
% check status == 201
% check body.bins == 24 else \"the scale counted {{body.bins}}\"

%% Weigh
% needs book-in
GET http://local/lots/{{lot_id}}

% check ok: status < 300
";

/// Answers by path and method.
fn desk(told_bins: i64) -> RunRecord {
    replay(DESK, &["desk.http"], settings(None, &[]), |request| {
        Ok(match request.url.path() {
            "/session" => json_answer(200, "{\"token\": \"t-0ecret\"}"),
            "/lots" => json_answer(201, &format!("{{\"id\": \"L-1\", \"bins\": {told_bins}, \"by\": \"t-0ecret\"}}")),
            _ => json_answer(204, ""),
        })
    })
}

fn outcomes(record: &RunRecord) -> Vec<Outcome> {
    record.reports().map(|report| report.outcome).collect()
}

#[test]
fn a_run_chains_what_responses_yield() {
    let record = desk(24);
    assert_eq!(outcomes(&record), [Outcome::Passed, Outcome::Passed, Outcome::Passed]);
    assert_eq!(record.sent[1].header("authorization"), Some("Bearer t-0ecret"));
    assert_eq!(record.sent[2].url.path(), "/lots/L-1");
    assert_eq!((record.summary.requests, record.summary.checks, record.summary.exit_code().code()), (3, 4, 0));
    assert!(matches!(record.events.first(), Some(Event::RunStarted { cells: 3, .. })));
    assert!(matches!(record.events.last(), Some(Event::RunFinished(_))));
}

#[test]
fn a_failed_check_shows_its_parts_and_stops_who_needs_it() {
    let record = desk(23);
    assert_eq!(outcomes(&record), [Outcome::Passed, Outcome::Failed, Outcome::NotSent]);
    let report = record.reports().nth(1).expect("the second cell");
    let failure = &report.failures[0];
    assert_eq!(failure.expression, "body.bins == 24");
    let (span, value) = (Span::new(0, "body.bins".len()), Ok("23".to_owned()));
    assert_eq!(failure.parts, [CheckPart { text: "body.bins".to_owned(), span, value }]);
    assert_eq!(failure.hint.as_deref(), Some("the scale counted 23"));
    assert_eq!((record.summary.failed_checks, record.summary.not_sent, record.summary.exit_code().code()), (1, 1, 1));
}

#[test]
fn a_secret_yield_is_shown_nowhere() {
    for bins in [23, 24] {
        let record = desk(bins);
        let everything = format!("{:?}", record.events);
        assert!(!everything.contains("0ecret"), "{everything}");
        assert!(everything.contains("[secret]"));
    }
}

#[test]
fn shared_checks_are_waived_and_replaced_by_label() {
    let fixture = "#- _common.http\n% check ok: status == 200\n% check json: headers['content-type'].contains('json')\n\
        #- a.http\n%% all\nhttp://local/\n%% waived\n% waive ok, json\nhttp://local/\n%% replaced\nhttp://local/\n\n% check ok: status == 404\n";
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| Ok(answer(404, &[], "")));
    let counts: Vec<_> = record.reports().map(|report| (report.checks, report.failures.len())).collect();
    assert_eq!(counts, [(2, 2), (0, 0), (2, 1)]);
    let failure = &record.reports().next().expect("a report").failures[1];
    assert_eq!(failure.label.as_deref(), Some("json"));
    assert_eq!(failure.notes, ["`headers` has no member `content-type`: it is empty"]);
}

#[test]
fn a_check_that_cannot_be_judged_fails_and_says_why() {
    let fixture = "#- a.http\n%% one\nhttp://local/\n\n% check body.id\n% check body.missing == 1\n% check dyn(status)\n% yield x = body.missing.deeper\n% check true\n";
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| Ok(json_answer(200, "{\"id\": \"L-1\"}")));
    let report = record.reports().next().expect("a report");
    let notes: Vec<&[String]> = report.failures.iter().map(|failure| failure.notes.as_slice()).collect();
    assert_eq!(
        notes,
        [
            &["a check must be true or false, but this is a string".to_owned()][..],
            &["`body` has no member `missing`; available: `id`".to_owned()],
            &["a check must be true or false, but this is an integer".to_owned()],
        ]
    );
    assert_eq!(report.yields[0].value, Err(EvalError::new("`body` has no member `missing`; available: `id`")));
    assert_eq!((report.checks, record.summary.failed_yields, record.summary.exit_code().code()), (4, 1, 1));
}

#[test]
fn a_mistake_in_one_cell_does_not_stop_another() {
    let fixture =
        "#- a.http\n%% broken\nhttp://local/{{\n%% fine\nhttp://local/\n%% needing\n% needs broken\nhttp://local/\n";
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| Ok(json_answer(200, "{}")));
    assert_eq!(outcomes(&record), [Outcome::Invalid, Outcome::Passed, Outcome::NotSent]);
    assert_eq!(record.summary.exit_code().code(), 2);
}

#[test]
fn needs_come_first_and_circles_are_told() {
    let order = |fixture: &str| {
        let record = replay(fixture, &["a.http"], settings(None, &[]), |_| Ok(json_answer(200, "{}")));
        let paths: Vec<String> = record.sent.iter().map(|request| request.url.path().to_owned()).collect();
        (paths.join(" "), record.problems().iter().map(|problem| problem.message.clone()).collect::<Vec<_>>())
    };
    let (paths, problems) = order(
        "#- a.http\n%% c\n% needs b, other.http#d\nhttp://x/c\n%% a\nhttp://x/a\n%% b\n% needs a\nhttp://x/b\n#- other.http\n%% d\nhttp://x/d\n%% e\nhttp://x/e\n",
    );
    assert_eq!(paths, "/a /b /d /c");
    assert_eq!(problems, Vec::<String>::new());
    let (paths, problems) =
        order("#- a.http\n%% a\n% needs b\nhttp://x/a\n%% b\n% needs a\nhttp://x/b\n%% c\nhttp://x/c\n");
    assert_eq!(paths, "/c");
    assert_eq!(problems, ["circular dependency: a → b → a"]);
    let (_, problems) = order("#- a.http\n%% a\n% needs bb\nhttp://x/a\n%% b1\n% needs none.http#x\nhttp://x/b\n");
    assert_eq!(problems, ["no request `bb` in `a.http`", "no file `none.http`"]);
}

#[test]
fn no_answer_counts_more_than_the_rest() {
    let fixture = "#- a.http\n%% one\nhttp://local/\n%% two\nhttp://local/{{nope}}\n";
    let record = replay(fixture, &["a.http"], settings(None, &[("x", Value::null())]), |_| {
        Err(Failure { kind: FailureKind::Refused, message: "refused".to_owned(), hint: None, elapsed: Duration::ZERO })
    });
    assert_eq!(outcomes(&record), [Outcome::NoResponse, Outcome::Invalid]);
    assert_eq!(record.summary.exit_code().code(), 3);
}

#[test]
fn what_a_response_gives_to_expressions() {
    let fixture = "#- a.http\n%% one\nhttp://local/\n
% check status == 200 && reason == 'As Told' && size == 11 && elapsed < duration('1s')
% check headers['x-two'] == 'a, b' && cookies.sid == 'v=1' && cookies.b == ''
% check body == text && text == 'plain words' && hops == [] && url == 'http://local/lots'
% check sent.method == 'GET' && request.file == 'a.http'
";
    let headers = [("X-Two", "a"), ("x-two", "b"), ("Set-Cookie", "sid=v=1; Path=/"), ("Set-Cookie", "b=; HttpOnly")];
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| Ok(answer(200, &headers, "plain words")));
    let report = record.reports().next().expect("a report");
    assert_eq!((report.checks, &report.failures.len()), (4, &0), "{:#?}", report.failures);
}

#[test]
fn patterns_choose_names() {
    for (pattern, name, fits) in [
        ("book-in", "book-in", true),
        ("book-in", "book-in-two", false),
        ("book-*", "book-in", true),
        ("*-in", "book-in", true),
        ("*", "", true),
        ("b*k*n", "book-in", true),
        ("b*x*n", "book-in", false),
        ("*a*a", "a", false),
    ] {
        assert_eq!(glob_match(pattern, name), fits, "{pattern} {name}");
    }
}

#[test]
fn what_is_lacking_is_found_and_put_in_order() {
    use yieldtray_workspace::plan::{Plan, prerequisites};
    use yieldtray_workspace::scope::{CapturedValue, Tray};
    let fixture = "#- other.http\n%% sign-in\nhttp://b/\n\n% yield token = body.t\n#- a.http\n% let auth = 'Bearer ' + token\n\n\
        %% book\n% needs other.http#sign-in\nhttp://b/\nAuthorization: {{auth}}\n\n% yield lot = body.id\n% check lot != ''\n\n\
        %% weigh\nhttp://b/{{lot}}\n\n% yield kg = body.kg\n\n%% ring\nhttp://b/{{ring}}\n\n% yield round = 1\n\n\
        %% round\nhttp://b/{{round}}\n\n% yield ring = 1\n\n%% twice\nhttp://b/{{two}}\n%% x\nhttp://b/\n\n% yield two = 1\n%% y\nhttp://b/\n\n% yield two = 2\n";
    let mut workspace = yieldtray_test_support::workspace(fixture);
    let source = workspace.load(std::path::Path::new("a.http")).expect("a file");
    let engine = yieldtray_test_support::engine();
    let mut links = |name: &str, tray: &Tray| {
        let cell = workspace.cell_named(source, name).expect("a cell");
        let links = prerequisites(&mut workspace, &engine, &settings(None, &[]), tray, cell);
        let plan = Plan::chained(&mut workspace, &links, cell, false);
        let order: Vec<String> = plan.steps.iter().map(|step| workspace.cell(step.cell).name.to_string()).collect();
        let names: Vec<String> = links.iter().map(|link| link.names.join("+")).collect();
        format!("{} by {}", order.join(" "), names.join(" "))
    };
    let empty = Tray::default();
    assert_eq!(links("weigh", &empty), "sign-in book weigh by token lot");
    assert_eq!(links("book", &empty), "sign-in book by token");
    // A name that two requests capture is ambiguous, and a cycle ends.
    assert_eq!(links("twice", &empty), "twice by ");
    assert_eq!(links("ring", &empty), "round ring by ring");
    let mut tray = Tray::default();
    let yielded =
        CapturedValue { value: Value::from("L-1"), source, cell: None, secret: false, origin: None, kept_at: Some(0) };
    tray.put("lot", yielded);
    assert_eq!(links("weigh", &tray), "weigh by ");
}

#[test]
fn a_question_is_asked_once_and_its_default_may_come_from_a_response() {
    let fixture = "#- a.http\n%% one\n% ask pin \"PIN?\" secret\nhttp://b/?p={{pin}}\n\n% yield lots = ['L-1', 'L-2']\n\n\
        %% two\n% ask pin \"PIN?\" secret\n% ask lot \"Lot?\" default lots[1] from lots\nhttp://b/{{lot}}?p={{pin}}\n\n% check pin == 'x'\n\n\
        %% three\n% ask lot \"Which?\" from status\nhttp://b/{{lot}}\n";
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| Ok(json_answer(200, "{}")));
    let sent: Vec<String> = record.sent.iter().map(|request| request.url.to_string()).collect();
    // The test replies to each question with its text.
    assert_eq!(sent, ["http://b/?p=PIN%3F", "http://b/Lot%3F?p=PIN%3F"]);
    let failure = &record.reports().nth(1).expect("a report").failures[0];
    assert_eq!((failure.parts.len(), &failure.parts[0].value), (1, &Ok("\"[secret]\"".to_owned())));
    assert_eq!(record.problems()[0].message, "`status` is available only after the response");

    let mut alone = settings(None, &[("pin", Value::from("4616"))]);
    alone.can_ask = false;
    let record = replay(fixture, &["a.http"], alone, |_| Ok(json_answer(200, "{}")));
    assert_eq!(record.sent[1].url.as_str(), "http://b/L-2?p=4616");
    let warnings: Vec<&str> = record.problems().iter().map(|problem| problem.message.as_str()).collect();
    assert_eq!(warnings[0], "cannot prompt for `lot`: using its default, \"L-2\"");
}

/// A workspace with a profile, and two cells that ask for its token.
const PROFILED: &str = "#- yieldtray.toml\n[oauth2.shift]\ntoken_url = 'http://office/token'\nclient_id = 'desk'\n\
    client_secret = '{{secret}}'\nscope = 'pay roll'\nfor = ['http://local']\n\
    #- a.http\n% auth oauth2 shift\n\n%% one\nhttp://local/1\n\n%% two\nhttp://local/2\n";

fn tokens_replay(respond: impl FnMut(&PreparedRequest) -> Result<Exchange, Failure>) -> RunRecord {
    replay(PROFILED, &["a.http"], settings(None, &[("secret", Value::text("wind&fall"))]), respond)
}

#[test]
fn one_token_serves_all_cells_of_a_profile() {
    let record = tokens_replay(|request| {
        Ok(match request.url.path() {
            "/token" => {
                json_answer(200, r#"{"access_token": "t-4616-abcd", "token_type": "bearer", "expires_in": "3600"}"#)
            }
            _ => json_answer(200, "{}"),
        })
    });
    let sent: Vec<_> = record.sent.iter().map(|request| request.url.path().to_owned()).collect();
    assert_eq!(sent, ["/token", "/1", "/2"]);
    let form = record.sent[0].body.as_ref().map(|body| body.text().into_owned());
    assert_eq!(form.as_deref(), Some("grant_type=client_credentials&scope=pay+roll"));
    // `desk:wind%26fall`: both are form-encoded first (RFC 6749 2.3.1).
    assert_eq!(record.sent[0].header("authorization"), Some("Basic ZGVzazp3aW5kJTI2ZmFsbA=="));
    assert_eq!(record.sent[2].header("authorization"), Some("Bearer t-4616-abcd"));
    assert!(!format!("{:?}", record.events).contains("4616"), "nothing of the token is told");
    let got =
        record.events.iter().any(|event| matches!(event, Event::TokenObtained(report) if report.seconds == Some(3600)));
    assert!(got, "{:?}", record.events);
}

#[test]
fn without_a_token_the_cells_that_want_it_are_not_sent() {
    for (status, body, text) in [
        (400, r#"{"error": "invalid_client", "error_description": "no desk"}"#, "(invalid_client: no desk)"),
        (200, r#"{"token": "t"}"#, "the response has no `access_token`"),
        (200, r#"{"access_token": "t", "token_type": "mac"}"#, "unsupported token type `mac`"),
        (503, "<html>", "503 (As Told)"),
    ] {
        let record = tokens_replay(|_| Ok(json_answer(status, body)));
        assert_eq!(record.sent.len(), 1, "it is asked for once");
        let failures: Vec<_> = record.reports().filter_map(|report| report.failure.as_ref()).collect();
        assert!(failures.len() == 2 && failures[0].message.contains(text), "{failures:?}");
        assert_eq!(record.summary.exit_code().code(), 3);
    }
}

#[test]
fn a_body_that_was_not_held_passes_no_check() {
    let fixture = "#- a.http\nhttp://local/\n\n% check text == ''\n% check size == 9\n% yield b = body\n";
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| {
        let mut passed_on = json_answer(200, "");
        passed_on.size = 9;
        Ok(passed_on)
    });
    let report = record.reports().next().expect("a report");
    assert_eq!((report.checks, report.failures.len(), report.yields.len()), (2, 1, 1));
    assert!(report.failures[0].notes[0].contains("is too large for checks"), "{:?}", report.failures);
    assert!(report.yields[0].value.is_err());
}

/// The paths that were sent, in order.
fn paths(record: &RunRecord) -> Vec<String> {
    record.sent.iter().map(|request| request.wire_target().into_owned()).collect()
}

#[test]
fn a_cell_is_sent_once_for_each_row() {
    let fixture = "#- lots.csv\nlot,bins\nL-1,24\nL-2,7\nL-3,9\n#- none.csv\nlot,bins\n\
        #- a.http\n%% each\n% each row in \"lots.csv\"\n% let doubled = bins * 2\nPOST http://local/{{lot}}\n\n{ \"bins\": {{doubled}}, \"row\": {{row}} }\n\n\
        % check status == 200 || row.lot == 'L-2'\n% check bins != 9\n% yield last = lot\n\
        %% after\n% needs each\nhttp://local/{{last}}\n%% none\n% each row in \"none.csv\"\nhttp://local/{{lot}}\n\
        %% next\n% needs none\nhttp://local/next\n%% gone\n% each row in \"gone.csv\"\nhttp://local/{{lot}}\n";
    let respond =
        |request: &PreparedRequest| Ok(json_answer(if request.url.path() == "/L-2" { 404 } else { 200 }, "{}"));
    let record = replay(fixture, &["a.http"], settings(None, &[]), respond);
    assert_eq!(paths(&record), ["/L-1", "/L-2", "/L-3"]);
    let body = record.sent[0].body.as_ref().map(|body| body.text().into_owned());
    assert_eq!(body.as_deref(), Some("{ \"bins\": 48, \"row\": {\"lot\":\"L-1\",\"bins\":24} }"));
    let outcomes: Vec<_> = record.reports().map(|report| (report.row, report.outcome.as_str())).collect();
    assert_eq!(
        outcomes,
        [
            (Some(1), "passed"),
            (Some(2), "passed"),
            (Some(3), "failed"),
            (None, "not-sent"),
            (None, "skipped"),
            (None, "skipped"),
            (None, "invalid"),
        ]
    );
    assert_eq!((record.summary.skipped, record.summary.not_sent, record.summary.exit_code().code()), (2, 1, 2));
    // A value of the command line wins over the row, as over every other.
    let set = settings(None, &[("lot", Value::text("L-9"))]);
    assert_eq!(
        paths(&replay(fixture, &["a.http"], set, |_| Ok(json_answer(200, "{}"))))[..3],
        ["/L-9", "/L-9", "/L-9"]
    );
}

#[test]
fn a_cell_is_skipped_and_so_is_what_needs_it() {
    let fixture = "#- a.http\n%% one\n% skip when environment == null \"no {{what}} here\"\nhttp://local/1\n\
        %% two\n% needs one\nhttp://local/2\n%% three\n% skip when what == 'cold'\nhttp://local/3\n\
        %% four\n% skip when what\nhttp://local/4\n";
    let record =
        replay(fixture, &["a.http"], settings(None, &[("what", Value::text("fruit"))]), |_| Ok(json_answer(200, "{}")));
    assert_eq!(paths(&record), ["/3"]);
    let outcomes: Vec<_> = record.reports().map(|report| (report.outcome, report.reason.as_deref())).collect();
    let skipped = |reason| (Outcome::Skipped, Some(reason));
    let (passed, mistaken) = ((Outcome::Passed, None), (Outcome::Invalid, None));
    assert_eq!(outcomes, [skipped("no fruit here"), skipped("one was skipped"), passed, mistaken]);
    assert!(
        record.problems()[0].message.contains("must be true or false, but it is a string"),
        "{:?}",
        record.problems()
    );
}

#[test]
fn a_cell_waits_and_the_last_answer_is_judged() {
    let fixture = "#- a.http\nhttp://local/job\n\n% wait until body.state == 'done' every 1s for 3s\n% check body.tries == 3\n% yield state = body.state\n";
    let mut tries = 0;
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| {
        tries += 1;
        let state = if tries == 3 { "done" } else { "running" };
        Ok(json_answer(200, &format!("{{\"state\": \"{state}\", \"tries\": {tries}}}")))
    });
    let report = record.reports().next().expect("a report");
    assert_eq!((report.outcome.as_str(), report.attempts, report.checks, record.sent.len()), ("passed", 3, 2, 3));
    assert_eq!(record.reports().count(), 1);

    // The condition never becomes true: the last response fails the wait, as a check would.
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| {
        Ok(json_answer(200, "{\"state\": \"running\", \"tries\": 3}"))
    });
    let report = record.reports().next().expect("a report");
    assert_eq!((report.outcome.as_str(), report.attempts, report.failures.len()), ("failed", 3, 1));
    assert_eq!(report.failures[0].expression, "body.state == 'done'");

    // A server that is not there yet may come.
    let mut tries = 0;
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| {
        tries += 1;
        match tries {
            3 => Ok(json_answer(200, "{\"state\": \"done\", \"tries\": 3}")),
            _ => Err(Failure {
                kind: FailureKind::Refused,
                message: "refused".into(),
                hint: None,
                elapsed: Duration::ZERO,
            }),
        }
    });
    assert_eq!(record.summary.exit_code().code(), 0);
}

#[test]
fn what_is_done_afterwards_is_done_after_a_failure_too() {
    let fixture = "#- a.http\n%% tidy\n% afterwards\nDELETE http://local/tidy\n%% one\nhttp://local/1\n\n% check status == 200\n%% two\nhttp://local/2\n\
        #- b.http\n%% three\nhttp://local/3\n%% never\n% afterwards\nhttp://local/never\n";
    let all = replay(fixture, &["a.http", "b.http"], settings(None, &[]), |_| Ok(json_answer(500, "{}")));
    assert_eq!(paths(&all), ["/1", "/2", "/tidy", "/3", "/never"]);
    let mut workspace = yieldtray_test_support::workspace(fixture);
    let (engine, random) = (yieldtray_test_support::engine(), yieldtray_test_support::random());
    let cells: Vec<_> = ["a.http", "b.http"]
        .iter()
        .flat_map(|file| {
            let source = workspace.load(std::path::Path::new(file)).expect("a file");
            workspace.cells(source)
        })
        .collect();
    let plan = Plan::new(&mut workspace, &cells, true);
    let mut run = Run::new(
        &workspace,
        &engine,
        &random,
        settings(None, &[]),
        plan,
        RunOptions { fail_fast: true, ..RunOptions::default() },
    );
    let mut sent = Vec::new();
    while let Some(Next::Send(ready)) = run.next() {
        sent.push(ready.prepared.url.path().to_owned());
        run.complete(ready, Ok(json_answer(500, "{}")));
    }
    assert_eq!(sent, ["/1", "/tidy"], "a file that was not begun leaves nothing to tidy");
    assert_eq!(run.summary().not_reached, 3);
}

#[test]
fn a_sequence_plays_its_cells_in_its_own_order() {
    let fixture = "#- a.http\n%% Morning\n% play weigh with kg = 9 times 2\n% play book with bins = base + 1, note = 'a, b'\n% let base = 3\n\
        %% Book\n% needs sign-in\nPOST http://local/book?bins={{bins}}\n\n{{note}}\n\n% yield lot = body.id\n\
        %% Weigh\nhttp://local/weigh?kg={{kg}}\n%% Sign in\nhttp://local/sign-in\n%% Noon\n% needs morning\nhttp://local/noon?lot={{lot}}\n";
    let respond = |_: &PreparedRequest| Ok(json_answer(200, "{\"id\": \"L-1\"}"));
    let record = replay(fixture, &["a.http"], settings(None, &[]), respond);
    assert_eq!(
        paths(&record),
        ["/weigh?kg=9", "/weigh?kg=9", "/sign-in", "/book?bins=4", "/noon?lot=L-1"],
        "{:?}",
        record.problems()
    );
    let played: Vec<bool> = record.reports().map(|report| report.played_by.is_some()).collect();
    assert_eq!(played, [true, true, false, true, false]);
    // A request that a sequence could not play stops the requests that need the sequence.
    let record = replay(fixture, &["a.http"], settings(None, &[]), |request| {
        let status = if request.url.path() == "/weigh" { Err(()) } else { Ok(()) };
        match status {
            Ok(()) => Ok(json_answer(200, "{\"id\": \"L-1\"}")),
            Err(()) => {
                Err(Failure { kind: FailureKind::Refused, message: "no".into(), hint: None, elapsed: Duration::ZERO })
            }
        }
    });
    assert_eq!(record.reports().last().map(|report| report.outcome), Some(Outcome::NotSent));

    for (fixture, text) in [
        ("#- a.http\n%% a\n% play b\n%% b\n% play a\n", "circular dependency"),
        ("#- a.http\n%% a\n% play nobody\n", "no request `nobody` in `a.http`"),
        (
            "#- a.http\n%% a\n% play b\nhttp://local/\n%% b\nhttp://local/\n",
            "a sequence cannot have a request of its own",
        ),
        ("#- a.http\n%% a\n% play b with x = nothing\n%% b\nhttp://local/{{x}}\n", "no variable named `nothing`"),
    ] {
        let record = replay(fixture, &["a.http"], settings(None, &[]), respond);
        assert!(
            record.problems().iter().any(|problem| problem.message.contains(text)),
            "{text}: {:?}",
            record.problems()
        );
        assert!(record.sent.len() <= 1, "{text}");
    }
}

#[test]
fn a_plan_is_gone_through_several_times_and_shared_out() {
    let fixture = "#- a.http\n%% a\nhttp://local/a\n\n% yield id = body.id\n%% b\nhttp://local/{{id}}\n";
    let mut workspace = yieldtray_test_support::workspace(fixture);
    let (engine, random) = (yieldtray_test_support::engine(), yieldtray_test_support::random());
    let source = workspace.load(std::path::Path::new("a.http")).expect("a file");
    let cells: Vec<_> = workspace.cells(source).collect();
    let plan = Plan::new(&mut workspace, &cells, true).times(3);
    let mut run = Run::new(&workspace, &engine, &random, settings(None, &[]), plan, RunOptions::default());
    let (mut sent, mut number) = (Vec::new(), 0);
    while let Some(Next::Send(ready)) = run.next() {
        number += 1;
        sent.push(ready.prepared.url.path().to_owned());
        run.complete(ready, Ok(json_answer(200, &format!("{{\"id\": {number}}}"))));
    }
    assert_eq!(sent, ["/a", "/1", "/a", "/3", "/a", "/5"]);
    let rounds: Vec<usize> = run
        .events()
        .filter_map(|event| if let Event::CellFinished(report) = event { Some(report.round) } else { None })
        .collect();
    assert_eq!(rounds, [1, 1, 2, 2, 3, 3]);
    let selection = Selection { exclude: vec!["a*".to_owned()], ..Selection::default() };
    assert!(!selection.includes(&workspace, cells[0]) && selection.includes(&workspace, cells[1]));
}

#[test]
fn a_check_of_an_empty_list_passes_with_a_remark() {
    let fixture = "#- a.http\nhttp://local/\n\n% check status == 200 && body.lots.all(l, l.bins > 0)\n% check size(body.lots) == 0 || body.lots.all(l, l.open)\n";
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| Ok(json_answer(200, "{\"lots\": []}")));
    let warnings: Vec<_> = record.problems().iter().map(|problem| problem.message.as_str()).collect();
    assert_eq!(
        (record.summary.exit_code().code(), warnings),
        (0, vec!["`body.lots` is empty, so this check always passes"])
    );
    let record = replay(fixture, &["a.http"], settings(None, &[]), |_| {
        Ok(json_answer(200, "{\"lots\": [{\"bins\": 1, \"open\": true}]}"))
    });
    assert!(record.problems().is_empty());
}

#[test]
fn a_body_that_breaks_its_schema_says_where_and_which_rule() {
    let fixture = "#- lots/a.http\nhttp://local/\n\n% check conforms(body, 'lot.schema.json')\n\
        #- lots/lot.schema.json\n{ \"type\": \"object\", \"required\": [\"id\"], \"properties\": { \"bins\": { \"$ref\": \"shared/bins.json\" } } }\n\
        #- lots/shared/bins.json\n{ \"type\": \"integer\", \"maximum\": 400 }\n";
    let judged = |body: &'static str| {
        replay(fixture, &["lots/a.http"], settings(None, &[]), move |_| Ok(json_answer(200, body)))
    };
    assert_eq!(judged("{\"id\": \"L-1\", \"bins\": 24}").summary.exit_code().code(), 0);
    let record = judged("{\"bins\": 4000}");
    let notes = &record.reports().next().expect("a report").failures[0].notes;
    assert!(
        notes.iter().any(|note| note.starts_with(
            "`/bins`: 4000 is greater than the maximum of 400 (rule `/maximum` of `lots/shared/bins.json`)"
        )),
        "{notes:?}"
    );
    assert!(notes.iter().any(|note| note.contains("\"id\" is a required property (rule `/required`)")), "{notes:?}");
    // Nothing is fetched, and nothing outside is read.
    for (reference, message) in [
        ("http://schemas.example/x.json", "checks never fetch schemas"),
        ("../../outside.json", "cannot read"),
        ("gone.json", "cannot read"),
    ] {
        let fixture = fixture.replace("shared/bins.json\" }", &format!("{reference}\" }}"));
        let record = replay(&fixture, &["lots/a.http"], settings(None, &[]), |_| Ok(json_answer(200, "{\"id\": 1}")));
        let notes = format!("{:?}", record.reports().next().expect("a report").failures[0].notes);
        assert!(notes.contains(message), "{reference}: {notes}");
    }
}
