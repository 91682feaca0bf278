//! Tests of JSON that is read in place.

use crate::value::Value;
use proptest::prelude::*;
use serde_json::Value as Json;

fn read(text: &str) -> Result<Value, String> {
    Value::parse_json(text.as_bytes().to_vec()).map_err(|error| error.to_string())
}

#[test]
fn members_are_found_and_keep_their_order_and_digits() {
    let text = r#" {"b" : [1, -2.50, 1e400, 123456789012345678901234567890, true, null, "é\n\u00e4\ud83c\udf4e"],
        "a\\": {}, "\u0061": {"x": 7}, "b2": 1, "a\\": [[]], "b": {"deep": [0, {"id": "L-1"}]} } "#;
    let value = read(text).expect("JSON");
    let map = value.as_map().expect("an object");
    assert_eq!(map.len(), 4, "the last of members with one name counts");
    assert_eq!(value.to_json_text(), r#"{"b":{"deep":[0,{"id":"L-1"}]},"a\\":[[]],"a":{"x":7},"b2":1}"#);
    let member = |name: &str| map.member(name).map(|member| member.to_json_text());
    assert_eq!(member("a\\").as_deref(), Some("[[]]"));
    assert_eq!(member("a").as_deref(), Some(r#"{"x":7}"#));
    assert_eq!(member("c"), None);
    let deep = map.member("b").and_then(|b| b.as_map()?.member("deep")?.as_list()?.get(1));
    assert_eq!(deep.and_then(|lot| lot.as_map()?.member("id")), Some(Value::from("L-1")));
    let digits = read("[-2.50, 1e400, 123456789012345678901234567890]").expect("JSON").to_json_text();
    assert_eq!(digits, "[-2.5,1e+400,123456789012345678901234567890]");
    assert_eq!(read(r#""é\n\u00e4\ud83c\udf4e""#), Ok(Value::from("é\nä🍎")));
    assert_eq!(map.json(), Some(text.trim().as_bytes()));
}

#[test]
fn a_detached_value_keeps_only_its_own_text() {
    let text = bytes::Bytes::from(format!(r#"{{"lot": {{"id": "L-1"}}, "note": "{}"}}"#, "x".repeat(1_000)));
    let value = Value::parse_json(text.clone()).expect("JSON");
    let lot = value.as_map().and_then(|map| map.member("lot")).expect("a member");
    let kept = Value::list(vec![lot.clone(), Value::some(lot)]).detached();
    drop(value);
    assert!(text.is_unique(), "nothing holds the text any more");
    assert_eq!(format!("{kept:?}"), r#"[{"id": "L-1"}, optional.of({"id": "L-1"})]"#);
}

#[test]
fn large_objects_are_found_by_name() {
    let members: Vec<String> = (0..500).rev().map(|number| format!(r#""lot {number}": {number}"#)).collect();
    let value = read(&format!("{{{}, \"lot 7\": -7}}", members.join(","))).expect("JSON");
    let map = value.as_map().expect("an object");
    for round in 0..2 {
        for number in 0..500 {
            let expected = if number == 7 { -7 } else { number };
            assert_eq!(map.member(&format!("lot {number}")), Some(Value::Int(expected)), "{round}");
        }
        assert_eq!(map.member("lot 500"), None);
    }
    assert_eq!(map.len(), 500);
    assert_eq!(map.entry(492).map(|(name, value)| (name.text(), value)), Some(("lot 7".to_owned(), Value::Int(-7))));
}

#[test]
fn what_is_not_json_says_where() {
    for (text, message) in [
        ("", "unexpected end of text, expected a value at line 1, column 1"),
        ("{\"a\": }", "expected a value at line 1, column 7"),
        ("[1,\n é]", "expected a value at line 2, column 2"),
        ("[1,\n 2,]", "expected a value at line 2, column 4"),
        ("{\"é\": 1} x", "expected the end at line 1, column 10"),
        ("{\"a\" 1}", "expected `:` at line 1, column 6"),
        ("{a: 1}", "expected a name in double quotes at line 1, column 2"),
        ("{\"a\": 1,}", "expected a name in double quotes at line 1, column 9"),
        ("[1 2]", "expected `,` or `]` at line 1, column 4"),
        ("{\"a\": 1", "unexpected end of text, expected `,` or `}` at line 1, column 8"),
        ("\"open", "unexpected end of text, expected `\"` at line 1, column 6"),
        ("nux", "expected a value at line 1, column 1"),
        ("01", "this is not a number at line 1, column 2"),
        ("1.", "this is not a number at line 1, column 3"),
        ("-", "this is not a number at line 1, column 2"),
        ("1e+", "this is not a number at line 1, column 4"),
        ("\"a\tb\"", "a control character in a string must be escaped at line 1, column 3"),
        ("\"\\x\"", "this is not an escape sequence at line 1, column 2"),
        ("\"\\ud800\"", "this is not an escape sequence at line 1, column 2"),
        ("\"\\u12\"", "this is not an escape sequence at line 1, column 2"),
    ] {
        assert_eq!(read(text), Err(message.to_owned()), "{text}");
    }
    assert_eq!(read(&"[".repeat(5_000)), Err("nesting is deeper than 128 levels at line 1, column 129".to_owned()));
    assert!(read(&format!("{}{}", "[".repeat(128), "]".repeat(128))).is_ok());
    let not_utf8 = Value::parse_json(b"[\"\xff\"]".to_vec()).map_err(|error| error.to_string());
    assert_eq!(not_utf8, Err("this is not UTF-8 at line 1, column 3".to_owned()));
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
    leaf.prop_recursive(4, 60, 6, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..6).prop_map(Json::from),
            prop::collection::vec((any::<String>(), inner), 0..20)
                .prop_map(|members| Json::Object(members.into_iter().collect())),
        ]
    })
}

proptest! {
    #[test]
    fn json_in_place_is_what_the_text_says(json in json(), pretty in any::<bool>()) {
        let text = if pretty { serde_json::to_string_pretty(&json) } else { serde_json::to_string(&json) };
        let value = read(&text.expect("text")).expect("JSON");
        prop_assert_eq!(value.to_json(), json.clone());
        prop_assert_eq!(&value, &Value::from_json(&json));
        prop_assert_eq!(serde_json::from_str::<Json>(&value.to_json_text()).expect("JSON"), json);
    }

    #[test]
    fn any_text_is_json_here_where_it_is_json_elsewhere(text in "[\\[\\]{}:,\"\\\\u0-9eE.+\\- truefalsn\u{e9}\n]{0,24}") {
        let other = serde_json::from_str::<Json>(&text);
        prop_assert_eq!(read(&text).is_ok(), other.is_ok(), "{:?}", other);
    }
}
