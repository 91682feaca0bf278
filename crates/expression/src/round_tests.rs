//! Round trips: trees as text, JSON as values.

use super::unparse::unparse;
use super::{Bindings, Compiled, RandomSource, Value};
use crate::tests::engine;
use crate::user_functions::UserFunctions;
use proptest::prelude::*;
use serde_json::Value as Json;

fn compiled(source: &str) -> Compiled {
    Compiled::new(source, &UserFunctions::default()).unwrap_or_else(|faults| panic!("{source}: {faults:?}"))
}

/// The value of an expression, or an error.
fn outcome(source: &str) -> Result<String, ()> {
    let engine = engine();
    let mut bindings = Bindings::default();
    let body = br#"{"bins": 24, "kg": 11.5, "open": true, "id": "L-2043", "lots": [{"n": 1}, {"n": 2}], "a b": "x"}"#;
    bindings.insert("body", Value::parse_json(body).expect("JSON"));
    bindings.insert("status", Value::from(201_i64));
    engine.evaluate(&compiled(source), &bindings, &RandomSource::fixed()).map(|value| value.show()).map_err(drop)
}

#[test]
fn a_tree_is_written_as_a_person_writes_it() {
    for (source, written) in [
        ("status==200", "status == 200"),
        ("(status)", "status"),
        ("((a+b))*c", "(a + b) * c"),
        ("a+(b*c)", "a + b * c"),
        ("a-(b-c)", "a - (b - c)"),
        ("a-b-c", "a - b - c"),
        ("a && (b || c)", "a && (b || c)"),
        ("(a && b) || c", "a && b || c"),
        ("!(a == b)", "!(a == b)"),
        ("!(!(a))", "!(!a)"),
        ("-(-(a))", "-(-a)"),
        ("-(a+b)", "-(a + b)"),
        ("a ? b : (c ? d : e)", "a ? b : c ? d : e"),
        ("(a ? b : c) ? d : e", "(a ? b : c) ? d : e"),
        ("a['b']", "a[\"b\"]"),
        ("a.b.lower()", "a.b.lower()"),
        ("has(a.b)", "has(a.b)"),
        ("a in [1, 2.0, 'x', true, null]", "a in [1, 2.0, \"x\", true, null]"),
        ("{'a': 1, \"b\": [2]}", "{\"a\": 1, \"b\": [2]}"),
        ("'it\\'s \"so\"\\n'", "\"it's \\\"so\\\"\\n\""),
        ("lots.all(l, l.n > 0)", "lots.all(l, l.n > 0)"),
        ("lots.map(l, l.n)[0]", "lots.map(l, l.n)[0]"),
        ("lots.filter(l, l.n > 1).size()", "lots.filter(l, l.n > 1).size()"),
        ("lots.exists_one(l, l.n == 1)", "lots.exists_one(l, l.n == 1)"),
    ] {
        let text = unparse(&compiled(source).tree);
        let plain = text.replace("2 ", "2.0 ").replace("2,", "2.0,");
        assert!(text == written || plain == written, "{source}: {text}");
    }
}

/// Expressions over the response above, most of which have a value.
fn expression() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("body.bins".to_owned()),
        Just("body.kg".to_owned()),
        Just("body.open".to_owned()),
        Just("body.id".to_owned()),
        Just("body.lots[1].n".to_owned()),
        Just("body['a b']".to_owned()),
        Just("status".to_owned()),
        Just("body.missing".to_owned()),
        Just("size(body.lots)".to_owned()),
        Just("body.lots.map(l, l.n + 1)".to_owned()),
        (-3_i64..50).prop_map(|number| number.to_string()),
        "[a-z'\"\\\\]{0,4}".prop_map(|text| Json::String(text).to_string()),
    ];
    leaf.prop_recursive(4, 24, 3, |inner| {
        let operator =
            prop::sample::select(vec!["+", "-", "*", "/", "%", "==", "!=", "<", "<=", ">", ">=", "&&", "||", "in"]);
        prop_oneof![
            4 => (inner.clone(), operator, inner.clone()).prop_map(|(a, op, b)| format!("({a}) {op} ({b})")),
            1 => inner.clone().prop_map(|a| format!("!({a})")),
            1 => inner.clone().prop_map(|a| format!("-({a})")),
            1 => (inner.clone(), inner.clone(), inner.clone()).prop_map(|(a, b, c)| format!("({a}) ? ({b}) : ({c})")),
            1 => prop::collection::vec(inner.clone(), 0..3).prop_map(|all| format!("[{}]", all.join(", "))),
            1 => inner.clone().prop_map(|a| format!("string({a})")),
            1 => inner.prop_map(|a| format!("body.lots.all(l, l.n > 0 && ({a}) == 1)")),
        ]
    })
}

/// Any JSON that is not very deep.
fn json() -> impl Strategy<Value = Json> {
    let leaf = prop_oneof![
        Just(Json::Null),
        any::<bool>().prop_map(Json::from),
        any::<i64>().prop_map(Json::from),
        any::<u64>().prop_map(Json::from),
        (-1e12_f64..1e12).prop_map(Json::from),
        any::<String>().prop_map(Json::from),
    ];
    leaf.prop_recursive(4, 40, 5, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..5).prop_map(Json::from),
            prop::collection::btree_map(any::<String>(), inner, 0..5).prop_map(|map| map.into_iter().collect()),
        ]
    })
}

#[test]
fn signs_before_numbers_stay_what_they_are() {
    for source in ["!(-1)", "-(-1)", "-(1)", "!(-x)", "!-(1)", "-(-(0))", "1 - (-1)"] {
        let written = unparse(&compiled(source).tree);
        assert_eq!(unparse(&compiled(&written).tree), written, "{source}");
    }
}

proptest! {
    #[test]
    fn a_written_tree_is_the_same_expression(source in expression()) {
        let written = unparse(&compiled(&source).tree);
        prop_assert_eq!(unparse(&compiled(&written).tree), written.clone(), "{}", source);
        prop_assert_eq!(outcome(&written), outcome(&source), "{} as {}", source, written);
    }

    #[test]
    fn json_comes_back_as_it_was(value in json()) {
        let text = value.to_string();
        let read = Value::parse_json(text.as_bytes()).expect("it is JSON");
        prop_assert_eq!(read.to_json(), sorted(&value));
        prop_assert_eq!(Value::from_json(value).to_json(), read.to_json());
    }

    #[test]
    fn members_alone_are_those_of_the_whole(value in prop::collection::btree_map("[a-d]", json(), 0..4), wanted in prop::collection::vec("[a-d]", 0..3)) {
        let whole: Json = value.into_iter().collect();
        let read = Value::parse_json_members(whole.to_string().as_bytes(), &wanted).expect("it is JSON");
        for name in &wanted {
            let expected = whole.get(name).map(sorted);
            prop_assert_eq!(read.member(name).map(|value| value.to_json()), expected, "{}", name);
        }
    }
}

/// The same JSON, keys in order.
fn sorted(json: &Json) -> Json {
    match json {
        Json::Array(members) => members.iter().map(sorted).collect(),
        Json::Object(members) => {
            let mut pairs: Vec<_> = members.iter().map(|(name, value)| (name.clone(), sorted(value))).collect();
            pairs.sort_by(|a, b| a.0.cmp(&b.0));
            Json::Object(pairs.into_iter().collect())
        }
        other => other.clone(),
    }
}

#[test]
fn what_is_no_json_says_where() {
    for (text, message) in [
        ("", "EOF"),
        ("{\"a\": }", "line 1 column 7"),
        ("[1,\n 2,]", "line 2 column 4"),
        ("{\"a\": 1} x", "trailing characters"),
        ("nux", "expected ident"),
    ] {
        let error = Value::parse_json(text.as_bytes()).expect_err(text).to_string();
        assert!(error.contains(message), "{text}: {error}");
        let members = Value::parse_json_members(text.as_bytes(), &["a".to_owned()]);
        assert!(members.is_err(), "{text}");
    }
    let long = "123456789012345678901234567890";
    assert_eq!(Value::parse_json(long.as_bytes()).expect("a number").to_json().to_string(), long);
}
