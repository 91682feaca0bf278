//! Mutation testing of checks.

use proptest::prelude::*;
use yieldtray_engine::prove::{MutationReport, describe, mutate, mutations};
use yieldtray_engine::{Event, Outcome, RunOptions};
use yieldtray_http::Exchange;
use yieldtray_http::body_shape::BodyShape;
use yieldtray_test_support::{answer, json_answer, settings, side_by_side, with_options};

/// The outcome of a request with these checks for a response, and its mutations.
fn judged(checks: &str, exchange: &Exchange) -> (Outcome, Option<MutationReport>) {
    let fixture = format!("#- lots.http\n%% Read\nGET http://local/lots\n\n{checks}\n");
    with_options(
        &fixture,
        &["lots.http"],
        settings(None, &[]),
        1,
        RunOptions { mutate_responses: true, ..RunOptions::default() },
        |run| {
            let record = side_by_side(run, 1, &mut |_| 0, &mut |_| Ok(exchange.clone()));
            let report = record.events.into_iter().find_map(|event| match event {
                Event::CellFinished(report) => Some(*report),
                _ => None,
            });
            let report = report.expect("one cell");
            (report.outcome, report.mutation.map(|proof| *proof))
        },
    )
}

fn gaps(checks: &str, exchange: &Exchange) -> (Vec<String>, Option<String>) {
    let proof = judged(checks, exchange).1.expect("the checks hold");
    (describe(&proof.survivors), proof.suggestion)
}

const LOT: &str = "{\"id\": \"L-2043\", \"bins\": 24, \"open\": true, \"note\": null, \"trays\": [\"T-1\", \"T-2\"]}";

#[test]
fn known_gaps_are_found_and_known_strength_is_not_doubted() {
    let lot = json_answer(200, LOT);
    let all = [
        "the status is 404 or 500",
        "the body is empty or not JSON",
        "`id`, `bins` or `open` is missing, null, of another type or changed",
        "`note` is missing or of another type",
        "`trays` is missing, null, of another type, empty or changed",
        "the content type changes",
        "it takes 30 s",
    ];
    let with = |checks: &str| gaps(checks, &lot);
    let lines = |lines: &[&str]| lines.iter().map(|line| (*line).to_owned()).collect::<Vec<_>>();
    assert_eq!(with(""), (lines(&all), Some("% check status == 200".to_owned())));
    assert_eq!(with("% check status < 300"), (lines(&all[1..]), Some("% check type(body) == map".to_owned())));

    let strong = "% check status == 200\n% check body == {'id': 'L-2043', 'bins': 24, 'open': true, 'note': null, 'trays': ['T-1', 'T-2']}\n\
                  % check elapsed < duration('1s')\n% check headers['content-type'] == 'application/json'";
    assert_eq!(with(strong), (Vec::new(), None));

    // One field, one way at a time.
    let but = |checks: &str| {
        with(&format!("% check status == 200\n% check elapsed < duration('1s')\n% check headers['content-type'] == 'application/json'\n{checks}")).0
    };
    assert_eq!(but("% check has(body.bins)")[0], "`id` or `open` is missing, null, of another type or changed");
    assert!(but("% check has(body.bins)").contains(&"`bins` is null, of another type or changed".to_owned()));
    assert!(but("% check type(body.bins) == int").contains(&"`bins` changes".to_owned()));
    // A changed list keeps its length.
    assert!(but("% check size(body.trays) > 1").contains(&"`trays` changes".to_owned()));
    assert!(but("% check body.trays == ['T-1', 'T-2']").iter().all(|line| !line.contains("trays")));
    // A value that cannot be taken fails the cell, so it is noticed without a check.
    assert!(but("% yield lot_id = body.id").contains(&"`id` is null, of another type or changed".to_owned()));
    // Captures of a mutated response are visible to later checks.
    assert!(but("% yield lot_id = body.id\n% check lot_id == 'L-2043'").iter().all(|line| !line.contains("`id`")));
}

#[test]
fn fields_are_altered_at_every_depth() {
    let body = "{\"data\": {\"id\": 7, \"name\": \"Ada\", \"lots\": [{\"id\": 1}, {\"id\": 2, \"kg\": 4.5}], \
                \"a\": {\"b\": {\"v\": 1, \"w\": 2, \"x\": 3, \"y\": 4}}}}";
    let strong = "% check status == 200\n% check elapsed < duration('1s')\n% check headers['content-type'] == 'application/json'";
    let (gaps, suggestion) = gaps(&format!("{strong}\n% check body.data.id == 7"), &json_answer(200, body));
    assert_eq!(
        gaps,
        [
            "`data.name`, `data.a`, `data.lots[].id`, `data.lots[].kg`, `data.a.b` or any of 4 fields of `data.a.b` is \
             missing, null, of another type or changed",
            "`data.lots` is missing, null, of another type, empty or changed",
        ]
    );
    assert_eq!(suggestion.as_deref(), Some("% check type(body.data.name) == string"));
    let (gaps, suggestion) = self::gaps(
        &format!("{strong}\n% check type(body[0].grower) == map"),
        &json_answer(200, "[{\"grower\": {\"id\": \"G-11\"}}]"),
    );
    assert_eq!(
        gaps,
        ["`grower.id` of each member is missing, null, of another type or changed", "`grower` of each member changes"]
    );
    assert_eq!(suggestion.as_deref(), Some("% check body.all(one, type(one.grower.id) == string)"));
}

#[test]
fn each_kind_of_answer_is_altered_in_its_own_way() {
    let status = "% check status == 200";
    let of = |exchange: Exchange| gaps("", &exchange).0.join(" | ");
    assert_eq!(
        of(json_answer(404, "[]")),
        "the status is 200 or 500 | the body is empty or not JSON | the content type changes | it takes 30 s"
    );
    assert_eq!(
        of(json_answer(200, "[{\"id\": 1}, 7, {\"id\": 2, \"kg\": 11.5}]")),
        "the status is 404 or 500 | the body is empty or not JSON | the list is empty | `id` or `kg` of each member is missing, null, of another type or changed | the content type changes | it takes 30 s"
    );
    assert_eq!(
        of(json_answer(500, "7")),
        "the status is 200 or 404 | the body is empty or not JSON | the content type changes | it takes 30 s"
    );
    let text = answer(200, &[("Location", "/lots/L-2043"), ("Date", "today"), ("X-Rate", "7")], "24 bins");
    assert_eq!(
        of(text.clone()),
        "the status is 404 or 500 | the body is empty or different text | the header `location` or `x-rate` is missing | it takes 30 s"
    );
    assert_eq!(of(answer(204, &[], "")), "the status is 404 or 500 | it takes 30 s");
    // The suggested check passes.
    let line = |checks: &str, exchange: &Exchange| gaps(&format!("{status}\n{checks}"), exchange).1.unwrap_or_default();
    assert_eq!(line("", &text), "% check size(text) > 0");
    assert_eq!(line("% check text == '24 bins'", &text), "% check \"location\" in headers");
    let list = json_answer(200, "[{\"id\": 1, \"a-b\": \"x\"}]");
    assert_eq!(line("", &list), "% check type(body) == list");
    assert_eq!(
        line("% check body.size() > 0 && type(body) == list", &list),
        "% check body.all(one, type(one.id) == int)"
    );
    assert_eq!(
        line("% check size(body) == 1 && type(body) == list && body.all(l, type(l.id) == int && l.id == 1)", &list),
        "% check body.all(one, type(one[\"a-b\"]) == string)"
    );
}

#[test]
fn a_secret_is_neither_named_nor_suggested() {
    let body = "{\"token\": \"s3cret-4616\", \"s3cret-4616\": 1}";
    let checks = "% check status == 200\n% yield token = body.token secret\n% check type(body) == map\n% check 's3cret-4616' in body";
    let (message, suggestion) = gaps(checks, &json_answer(200, body));
    let record = format!("{message:?} {suggestion:?}");
    assert!(record.contains("`token`") && record.contains("[secret]") && !record.contains("s3cret-4616"), "{record}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// The heart of it: what is called noticed makes the cell fail when it really comes, and what is called a gap
    /// does not.
    #[test]
    fn a_change_is_noticed_if_and_only_if_the_cell_fails_for_it(
        picked in proptest::collection::vec(0..12usize, 0..5),
        bins in 0..3i64,
        list in any::<bool>(),
    ) {
        const CHECKS: [&str; 12] = [
            "% check status == 200",
            "% check status < 500",
            "% check size(text) > 0",
            "% check type(body) == map || type(body) == list",
            "% check body.bins >= 0",
            "% check has(body.bins) && has(body.kg)",
            "% check body.kg == 11.5 || true",
            "% yield first = body.bins",
            "% check body.exists(one, one.bins < 9)",
            "% check headers['content-type'].contains('json')",
            "% check elapsed < duration('20s')",
            "% yield lot = text",
        ];
        let lot = format!("{{\"bins\": {bins}, \"kg\": 11.5, \"trays\": [1], \"odd\": {{\"a\": \"b\"}}}}");
        let exchange = json_answer(200, &if list { format!("[{lot}, {lot}]") } else { lot });
        let checks: Vec<&str> = picked.iter().map(|at| CHECKS[*at]).collect();
        let checks = checks.join("\n");
        let (outcome, proof) = judged(&checks, &exchange);
        prop_assert_eq!(outcome == Outcome::Passed, proof.is_some());
        let Some(proof) = proof else { return Ok(()) };
        let outline = BodyShape::of(&exchange);
        let all = mutations(&exchange, &outline, &outline.fields());
        prop_assert_eq!(proof.mutants, all.len());
        for change in &all {
            let passes = judged(&checks, &mutate(&exchange, &outline, change)).0 == Outcome::Passed;
            prop_assert_eq!(passes, proof.survivors.contains(change), "{:?} of\n{}", change, &checks);
        }
        if let Some(line) = &proof.suggestion {
            let more = format!("{checks}\n{line}");
            let better = judged(&more, &exchange).1.expect("the line holds");
            prop_assert!(better.detected() > proof.detected(), "{} closes nothing", line);
        }
    }
}
