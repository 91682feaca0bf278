//! Files in parallel: whatever the order of the responses, the events are the same.

use proptest::prelude::*;
use std::cell::RefCell;
use std::collections::HashMap;
use yieldtray_engine::{Event, Next, Outcome, Run};
use yieldtray_http::{Exchange, Failure, PreparedRequest};
use yieldtray_test_support::{RunRecord, json_answer, settings, side_by_side, with_run};

/// Six files with all that can make them depend on each other.
const HOUSE: &str = "#- yieldtray.toml
[oauth2.shift]
token_url = \"http://local/token\"
grant = \"client_credentials\"
client_id = \"desk\"
client_secret = \"s-4616-early\"
#- _common.http
% let ref = uuid()
% check ok: status < 300
#- gate.http
%% sign-in
POST http://local/session

% yield token = body.token secret
%% renew
POST http://local/session?again=1

% yield token = body.token secret
%% sign-out
% afterwards
DELETE http://local/session
X-Token: {{token}}
#- intake.http
%% book
% needs gate.http#sign-in
POST http://local/lots?ref={{ref}}&by={{token}}

% yield lot_id = body.id
%% rows
% each row in \"lots.csv\"
GET http://local/lots/{{row.lot}}/{{random(1, 9)}}
%% remove
% afterwards
DELETE http://local/lots/{{lot_id}}
#- office.http
%% pay
% auth oauth2 shift
GET http://local/pay/{{ref}}
%% graded
% needs intake.http#book
GET http://local/grade/{{lot_id}}

% wait until body.tries == 3 every 1s for 1m
#- orchard.http
%% look
% auth oauth2 shift
% ask zone \"Which zone?\" default \"north\"
GET http://local/zones/{{zone}}
%% fails
GET http://local/echo/t-4616-token

% check body.path == \"/nowhere\"
%% skips
% skip when zone == \"north\" \"no truck goes there\"
% ask zone \"Which zone?\" default \"north\"
GET http://local/zones
#- morning.http
%% all
% play weigh with kilos = 12 times 2
% play documents.http#print
%% weigh
GET http://local/scale/{{kilos}}/{{ref}}
#- documents.http
%% print
GET http://local/label/{{ref}}
%% after
GET http://local/label/{{missing}}
#- lots.csv
lot
L-1
L-2
L-3
";

/// The gate comes first: a secret is hidden from when it is known, which side by side may only be earlier.
const FILES: [&str; 6] = ["gate.http", "morning.http", "orchard.http", "intake.http", "office.http", "documents.http"];

/// Answers by the request alone, but for the grading, which is done at the third look.
fn packhouse() -> impl FnMut(&PreparedRequest) -> Result<Exchange, Failure> {
    let tries = RefCell::new(HashMap::<String, usize>::new());
    move |request| {
        let path = request.url.path();
        let mut tries = tries.borrow_mut();
        let tried = tries.entry(path.to_owned()).or_default();
        *tried += 1;
        Ok(match path {
            "/session" => json_answer(200, "{\"token\": \"t-4616-token\"}"),
            "/token" => json_answer(
                200,
                "{\"access_token\": \"a-4616-access\", \"token_type\": \"Bearer\", \"expires_in\": 600}",
            ),
            "/lots" => json_answer(201, "{\"id\": \"L-9\"}"),
            _ if path.starts_with("/grade") => json_answer(200, &format!("{{\"tries\": {}}}", (*tried - 1) % 3 + 1)),
            _ => json_answer(200, &format!("{{\"path\": \"{path}\"}}")),
        })
    }
}

fn house(jobs: usize, times: usize, choose: &mut dyn FnMut(usize) -> usize) -> RunRecord {
    let mut settings = settings(None, &[]);
    settings.can_ask = false;
    with_run(HOUSE, &FILES, settings, times, |run| side_by_side(run, jobs, choose, &mut packhouse()))
}

/// The requests that were sent, in any order.
fn sorted(record: &RunRecord) -> Vec<String> {
    let mut sent: Vec<String> =
        record.sent.iter().map(|request| format!("{} {}", request.method, request.url)).collect();
    sent.sort_unstable();
    sent
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn any_order_of_answers_tells_the_same(jobs in 2_usize..9, picks in prop::collection::vec(any::<usize>(), 120)) {
        let one = house(1, 2, &mut |_| 0);
        let mut picks = picks.into_iter().cycle();
        let many = house(jobs, 2, &mut |open| picks.next().unwrap_or_default() % open);
        for (one, many) in one.events.iter().zip(&many.events) {
            prop_assert_eq!(format!("{one:?}"), format!("{many:?}"));
        }
        prop_assert_eq!(one.events.len(), many.events.len());
        prop_assert_eq!(sorted(&one), sorted(&many));
        prop_assert_eq!(one.summary, many.summary);
    }
}

#[test]
fn the_house_shows_what_it_is_meant_to_show() {
    let record = house(8, 1, &mut |open| open - 1);
    let outcomes: Vec<&str> = record.reports().map(|report| report.outcome.as_str()).collect();
    let count = |word: &str| outcomes.iter().filter(|outcome| **outcome == word).count();
    assert_eq!((count("failed"), count("skipped"), count("invalid")), (1, 1, 1), "{outcomes:?}");
    // Each needs the same token and the same default: both are reported once.
    assert_eq!(record.events.iter().filter(|event| matches!(event, Event::TokenObtained(_))).count(), 1);
    assert_eq!(record.sent.iter().filter(|request| request.url.path() == "/token").count(), 1);
    let warnings = record.problems().into_iter().filter(|problem| problem.message.contains("using its default"));
    assert_eq!(warnings.count(), 1);
    // A value that others need is kept, though its file captures the name again.
    let by = record.sent.iter().find(|request| request.url.path() == "/lots").expect("a lot is booked");
    assert!(by.url.query().expect("a query").contains("by=t-4616-token"));
    assert!(!format!("{:?}", record.events).contains("4616-token"), "{:?}", record.events);
}

#[test]
fn what_is_done_afterwards_waits_for_those_who_need_the_file() {
    // The responses may arrive in order or in reverse.
    let orders: [&mut dyn FnMut(usize) -> usize; 2] = [&mut |_| 0, &mut |open| open - 1];
    for choose in orders {
        let record = house(8, 1, choose);
        let name = |request: &PreparedRequest| format!("{} {}", request.method, request.url.path());
        let names: Vec<String> = record.sent.iter().map(|request| name(request)).collect();
        let last =
            |sent: &str| names.iter().rposition(|name| name == sent).unwrap_or_else(|| panic!("{sent} in {names:?}"));
        assert!(last("DELETE /lots/L-9") > last("GET /grade/L-9"), "{names:?}");
        assert!(last("DELETE /session") > last("DELETE /lots/L-9"), "{names:?}");
    }
}

#[test]
fn an_interrupted_run_undoes_what_it_did_and_says_so() {
    let fixture = "#- a.http\n%% book\nPOST http://local/lots\n%% wait\nGET http://local/lots/1\n\n% wait until body.done every 1s for 1m\n\n\
        %% more\nGET http://local/lots\n%% undo\n% afterwards\nDELETE http://local/lots/1\n";
    // In a pause, and just before one.
    for in_pause in [true, false] {
        let record = with_run(fixture, &["a.http"], settings(None, &[]), 1, |run| {
            let (mut sent, mut rested, mut events) = (0, 0, Vec::new());
            while let Some(next) = run.next() {
                match next {
                    Next::Send(ready) => {
                        run.complete(ready, Ok(json_answer(200, "{\"done\": false}")));
                        sent += 1;
                        if sent == 3 && !in_pause {
                            run.interrupt();
                        }
                    }
                    Next::Pause(pause) => {
                        rested += 1;
                        if rested == 2 {
                            run.interrupt();
                        }
                        run.resume(&pause);
                    }
                    other => panic!("{other:?}"),
                }
                events.extend(run.events());
            }
            assert_eq!(rested, if in_pause { 2 } else { 1 });
            events.extend(run.events());
            RunRecord { events, summary: *run.summary(), sent: Vec::new() }
        });
        let told_of: Vec<_> = record.reports().map(|report| (report.outcome.as_str(), report.attempts)).collect();
        assert_eq!(told_of, [("passed", 1), ("no-response", 2), ("passed", 1)]);
        let failure = record.reports().nth(1).and_then(|report| report.failure.clone()).expect("a reason");
        assert_eq!(failure.kind.as_str(), "interrupted");
        assert_eq!(
            (record.summary.not_reached, record.summary.interrupted, record.summary.exit_code().code()),
            (1, true, 130)
        );
    }
}

#[test]
fn a_failure_of_the_program_ends_one_file_only() {
    // The files of this workspace fail in a way no file should: the reader panics.
    let fixture = "#- a.http\n%% one\nGET http://local/1\n%% two\n% body from trap.json\nPOST http://local/2\n%% three\nGET http://local/3\n\
        #- b.http\n%% four\n% needs a.http#three\nGET http://local/4\n%% five\nGET http://local/5\n";
    for jobs in [1, 4] {
        let record = with_run(fixture, &["a.http", "b.http"], settings(None, &[]), 1, |run| {
            side_by_side(run, jobs, &mut |_| 0, &mut |_| Ok(json_answer(200, "{}")))
        });
        let outcomes: Vec<Outcome> = record.reports().map(|report| report.outcome).collect();
        assert_eq!(outcomes, [Outcome::Passed, Outcome::Invalid, Outcome::NotSent, Outcome::Passed], "{jobs}");
        let problem = record.problems()[0];
        assert_eq!(problem.code.as_str(), "internal-error");
        assert!(problem.message.contains("the trap is sprung"), "{}", problem.message);
        assert_eq!((record.summary.not_reached, record.summary.invalid, record.summary.exit_code().code()), (1, 1, 2));
    }
}

#[test]
fn a_seed_gives_a_cell_the_same_values_whatever_else_is_sent() {
    let cell = |name: &str| format!("%% {name}\nGET http://local/{{{{uuid()}}}}/{{{{random(1, 1000000)}}}}\n");
    let sent = |cells: &[&str]| {
        let fixture = format!("#- a.http\n{}", cells.iter().map(|name| cell(name)).collect::<String>());
        let record = with_run(&fixture, &["a.http"], settings(None, &[]), 1, |run| {
            side_by_side(run, 1, &mut |_| 0, &mut |_| Ok(json_answer(200, "{}")))
        });
        record.sent.iter().map(|request| request.url.to_string()).collect::<Vec<_>>()
    };
    let (alone, both) = (sent(&["one"]), sent(&["other", "one"]));
    assert_eq!(alone[0], both[1]);
    assert_ne!(both[0], both[1]);
}

/// The requests that are ready at once, by their cells' names: which lane each has, and whose cookies it takes.
fn ready_from(fixture: &str, files: &[&str]) -> Vec<(String, usize, Vec<String>)> {
    with_run(fixture, files, settings(None, &[]), 1, |run| {
        let name = |run: &yieldtray_engine::Run<'_>, cell| run.workspace().cell(cell).name.to_string();
        let mut seen = Vec::new();
        while let Some(next) = run.next() {
            let Next::Send(ready) = next else { panic!("{next:?}") };
            let from = ready.cookie_sources.iter().map(|step| name(run, run.plan().steps[*step].cell)).collect();
            seen.push((name(run, ready.cell), ready.lane, from));
            run.complete(ready, Ok(json_answer(200, "{}")));
        }
        seen
    })
}

#[test]
fn cookies_come_from_other_lanes_alone() {
    // The sequence makes one lane of its file and the gate's; the desk has its own.
    let fixture = "#- round.http\n%% all\n% play gate.http#look\n\n%% last\n% needs gate.http#sign-in\nGET http://local/last\n\
        #- gate.http\n%% sign-in\nPOST http://local/session\n\n%% look\nGET http://local/look\n\
        #- desk.http\n%% book\n% needs gate.http#sign-in\nPOST http://local/lots\n";
    let seen = ready_from(fixture, &["round.http", "gate.http", "desk.http"]);
    let of = |name: &str| seen.iter().find(|(own, ..)| own == name).unwrap_or_else(|| panic!("{name} in {seen:?}"));
    assert_eq!(of("last").1, of("sign-in").1);
    assert_ne!(of("book").1, of("sign-in").1);
    assert!(of("last").2.is_empty(), "a lane's own cookies are newer: {seen:?}");
    assert_eq!(of("book").2, ["sign-in"]);
}

#[test]
fn a_value_another_file_needs_stays_in_a_shared_lane_too() {
    let fixture = "#- round.http\n%% all\n% play gate.http#renew\n\n%% last\n% needs gate.http#sign-in\nGET http://local/{{token}}\n\
        #- gate.http\n%% sign-in\nPOST http://local/first\n\n% yield token = body.token\n\n%% renew\nPOST http://local/second\n\n% yield token = body.token\n";
    let record = with_run(fixture, &["gate.http", "round.http"], settings(None, &[]), 1, |run| {
        side_by_side(run, 1, &mut |_| 0, &mut |request| {
            Ok(json_answer(200, &format!("{{\"token\": \"{}\"}}", request.url.path().trim_start_matches('/'))))
        })
    });
    let last = record.sent.last().expect("a request");
    assert_eq!(last.url.path(), "/first", "{:?}", record.problems());
}

#[test]
fn who_needs_a_cell_sees_what_it_captured_before_however_often_it_is_played_later() {
    // In the plan `who` is between the two plays of `make`, which a sequence gives different values.
    let fixture = "#- a.http\n%% who\n% needs b.http#make\n% each row in \"rows.csv\"\nGET http://local/who/{{made}}\n\
        #- b.http\n%% make\n% let second = \"first\"\nGET http://local/make/{{second}}\n\n% yield made = body.made\n\n\
        %% others\n% play make with second = \"second\" times 3\n% play make with second = \"third\"\n\
        #- z.http\n%% last\n% needs b.http#make\nGET http://local/last/{{made}}\n\
        #- rows.csv\nrow\n1\n2\n3\n";
    let mut seen = Vec::new();
    for jobs in [1, 3, 8] {
        let record = with_run(fixture, &["a.http", "b.http", "z.http"], settings(None, &[]), 1, |run| {
            side_by_side(run, jobs, &mut |open| open - 1, &mut |request| {
                let made = request.url.path().rsplit('/').next().unwrap_or_default().to_owned();
                Ok(json_answer(200, &format!("{{\"made\": \"{made}\"}}")))
            })
        });
        let urls = record.reports().map(|report| report.url.trim_start_matches("http://local").to_owned());
        seen.push(urls.collect::<Vec<_>>().join(" "));
    }
    assert_eq!(
        seen[0],
        "/make/first /who/first /who/first /who/first /make/second /make/second /make/second /make/third /last/third"
    );
    assert!(seen.iter().all(|urls| *urls == seen[0]), "{seen:#?}");
}

#[test]
fn a_lane_that_is_far_ahead_waits_to_be_heard() {
    let rows: String = (0..3000).map(|row| format!("L-{row}\n")).collect();
    let fixture = format!(
        "#- a.http\n%% slow\nGET http://local/slow\n#- b.http\n%% rows\n% each row in \"lots.csv\"\nGET http://local/{{{{row.lot}}}}\n#- lots.csv\nlot\n{rows}"
    );
    with_run(&fixture, &["a.http", "b.http"], settings(None, &[]), 1, |run| {
        let Some(Next::Send(slow)) = run.next() else { panic!("the first one goes") };
        let mut ahead = 0;
        while let Some(Next::Send(ready)) = run.next() {
            run.complete(ready, Ok(json_answer(200, "{}")));
            ahead += 1;
        }
        assert!(matches!(run.next(), Some(Next::Wait)));
        assert_eq!((ahead, run.events().count()), (1000, 1), "nothing but the beginning is told so far");
        run.complete(slow, Ok(json_answer(200, "{}")));
        assert_eq!(run.events().count(), 1001);
        while let Some(Next::Send(ready)) = run.next() {
            run.complete(ready, Ok(json_answer(200, "{}")));
        }
        assert_eq!((run.summary().requests, run.events().count()), (3001, 2001));
    });
}

#[test]
fn checks_are_judged_behind_the_next_request_and_told_before_it() {
    const FILE: &str = "#- a.http
%% Book
POST http://local/lots

% yield lot_id = body.id
% check body.bins == 24
% check status == 201

%% Read
GET http://local/lots/{{lot_id}}

% check body.id == lot_id

%% Lacks
GET http://local/{{nobody_gives_this}}

%% Own
GET http://local/own

% yield lot_id = body.other
% check lot_id == 'L-1'

%% Last
GET http://local/last/{{lot_id}}

% check status == 500
";
    let run = |run: &mut Run<'_>| {
        let mut log = Vec::new();
        let answer = |path: &str| match path {
            "/lots" => json_answer(201, "{\"id\":\"L-1\",\"bins\":23}"),
            "/own" => json_answer(200, "{\"other\":\"L-2\"}"),
            _ => json_answer(200, "{\"id\":\"L-1\"}"),
        };
        while let Some(Next::Send(ready)) = run.next() {
            let path = ready.prepared.url.path().to_owned();
            log.push(format!("sent {path}"));
            // Events that are asked for during a request include the earlier ones.
            let record = |event: Event| match event {
                Event::CellFinished(report) => Some(format!("{:?}", report.outcome)),
                _ => None,
            };
            log.extend(run.events().filter_map(record));
            run.complete(ready, Ok(answer(&path)));
        }
        log.extend(run.events().filter_map(|event| match event {
            Event::CellFinished(report) => Some(format!("{:?}", report.outcome)),
            Event::RunFinished(figures) => Some(format!("{} of {} failed", figures.failed_checks, figures.checks)),
            _ => None,
        }));
        log
    };
    // A check of a value that its own request captures is evaluated at once, and unsent requests are reported after sent ones.
    let log = with_run(FILE, &["a.http"], settings(None, &[]), 1, run);
    assert_eq!(
        log,
        [
            "sent /lots",
            "sent /lots/L-1",
            "Failed",
            "sent /own",
            "Passed",
            "Invalid",
            "sent /last/L-2",
            "Failed",
            "Failed",
            "3 of 5 failed"
        ]
    );
}
