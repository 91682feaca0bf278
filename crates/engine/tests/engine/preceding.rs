//! The steps before a request is sent, and their order: arguments, skipping, prompts, tokens.

use std::cell::RefCell;
use yieldtray_credentials::oauth::{Token, TokenKind};
use yieldtray_engine::{Event, Next, Outcome, Run, RunOptions};
use yieldtray_expression::Value;
use yieldtray_http::Exchange;
use yieldtray_test_support::{json_answer, settings, token_of, with_run};
use yieldtray_workspace::request::Tokens;

/// The prompts and requests of a run, in order: `? question` and `METHOD path`.
fn steps(fixture: &str, set: &[(&str, Value)], answer: impl Fn(&str) -> Exchange) -> (Vec<String>, Vec<Event>) {
    with_run(fixture, &["a.http"], settings(None, set), 1, |run| drive(run, answer))
}

fn drive(run: &mut Run<'_>, answer: impl Fn(&str) -> Exchange) -> (Vec<String>, Vec<Event>) {
    let (mut steps, mut events) = (Vec::new(), Vec::new());
    while let Some(next) = run.next() {
        match next {
            Next::Ask(question) => {
                steps.push(format!("? {}", question.text));
                run.answer(&question, Value::text(format!("said-{}", question.name).as_str()));
            }
            Next::Send(ready) => {
                let url = &ready.prepared.url;
                let query = url.query().map(|query| format!("?{query}")).unwrap_or_default();
                let path = format!("{}{query}", url.path());
                steps.push(format!("{} {path}", ready.prepared.method));
                let answer = answer(&path);
                run.complete(ready, Ok(answer));
            }
            Next::Authorize(mut flow) => {
                let outcome = token_of(&mut flow, &mut |_| {
                    steps.push("token of shift".to_owned());
                    Ok(answer("/token"))
                });
                run.authorize(flow.profile(), outcome);
            }
            Next::Pause(pause) => run.resume(&pause),
            Next::Wait => unreachable!("one at a time, nothing is waited for"),
        }
        events.extend(run.events());
    }
    events.extend(run.events());
    (steps, events)
}

fn fine(path: &str) -> Exchange {
    match path {
        "/token" => {
            json_answer(200, "{\"access_token\": \"a-4616-1\", \"token_type\": \"Bearer\", \"expires_in\": 600}")
        }
        _ => json_answer(200, "{\"id\": \"L-1\"}"),
    }
}

fn outcomes(events: &[Event]) -> Vec<&str> {
    let of = |event: &'_ Event| match event {
        Event::CellFinished(report) => Some(report.outcome.as_str()),
        _ => None,
    };
    events.iter().filter_map(of).collect()
}

const DESK: &str = "#- yieldtray.toml
[oauth2.shift]
token_url = \"http://local/token\"
grant = \"client_credentials\"
client_id = \"desk\"
client_secret = \"s-4616-early\"
#- a.http
";

#[test]
fn who_is_skipped_is_asked_nothing_and_gets_no_token() {
    let cell = "%% pay\n% skip when grower == \"G-99\" \"left in spring\"\n% ask pin \"The PIN?\"\n% auth oauth2 shift\nGET http://local/pay/{{pin}}\n";
    let fixture = format!("{DESK}{cell}");
    let grower = |id: &str| [("grower", Value::text(id))];
    let (sent, events) = steps(&fixture, &grower("G-99"), fine);
    assert_eq!((sent.len(), outcomes(&events)), (0, vec!["skipped"]));
    let (sent, events) = steps(&fixture, &grower("G-11"), fine);
    assert_eq!(sent, ["? The PIN?", "token of shift", "GET /pay/said-pin"]);
    assert_eq!(outcomes(&events), ["passed"]);
    // A prompt that the condition needs precedes it.
    let late =
        format!("{DESK}%% pay\n% skip when pin == \"said-pin\" \"no\"\n% ask pin \"The PIN?\"\nGET http://local/pay\n");
    let (sent, events) = steps(&late, &[], fine);
    assert_eq!((sent, outcomes(&events)), (vec!["? The PIN?".to_owned()], vec!["skipped"]));
}

#[test]
fn a_sequence_asks_for_itself_before_it_gives() {
    let fixture = "#- a.http\n%% round\n% ask who \"Who?\"\n% play visit with grower = who + \"-a\"\n% play visit with grower = who + \"-b\"\n\n\
        %% visit\n% ask pin \"PIN?\"\nGET http://local/growers/{{grower}}?pin={{pin}}&again={{grower}}\n";
    let (sent, events) = steps(fixture, &[], fine);
    assert_eq!(
        sent,
        [
            "? Who?",
            "? PIN?",
            "GET /growers/said-who-a?pin=said-pin&again=said-who-a",
            "GET /growers/said-who-b?pin=said-pin&again=said-who-b"
        ]
    );
    assert_eq!(outcomes(&events), ["passed", "passed"]);
    // A value that a sequence generates is the same in the whole request.
    let fixture = "#- a.http\n%% round\n% play visit with grower = uuid()\n\n%% visit\nGET http://local/{{grower}}?again={{grower}}\n";
    let (sent, _) = steps(fixture, &[], fine);
    let (path, again) = sent[0].split_once("?again=").expect("both");
    assert_eq!(path.trim_start_matches("GET /"), again);
}

#[test]
fn a_remark_is_not_lost_while_a_token_is_got() {
    let fixture =
        format!("{DESK}%% pay\n% ask pin \"PIN?\" default 4\n% auth oauth2 shift\nGET http://local/pay/{{{{pin}}}}\n");
    let mut nobody = settings(None, &[]);
    nobody.can_ask = false;
    let (sent, events) = with_run(&fixture, &["a.http"], nobody, 1, |run| drive(run, fine));
    assert_eq!(sent, ["token of shift", "GET /pay/4"]);
    let warnings = events.iter().filter_map(|event| match event {
        Event::CellFinished(report) => Some(report.problems.len()),
        _ => None,
    });
    assert_eq!(warnings.collect::<Vec<_>>(), [1]);
}

fn kept(access: &str, expires_at: Option<i64>, refresh: Option<&str>, fingerprint: String) -> Tokens {
    let mut tokens = Tokens::default();
    let refresh = refresh.map(str::to_owned);
    tokens.put(Token {
        profile: "shift".to_owned(),
        fingerprint,
        access: access.to_owned(),
        refresh,
        kind: TokenKind::Bearer,
        scope: None,
        expires_at,
        obtained_now: false,
    });
    tokens
}

/// The identity of a token with this configuration.
fn fingerprint(fixture: &str) -> String {
    with_run(fixture, &["a.http"], settings(None, &[]), 1, |run| {
        drive(run, fine);
        run.tokens().iter().next().expect("a token").fingerprint.clone()
    })
}

/// 2026-09-14T12:00:00Z, the time in these tests.
const NOON: i64 = 1_789_387_200;

/// A run with an existing token: its steps, and its tokens at the end.
fn with_kept(tokens: Tokens, answer: impl Fn(&str) -> Exchange) -> (Vec<String>, Vec<Event>, Vec<String>, Vec<String>) {
    let fixture = format!("{DESK}%% pay\n% auth oauth2 shift\nGET http://local/pay\n");
    let mut workspace = yieldtray_test_support::workspace(&fixture);
    let engine = yieldtray_test_support::engine();
    let source = workspace.load(std::path::Path::new("a.http")).expect("a file");
    let cells: Vec<_> = workspace.cells(source).collect();
    let plan = yieldtray_workspace::plan::Plan::new(&mut workspace, &cells, true);
    let (random, options) = (yieldtray_test_support::random(), RunOptions { tokens, ..RunOptions::default() });
    let mut run = Run::new(&workspace, &engine, &random, settings(None, &[]), plan, options);
    let seen = RefCell::new(Vec::new());
    let (sent, events) = drive(&mut run, |path| {
        seen.borrow_mut().push(path.to_owned());
        answer(path)
    });
    let left = run.tokens().iter().map(|token| token.access.clone()).collect();
    let dropped = run.revoked_tokens().map(str::to_owned).collect();
    (sent, events, left, dropped)
}

#[test]
fn a_kept_token_serves_until_it_ends_or_is_refused() {
    let fingerprint = fingerprint(&format!("{DESK}%% pay\n% auth oauth2 shift\nGET http://local/pay\n"));
    let token = |expires_at, refresh| kept("a-kept", expires_at, refresh, fingerprint.clone());

    let (sent, _, left, _) = with_kept(token(Some(NOON + 60), None), fine);
    assert_eq!((sent, left), (vec!["GET /pay".to_owned()], vec!["a-kept".to_owned()]));
    let (sent, ..) = with_kept(token(None, None), fine);
    assert_eq!(sent, ["GET /pay"], "nobody says that it ends");

    // It ends before the request would be there.
    let (sent, events, left, _) = with_kept(token(Some(NOON + 5), None), fine);
    assert_eq!((sent, left), (vec!["token of shift".to_owned(), "GET /pay".to_owned()], vec!["a-4616-1".to_owned()]));
    let renewed =
        |events: &[Event]| events.iter().any(|event| matches!(event, Event::TokenObtained(report) if report.renewed));
    assert!(!renewed(&events));
    let (_, events, ..) = with_kept(token(Some(NOON - 5), Some("r-1")), fine);
    assert!(renewed(&events));

    // One got with other words is not used.
    let (sent, ..) = with_kept(kept("a-other", None, None, "other".to_owned()), fine);
    assert_eq!(sent, ["token of shift", "GET /pay"]);

    // The server does not take it any more: it is dropped, and that is said.
    let refuse = |path: &str| if path == "/pay" { json_answer(401, "{}") } else { fine(path) };
    let (_, events, left, dropped) = with_kept(token(None, None), refuse);
    assert_eq!((left.len(), dropped), (0, vec!["shift".to_owned()]));
    let advice = events.iter().find_map(|event| match event {
        Event::CellFinished(report) => report.advice.clone(),
        _ => None,
    });
    assert!(advice.is_some_and(|advice| advice.contains("stored token of `shift` was rejected")));
}

#[test]
fn where_renewing_is_refused_a_new_token_is_got() {
    let fingerprint = fingerprint(&format!("{DESK}%% pay\n% auth oauth2 shift\nGET http://local/pay\n"));
    let asked = RefCell::new(0);
    let once_refused = |path: &str| match path {
        "/token" if *asked.borrow() == 0 => {
            *asked.borrow_mut() += 1;
            json_answer(400, "{\"error\": \"invalid_grant\"}")
        }
        _ => fine(path),
    };
    let tokens = kept("a-kept", Some(NOON - 5), Some("r-1"), fingerprint);
    let (sent, events, left, dropped) = with_kept(tokens, once_refused);
    assert_eq!(sent, ["token of shift", "token of shift", "GET /pay"]);
    assert_eq!((left, dropped.len()), (vec!["a-4616-1".to_owned()], 0));
    let record = events.iter().filter(|event| matches!(event, Event::TokenObtained(_))).count();
    assert_eq!((record, outcomes(&events)), (1, vec!["passed"]));
}

#[test]
fn what_cannot_be_sent_asks_nothing() {
    let broken = "%% broken\n% ask pin \"PIN?\"\nGET http://local/{{\n";
    let (sent, events) = steps(&format!("#- a.http\n{broken}"), &[], fine);
    assert_eq!((sent.len(), outcomes(&events)), (0, vec!["invalid"]));
    let unmet = "%% first\nGET http://local/1\n\n% check false\n\n%% second\n% needs first\n% ask pin \"PIN?\"\nGET http://local/{{pin}}\n";
    let (sent, events) = steps(&format!("#- a.http\n{unmet}"), &[], fine);
    assert_eq!((sent, outcomes(&events)), (vec!["GET /1".to_owned()], vec!["failed", "not-sent"]));
    let report = events.iter().rev().find_map(|event| match event {
        Event::CellFinished(report) => Some((report.outcome, report.reason.clone())),
        _ => None,
    });
    assert_eq!(report, Some((Outcome::NotSent, Some("first".to_owned()))));
}
