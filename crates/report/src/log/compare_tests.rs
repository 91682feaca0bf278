//! Tests of comparing responses.

use super::compare::{CompareOptions, Comparison, Ignore, PartChange, compare};
use crate::log::list_diff::{ListEdit, pair};
use proptest::prelude::*;
use serde_json::{Value, json};
use std::time::Duration;
use yieldtray_http::{ConversationMessage, MessageData};
use yieldtray_test_support::{answer, json_answer};

fn described(found: &Comparison) -> Vec<String> {
    let words = |change: &PartChange| match change {
        PartChange::Added(value) => format!("+ {value}"),
        PartChange::Removed(value) => format!("- {value}"),
        PartChange::Changed(old, new) => format!("{old} -> {new}"),
        PartChange::OtherType(old, new) => format!("{old} => {new}"),
        PartChange::Moved(old, new) => format!("from {old} to {new}"),
        PartChange::Lines(lines) => format!("{lines:?}"),
    };
    found.found.iter().map(|one| format!("{} {}", one.place, words(&one.change))).collect()
}

fn bodies(left: &str, right: &str, how: &CompareOptions) -> Vec<String> {
    described(&compare(&json_answer(200, left), &json_answer(200, right), how))
}

fn ignoring(parts: &[&str]) -> CompareOptions {
    let ignore = parts.iter().map(|part| Ignore::parse(part).expect("it is a part")).collect();
    CompareOptions { ignore, shape: false }
}

#[test]
fn json_is_compared_by_what_it_is() {
    let plain = CompareOptions::default();
    for (left, right, wanted) in [
        ("{\"a\":1,\"b\":[1,2]}", "{ \"b\": [1, 2], \"a\": 1.0 }", vec![]),
        ("{\"bins\":24}", "{\"bins\":25}", vec!["body.bins 24 -> 25"]),
        ("{\"bins\":24}", "{\"bins\":\"24\"}", vec!["body.bins 24 => \"24\""]),
        ("{\"bins\":24}", "{\"kg\":[]}", vec!["body.bins - 24", "body.kg + []"]),
        ("{\"a b\":{\"1\":null}}", "{\"a b\":{\"1\":0}}", vec!["body[\"a b\"][\"1\"] null => 0"]),
        (
            "{\"n\":92233720368547758089}",
            "{\"n\":92233720368547758088}",
            vec!["body.n 92233720368547758089 -> 92233720368547758088"],
        ),
        ("[1,2,3]", "[1,3]", vec!["body[1] - 2"]),
        ("[1,2,3]", "[1,9,3,4]", vec!["body[1] 2 -> 9", "body[3] + 4"]),
        ("[]", "{}", vec!["body [] => {}"]),
        (
            "{\"lots\":[{\"id\":\"L-1\",\"bins\":1},{\"id\":\"L-2\",\"bins\":2},{\"id\":\"L-3\",\"bins\":3}]}",
            "{\"lots\":[{\"id\":\"L-3\",\"bins\":3},{\"id\":\"L-1\",\"bins\":7},{\"id\":\"L-4\",\"bins\":4}]}",
            vec![
                "body.lots[id=L-2] - {\"id\":\"L-2\",\"bins\":2}",
                "body.lots[id=L-3] from 2 to 0",
                "body.lots[id=L-1].bins 1 -> 7",
                "body.lots[id=L-4] + {\"id\":\"L-4\",\"bins\":4}",
            ],
        ),
        // Two members with one name: it is not a key.
        ("[{\"id\":1},{\"id\":1}]", "[{\"id\":1},{\"id\":2}]", vec!["body[1].id 1 -> 2"]),
    ] {
        let found = bodies(left, right, &plain);
        assert_eq!(found, wanted, "{left} and {right}");
    }
}

#[test]
fn messages_and_pages_are_compared_too() {
    let talk = |kg: f64| {
        let text = json!({ "kg": kg }).to_string();
        let message = ConversationMessage { data: MessageData::Text(text), at: Duration::ZERO, is_received: true };
        let mut talk = answer(101, &[("sec-websocket-accept", &kg.to_string())], "");
        (talk.messages, talk.pages) = (vec![message], vec![format!("[{kg}]").into()]);
        talk
    };
    let found = compare(&talk(12.0), &talk(12.5), &CompareOptions::default());
    assert_eq!(described(&found), ["messages[0].kg 12.0 -> 12.5", "pages[0][0] 12 -> 12.5"]);
    let shape = CompareOptions { shape: true, ..CompareOptions::default() };
    assert_eq!(described(&compare(&talk(12.0), &talk(12.5), &shape)), [""; 0]);
}

#[test]
fn what_does_not_count_is_left_out() {
    let (left, right) = (
        "{\"at\":1,\"lots\":[{\"id\":1,\"x\":1},{\"id\":2,\"x\":2}]}",
        "{\"at\":2,\"lots\":[{\"id\":1,\"x\":3},{\"id\":2}]}",
    );
    assert_eq!(bodies(left, right, &ignoring(&["$.at", "body.lots[*].x"])), [""; 0]);
    assert_eq!(bodies(left, right, &ignoring(&["body.at"])), ["body.lots[id=1].x 1 -> 3", "body.lots[id=2].x - 2"]);
    assert_eq!(bodies("[1,2,3]", "[3]", &ignoring(&["$[0:2]"])), ["body[0] - 3"]);
    assert_eq!(bodies(left, right, &ignoring(&["body"])), [""; 0]);

    let from =
        |status, shift| answer(status, &[("Date", "today"), ("X-Shift", shift), ("Content-Type", "text/plain")], "");
    let mut other = from(404, "late");
    other.headers.push(("Retry-After".to_owned(), b"5".to_vec()));
    let found = |how: &CompareOptions| described(&compare(&from(200, "early"), &other, how));
    assert_eq!(
        found(&CompareOptions::default()),
        ["status 200 -> 404", "headers.x-shift early -> late", "headers.retry-after + 5"]
    );
    assert_eq!(found(&ignoring(&["status", "headers.X-Shift"])), ["headers.retry-after + 5"]);
    assert_eq!(found(&ignoring(&["headers", "status"])), [""; 0]);
    for wrong in ["bins", "", "headers.", "$.[", "body..", "bodyguard.x"] {
        assert!(Ignore::parse(wrong).is_err(), "{wrong}");
    }
}

#[test]
fn a_shape_is_structure_and_types_alone() {
    let shape = CompareOptions { shape: true, ..CompareOptions::default() };
    let lots = "{\"lots\":[{\"id\":1,\"note\":null},{\"id\":2,\"note\":\"wet\",\"zone\":\"n\"}],\"next\":null}";
    assert_eq!(
        bodies(
            lots,
            "{\"next\":null,\"lots\":[{\"id\":9,\"note\":\"dry\",\"zone\":\"s\"},{\"id\":8,\"note\":null}]}",
            &shape
        ),
        [""; 0]
    );
    assert_eq!(bodies(lots, "{\"lots\":[],\"next\":null}", &shape), [""; 0], "an empty list tells nothing");
    assert_eq!(
        bodies(lots, "{\"lots\":[{\"id\":\"1\",\"note\":null,\"bins\":2}],\"next\":{}}", &shape),
        [
            "body.lots[*].id number => text",
            "body.lots[*].note null or text => null",
            "body.lots[*].zone - text",
            "body.lots[*].bins + number",
            "body.next null => object",
        ]
    );
}

#[test]
fn other_bodies_are_compared_as_they_are() {
    let text = |body: &str| answer(200, &[("content-type", "text/csv")], body);
    let far: String = (0..5_000).map(|row| format!("L-{row},24\n")).collect();
    let found = compare(&text(&far), &text(&far.replace("L-4990,24", "L-4990,25")), &CompareOptions::default());
    let lines = described(&found).concat();
    assert!(lines.contains("Left(\"L-4990,24\"), Right(\"L-4990,25\")"), "{lines}");
    assert!(lines.starts_with("body [Skipped(4988)"), "{lines}");
    let mut image = answer(200, &[("content-type", "image/png")], "\u{0}\u{1}abc");
    let mut other = answer(200, &[("content-type", "image/png")], "\u{0}\u{1}abd");
    assert_eq!(
        described(&compare(&image, &other, &CompareOptions::default())),
        ["body image/png, 5 bytes -> image/png, 5 bytes, other bytes from 4 on"]
    );
    // A dropped body is compared by its digest.
    for (exchange, digest) in [(&mut image, "aa"), (&mut other, "bb")] {
        exchange.body = bytes::Bytes::new();
        exchange.digest = Some(digest.to_owned());
    }
    assert_eq!(
        described(&compare(&image, &other, &CompareOptions::default())),
        ["body 5 bytes, BLAKE3 aa -> 5 bytes, BLAKE3 bb"]
    );
    other.digest = Some("aa".to_owned());
    assert!(compare(&image, &other, &CompareOptions::default()).is_same());
}

/// JSON values, small and deep enough to go wrong.
fn any_json() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        (0..4i64).prop_map(Value::from),
        "[a-c]{0,2}".prop_map(Value::from)
    ];
    leaf.prop_recursive(4, 40, 6, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..6).prop_map(Value::from),
            prop::collection::hash_map("(id|name|[a-c])", inner, 0..4).prop_map(|members| json!(members)),
        ]
    })
}

proptest! {
    /// Equal values have no differences, and every member of a list is reported once.
    #[test]
    fn only_the_same_is_the_same(left in any_json(), right in any_json()) {
        let answers = |value: &Value| json_answer(200, &value.to_string());
        let found = compare(&answers(&left), &answers(&right), &CompareOptions::default());
        prop_assert_eq!(found.is_same(), left == right, "{:?}", found);
        let shape = CompareOptions { shape: true, ..CompareOptions::default() };
        let own = compare(&answers(&left), &answers(&left), &shape);
        prop_assert!(own.is_same());
        if let (Value::Array(ours), Value::Array(theirs)) = (&left, &right) {
            let steps = pair(ours, theirs, super::list_diff::key_of(ours, theirs));
            let olds = steps.iter().filter_map(|step| match step { ListEdit::Both(old, _) | ListEdit::Moved(old, _) | ListEdit::Gone(old) => Some(*old), ListEdit::New(_) => None });
            let news = steps.iter().filter_map(|step| match step { ListEdit::Both(_, new) | ListEdit::Moved(_, new) | ListEdit::New(new) => Some(*new), ListEdit::Gone(_) => None });
            let (mut olds, mut news): (Vec<_>, Vec<_>) = (olds.collect(), news.collect());
            olds.sort_unstable();
            news.sort_unstable();
            prop_assert_eq!(olds, (0..ours.len()).collect::<Vec<_>>());
            prop_assert_eq!(news, (0..theirs.len()).collect::<Vec<_>>());
        }
    }
}
