//! Tests of values.

use super::{Key, KeyRef, Map, Value};
use std::cmp::Ordering;

#[test]
fn numbers_of_different_types_compare_exactly() {
    let (int, uint, double) = (Value::Int, Value::Uint, Value::Double);
    for (a, b, expected) in [
        (int(1), uint(1), Some(Ordering::Equal)),
        (int(-1), uint(0), Some(Ordering::Less)),
        (int(1), double(1.0), Some(Ordering::Equal)),
        (int(1), double(1.5), Some(Ordering::Less)),
        (int(-1), double(-1.5), Some(Ordering::Greater)),
        (uint(u64::MAX), double(u64::MAX as f64), Some(Ordering::Less)),
        (int(i64::MAX), double(i64::MAX as f64), Some(Ordering::Less)),
        (int(9_007_199_254_740_993), double(9_007_199_254_740_992.0), Some(Ordering::Greater)),
        (int(0), double(f64::INFINITY), Some(Ordering::Less)),
        (int(0), double(f64::NEG_INFINITY), Some(Ordering::Greater)),
        (int(0), double(f64::NAN), None),
        (double(0.0), double(-0.0), Some(Ordering::Equal)),
        (Value::from_digits("36893488147419103232"), double(36_893_488_147_419_103_232.0), Some(Ordering::Equal)),
        (Value::from_digits("36893488147419103233"), double(36_893_488_147_419_103_232.0), Some(Ordering::Greater)),
        (Value::from("a"), int(1), None),
    ] {
        assert_eq!(a.partial_cmp(&b), expected, "{a:?} {b:?}");
        assert_eq!(b.partial_cmp(&a), expected.map(Ordering::reverse), "{b:?} {a:?}");
        assert_eq!(a == b, expected == Some(Ordering::Equal), "{a:?} {b:?}");
    }
}

#[test]
fn lists_and_maps_are_equal_if_what_is_in_them_is() {
    let list = |values: &[i64]| Value::list(values.iter().copied().map(Value::Int).collect());
    assert_eq!(list(&[1, 2]), Value::list(vec![Value::Double(1.0), Value::Uint(2)]));
    assert_ne!(list(&[1, 2]), list(&[2, 1]));
    assert_ne!(list(&[1]), list(&[1, 2]));
    let map = |entries: &[(&str, i64)]| Value::map(entries.iter().map(|(name, value)| (*name, Value::Int(*value))));
    assert_eq!(map(&[("a", 1), ("b", 2)]), map(&[("b", 2), ("a", 1)]));
    assert_ne!(map(&[("a", 1)]), map(&[("b", 1)]));
    assert_ne!(map(&[("a", 1)]), map(&[("a", 1), ("b", 2)]));
    assert_ne!(map(&[]), list(&[]));
    assert_eq!(Value::some(list(&[1])), Value::some(list(&[1])));
    assert_ne!(Value::some(Value::Null), Value::none());
}

#[test]
fn entries_keep_their_order_and_are_found_by_number() {
    let entries =
        [(Key::Uint(2), "two"), (Key::Int(-1), "minus"), (Key::Bool(true), "yes"), (Key::String("a".into()), "a")];
    let map: Map = entries.into_iter().map(|(key, value)| (key, Value::from(value))).collect();
    assert_eq!(
        format!("{:?}", map.iter().collect::<Vec<_>>()),
        "[(2u, \"two\"), (-1, \"minus\"), (true, \"yes\"), (\"a\", \"a\")]"
    );
    let find = |key: Value| KeyRef::from_value(&key).and_then(|key| map.get(key)).map(|value| format!("{value:?}"));
    assert_eq!(find(Value::Int(2)).as_deref(), Some("\"two\""));
    assert_eq!(find(Value::Double(2.0)).as_deref(), Some("\"two\""));
    assert_eq!(find(Value::Double(-1.0)).as_deref(), Some("\"minus\""));
    assert_eq!(find(Value::Double(2.5)), None);
    assert_eq!(find(Value::from("2")), None);
    assert_eq!(find(Value::Null), None);
    assert_eq!(map.entry(4).map(drop), None);
    let repeated: Map = [(Key::Int(1), Value::from("a")), (Key::Uint(1), Value::from("b"))].into_iter().collect();
    assert_eq!(format!("{:?}", Value::Map(repeated)), "{1: \"b\"}");
}

#[test]
fn sizes_stop_at_their_limit_and_depths_count_what_is_inside() {
    let text = Value::string("x".repeat(1_000));
    assert_eq!(text.size_in_bytes(u64::MAX), 1_032);
    assert_eq!(text.size_in_bytes(100), 100);
    let thousand = Value::list(vec![text.clone(); 1_000]);
    assert_eq!(thousand.size_in_bytes(u64::MAX), 1_032_032);
    assert_eq!(thousand.size_in_bytes(5_000), 5_000);
    assert_eq!(Value::map([("note", text)]).size_in_bytes(u64::MAX), 32 + 32 + 4 + 1_032);
    let in_place = Value::parse_json(r#"{"lots": [1, 2, 3], "more": [[[1]]]}"#).expect("JSON");
    assert_eq!(in_place.size_in_bytes(u64::MAX), 36);
    assert_eq!((Value::Int(1).depth(), in_place.depth()), (0, 1));
    assert_eq!(Value::list(vec![Value::some(Value::list(vec![in_place]))]).depth(), 4);
}

#[test]
fn values_are_written_as_json() {
    let value = Value::map([
        ("int", Value::Int(-1)),
        ("uint", Value::Uint(u64::MAX)),
        ("double", Value::Double(2.0)),
        ("digits", Value::from_digits("0.10000000000000000001")),
        ("infinite", Value::Double(f64::INFINITY)),
        ("bytes", Value::bytes(*b"apple")),
        ("none", Value::none()),
        ("some", Value::some(Value::from("a\"b"))),
        ("type", Value::Type("int")),
    ]);
    let expected = r#"{"int":-1,"uint":18446744073709551615,"double":2.0,"digits":0.10000000000000000001,"infinite":"Infinity","bytes":"YXBwbGU=","none":null,"some":"a\"b","type":"int"}"#;
    assert_eq!(value.to_json_text(), expected);
    assert_eq!(value.to_json().to_string(), expected);
}
