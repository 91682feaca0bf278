//! Replays, each as one text: files, responses, and the events that must come out.

use yieldtray_test_support::check_replay;

#[test]
fn captured_values_reach_the_cells_that_follow() {
    check_replay(
        r#"#- desk.http
%% Book in
POST http://local/lots

% yield lot = body.id
% yield bins = body.bins
% check status == 201

%% Weigh
% needs book-in
PUT http://local/lots/{{lot}}?bins={{bins + 1}}

% check body.kg > 0
#- responses
POST /lots -> 201 {"id": "L-1", "bins": 24}
PUT /lots/L-1?bins=25 -> 200 {"kg": 310}
#- events
book-in passed 201, 1 check
  lot = "L-1"
  bins = 24
weigh passed 200, 1 check
2 requests, exit 0
"#,
    );
}

#[test]
fn a_failed_check_is_explained_and_its_dependents_are_not_sent() {
    check_replay(
        r#"#- desk.http
%% Book in
POST http://local/lots

% check body.bins == 24 else "the scale counted {{body.bins}}"
% check status < 300 && body.cold

%% Weigh
% needs book-in
GET http://local/weigh

%% Label
% needs weigh
GET http://local/label

%% Health
GET http://local/health
#- responses
POST /lots -> 201 {"bins": 23, "cold": false}
GET /health -> 204
#- events
book-in failed 201, 2 checks
  body.bins == 24: body.bins is 23; the scale counted 23
  status < 300 && body.cold: body.cold is false
weigh not-sent: book-in
label not-sent: weigh
health passed 204
2 requests, 2 failed, 2 not sent, exit 1
"#,
    );
}

#[test]
fn a_value_that_cannot_be_captured_fails_the_cell() {
    check_replay(
        r#"#- desk.http
%% Book in
POST http://local/lots

% yield lot = body.lot.id
% yield bins = body.bins

%% Weigh
% needs book-in
GET http://local/lots/{{lot}}
#- responses
POST /lots -> 201 {"bins": 24}
#- events
book-in failed 201
  lot not captured: `body` has no member `lot`; available: `bins`
  bins = 24
weigh not-sent: book-in
1 request, 1 failed, 1 not sent, exit 1
"#,
    );
}

#[test]
fn a_request_without_response_has_the_worst_exit_code() {
    check_replay(
        r#"#- desk.http
%% Scale
GET http://local/scale

% check status == 200

%% Broken
GET http://local/{{nobody}}

%% Health
GET http://local/health

% check status == 200
#- responses
GET /scale -> none
GET /health -> 500
#- events
scale no-response
  no response: no answer in time
broken invalid
  error[unknown-variable]: no variable named `nobody`
health failed 500, 1 check
  status == 200: status is 500
2 requests, 1 failed, 1 with errors, 1 without response, exit 3
"#,
    );
}

#[test]
fn a_skipped_cell_takes_its_dependents_along() {
    check_replay(
        r#"#- desk.http
%% Truck
GET http://local/truck

% yield truck = body.here

%% Unload
% needs truck
% skip when !truck "no truck came"
POST http://local/unload

%% Sweep
% needs unload
POST http://local/sweep

%% Lights
% skip when row
GET http://local/lights
#- responses
GET /truck -> 200 {"here": false}
#- events
truck passed 200
  truck = false
unload skipped: no truck came
sweep skipped: unload was skipped
lights invalid
  error[missing-value]: `row` is not available here
1 request, 2 skipped, 1 with errors, exit 2
"#,
    );
}

#[test]
fn polling_sends_the_same_request_until_its_condition_holds() {
    check_replay(
        r#"#- desk.http
%% Cooling
GET http://local/room?nonce={{random(1, 1)}}

% wait until body.celsius < 4 every 1s for 5s
% yield celsius = body.celsius
% check body.door == "shut"
#- responses
GET /room?nonce=1 -> 200 {"celsius": 9}
GET /room?nonce=1 -> none
GET /room?nonce=1 -> 200 {"celsius": 3, "door": "shut"}
#- events
cooling passed 200, 2 checks, 3 attempts
  celsius = 3
3 requests, exit 0
"#,
    );
}

#[test]
fn a_condition_that_never_holds_is_reported_like_a_check() {
    check_replay(
        r#"#- desk.http
%% Cooling
GET http://local/room

% wait until body.celsius < 4 every 1s for 2s
#- responses
GET /room -> 200 {"celsius": 9}
GET /room -> 200 {"celsius": 8}
#- events
cooling failed 200, 1 check, 2 attempts
  body.celsius < 4: body.celsius is 8
2 requests, 1 failed, exit 1
"#,
    );
}

#[test]
fn each_row_has_a_result_of_its_own() {
    check_replay(
        r#"#- lots.csv
lot,bins
L-1,24
L-2,0
L-3,7
#- none.csv
lot
#- desk.http
%% Book in
% each row in "lots.csv"
POST http://local/{{lot}}?bins={{bins}}

% check status == 201
% yield last = lot

%% Empty
% each row in "none.csv"
POST http://local/{{lot}}

%% Weigh
% needs book-in
GET http://local/weigh
#- responses
POST /L-1?bins=24 -> 201
POST /L-2?bins=0 -> 422
POST /L-3?bins=7 -> 201
#- events
book-in row 1 passed 201, 1 check
  last = "L-1"
book-in row 2 failed 422, 1 check
  last = "L-2"
  status == 201: status is 422
book-in row 3 passed 201, 1 check
  last = "L-3"
empty skipped: `none.csv` has no rows
weigh not-sent: book-in
3 requests, 1 failed, 1 not sent, 1 skipped, exit 1
"#,
    );
}

#[test]
fn a_sequence_plays_its_cells_with_arguments() {
    check_replay(
        r#"#- desk.http
%% Morning
% let start = 10
% play weigh with kg = start + 1
% play weigh with kg = 12 times 2
% play book

%% Weigh
POST http://local/scale?kg={{kg}}

% yield last = kg

%% Book
POST http://local/lots?last={{last}}

%% Evening
% needs morning
GET http://local/report
#- responses
POST /scale?kg=11 -> 200
POST /scale?kg=12 -> 200
POST /scale?kg=12 -> 200
POST /lots?last=12 -> 500
GET /report -> 200
#- events
morning › weigh passed 200
  last = 11
morning › weigh passed 200
  last = 12
morning › weigh passed 200
  last = 12
morning › book passed 500
evening passed 200
5 requests, exit 0
"#,
    );
}

#[test]
fn a_sequence_fails_with_one_of_its_cells() {
    check_replay(
        r#"#- desk.http
%% Morning
% play weigh
% play book

%% Weigh
POST http://local/scale

% check status == 200

%% Book
POST http://local/lots

%% Evening
% needs morning
GET http://local/report
#- responses
POST /scale -> 503
POST /lots -> 201
#- events
morning › weigh failed 503, 1 check
  status == 200: status is 503
morning › book passed 201
evening not-sent: morning
2 requests, 1 failed, 1 not sent, exit 1
"#,
    );
}

#[test]
fn cleanup_comes_last_whatever_happened() {
    check_replay(
        r#"#- a.http
%% Clean
% afterwards
DELETE http://local/lots

%% Book
POST http://local/lots

% check status == 201
#- b.http
%% Clean up
% afterwards
DELETE http://local/trays

%% Broken
GET http://local/{{nobody}}
#- responses
POST /lots -> 500
DELETE /lots -> 204
DELETE /trays -> 204
#- events
book failed 500, 1 check
  status == 201: status is 500
clean passed 204
broken invalid
  error[unknown-variable]: no variable named `nobody`
clean-up passed 204
3 requests, 1 failed, 1 with errors, exit 2
"#,
    );
}

#[test]
fn shared_checks_can_be_waived_and_replaced() {
    check_replay(
        r#"#- _common.http
% check ok: status == 200
#- desk.http
% check json: size > 0

%% Plain
GET http://local/1

%% Waived
% waive ok, json
GET http://local/2

%% Replaced
GET http://local/3

% check ok: status == 404
#- responses
GET /1 -> 200 {}
GET /2 -> 500
GET /3 -> 404 {}
#- events
plain passed 200, 2 checks
waived passed 500
replaced passed 404, 2 checks
3 requests, exit 0
"#,
    );
}

#[test]
fn a_cell_of_another_file_is_needed_by_its_path() {
    check_replay(
        r#"#- desk.http
%% Weigh
% needs gate/sign-in.http#sign-in
GET http://local/lots?key={{key}}
#- gate/sign-in.http
%% Sign in
POST http://local/session

% yield key = body.key

%% Sign out
% needs sign-in
DELETE http://local/session
#- responses
POST /session -> 200 {"key": "k-1"}
GET /lots?key=k-1 -> 200
DELETE /session -> 204
#- events
sign-in passed 200
  key = "k-1"
weigh passed 200
sign-out passed 204
3 requests, exit 0
"#,
    );
}

#[test]
fn a_question_is_answered_once_for_all_cells() {
    check_replay(
        r#"#- desk.http
%% Book
% ask grower "G-11"
POST http://local/lots?grower={{grower}}

%% Weigh
% ask grower "G-11"
POST http://local/scale?grower={{grower}}
#- responses
POST /lots?grower=G-11 -> 200
POST /scale?grower=G-11 -> 200
#- events
book passed 200
weigh passed 200
2 requests, exit 0
"#,
    );
}

#[test]
fn an_all_of_nothing_passes_with_a_warning() {
    check_replay(
        r#"#- yieldtray.toml
[functions]
heavy = { params = ["lots"], is = "lots.all(lot, lot.kg > 5)" }
#- desk.http
%% Lots
GET http://local/lots

% check body.lots.all(lot, lot.kg > 0)
% check status == 200 && body.more.all(lot, lot.kg > 0)
% check body.lots.all(lot, lot.kg > 0) || status == 200
% check !body.more.exists(lot, lot.kg > 9)
% check heavy(body.lots)
% check heavy(body.lots) && status == 200
#- responses
GET /lots -> 200 {"lots": [], "more": [{"kg": 3}]}
#- events
lots passed 200, 6 checks
  warning[empty-list]: `body.lots` is empty, so this check always passes
1 request, exit 0
"#,
    );
}

#[test]
fn a_check_that_cannot_be_evaluated_fails_with_the_reason() {
    check_replay(
        r#"#- desk.http
%% Lots
GET http://local/lots

% check body.id
% check body.lot.id == 1
% check size(body.id) == 3
% check body.id == "L-2"
#- responses
GET /lots -> 200 {"id": "L-1"}
#- events
lots failed 200, 4 checks
  body.id: body.id is "L-1"; a check must be true or false, but this is a string
  body.lot.id == 1: `body` has no member `lot`; available: `id`
  body.id == "L-2": body.id is "L-1"
1 request, 3 failed, exit 1
"#,
    );
}

#[test]
fn values_that_need_each_other_are_an_error_of_each_cell_that_uses_them() {
    check_replay(
        r#"#- desk.http
% let bins = crates
% let crates = bins

%% Book
POST http://local/lots?bins={{bins}}

%% Health
GET http://local/health
#- responses
GET /health -> 200
#- events
book invalid
  error[variable-cycle]: circular definition: bins → crates → bins
health passed 200
1 request, 1 with errors, exit 2
"#,
    );
}

#[test]
fn a_value_reaches_another_file_only_through_needs() {
    check_replay(
        r#"#- a.http
%% Sign in
POST http://local/session

% yield key = body.key
#- b.http
%% Weigh
GET http://local/lots?key={{key}}

%% Signed
% needs a.http#sign-in
GET http://local/lots?key={{key}}
#- responses
POST /session -> 200 {"key": "k-1"}
GET /lots?key=k-1 -> 200
#- events
sign-in passed 200
  key = "k-1"
weigh invalid
  error[missing-value]: `key` has no value here: `sign-in` in `a.http` yields it
signed passed 200
2 requests, 1 with errors, exit 2
"#,
    );
}
