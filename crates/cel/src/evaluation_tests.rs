//! Tests of checking and evaluating.

use crate::functions::{Call, Fault, Outcome};
use crate::test_schema::Lot;
use crate::tests::{expression, jumble};
use crate::{
    Activation, Budget, Environment, EvalErrorKind, HostFunction, Limits, Nothing, Open, Program, Record, Signature,
    Type, Value, functions,
};
use proptest::prelude::*;
use std::sync::{Arc, LazyLock};

/// The value of an expression without names, or its error.
fn run(text: &str) -> Result<String, String> {
    let (program, errors) = Program::compile(text, &Open);
    if let Some(error) = errors.first() {
        return Err(format!("`{}`: {error}", error.span.of(text)));
    }
    let value = program.evaluate(&Nothing, Limits::default(), None);
    value.map(|value| format!("{value:?}")).map_err(|error| format!("`{}`: {error}", error.span().of(text)))
}

#[track_caller]
fn check(rows: &[(&str, &str)]) {
    for (text, expected) in rows {
        let found = run(text).unwrap_or_else(|error| format!("error {error}"));
        assert_eq!(found, *expected, "{text}");
    }
}

#[test]
fn maps_keep_the_order_of_their_entries() {
    check(&[
        ("{'b': 1, 'a': 2, 3u: [true]}", "{\"b\": 1, \"a\": 2, 3u: [true]}"),
        ("{'b': 1, 'a': 2}.map(k, k)", "[\"b\", \"a\"]"),
        ("{'b': 1, 'a': 2}.transformMap(k, v, v * 2)", "{\"b\": 2, \"a\": 4}"),
        ("{'b': 1, 'a': 2} == {'a': 2, 'b': 1}", "true"),
        ("{1: 'a'}[1.0] + {2u: 'b'}[2]", "\"ab\""),
    ]);
}

#[test]
fn errors_name_the_part_that_fails() {
    check(&[
        ("1 + [2][3]", "error `[2][3]`: there is no element 3, but 1"),
        ("{'a': 1}.b + 1", "error `{'a': 1}.b`: there is no `b`"),
        ("[1, 0].map(n, 12 / n)", "error `12 / n`: division by zero"),
        ("[1, 'a'].exists(n, n > 5)", "error `n > 5`: `>` does not take string, int"),
        ("dyn(1) ? 2 : 3", "error `dyn(1)`: a condition must be true or false, not int"),
        ("9223372036854775807 + 1", "error `9223372036854775807 + 1`: the result is out of the range of int"),
        ("{'a': 1, 'a': 2}", "error `'a'`: the key `a` appears twice"),
        ("timestamp('morning')", "error `timestamp('morning')`: `morning` is not an RFC 3339 timestamp"),
        ("[1].sortBy(x, {})", "error `[1].sortBy(x, {})`: `sortBy`: values of type map cannot be ordered"),
        ("optional.none().value()", "error `optional.none().value()`: the optional is empty"),
        ("'a'.matches('(')", "error `'a'.matches('(')`: `matches`: invalid regular expression `(`: unclosed group"),
    ]);
}

#[test]
fn limits_end_an_evaluation() {
    let error = |text: &str, limits| {
        let (program, errors) = Program::compile(text, &Open);
        assert!(errors.is_empty(), "{text}: {errors:?}");
        program.evaluate(&Nothing, limits, None).expect_err(text).kind().clone()
    };
    let loops =
        "lists.range(100).all(a, lists.range(100).all(b, lists.range(100).all(c, lists.range(100).all(d, true))))";
    assert_eq!(error(loops, Limits::default()), EvalErrorKind::Steps(1_000_000));
    // `||` does not absorb an exceeded limit.
    assert_eq!(error(&format!("{loops} || true"), Limits::default()), EvalErrorKind::Steps(1_000_000));
    let small = Limits { bytes: 1 << 10, ..Limits::default() };
    for text in [
        "lists.range(1000000000000)",
        "lists.range(20).map(x, [x, x, x])",
        "'0123456789abcdef'.replace('', '0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef')",
        "cel.bind(a, '0123456789abcdef', cel.bind(b, a + a + a + a, b + b + b + b + b + b + b + b + b + b + b + b + b + b + b + b + b))",
        "cel.bind(a, '0123456789abcdef0123456789abcdef', [a, a, a, a, a, a, a, a, a, a, a, a, a, a, a, a, a, a])",
        "'%.1000f'.format([1.0])",
    ] {
        assert_eq!(error(text, small), EvalErrorKind::Bytes(1 << 10), "{text}");
    }
    // Looking for a member in a long list takes more steps than looking at its own.
    let search = "cel.bind(l, lists.range(100000), l.all(x, -1 in l || true))";
    assert_eq!(error(search, Limits::default()), EvalErrorKind::Steps(1_000_000));
    // Shared values take no memory, but going through them is limited.
    let shared = "['x']".to_owned() + &".map(a, [a, a])".repeat(60);
    assert_eq!(run(&format!("size({shared})")).as_deref(), Ok("1"));
    for text in [&*shared, &format!("{shared} == {shared}"), &format!("'%s'.format([{shared}])")] {
        assert_eq!(error(text, Limits::default()), EvalErrorKind::Bytes(64 << 20), "{text}");
    }
    let deep = "['x']".to_owned() + &".map(a, [a])".repeat(300);
    assert_eq!(error(&deep, Limits::default()), EvalErrorKind::Depth(200));
    let chain = "1".to_owned() + &" + 1".repeat(100_000);
    assert_eq!(run(&chain).as_deref(), Ok("100001"));
}

/// Lots with members that are known, a function with a counter, and a name whose value costs nothing until it is asked.
struct Host;

static LABEL: LazyLock<[Signature; 1]> = LazyLock::new(|| [Signature::parse("label", "label(string) -> string")]);

impl Environment for Host {
    fn name(&self, name: &str) -> Option<Type> {
        match name {
            "lot" => Some(Type::Record(Arc::new(Lot))),
            "lots" => Some(Type::list(Type::Record(Arc::new(Lot)))),
            _ => None,
        }
    }

    fn is_open(&self) -> bool {
        false
    }

    fn names(&self) -> Vec<String> {
        vec!["lot".to_owned(), "lots".to_owned()]
    }

    fn function(&self, name: &str) -> Option<HostFunction<'_>> {
        (name == "label").then(|| HostFunction { id: 0, signatures: &*LABEL })
    }

    fn function_names(&self) -> Vec<String> {
        vec!["label".to_owned()]
    }
}

impl Activation for Host {
    fn value(&self, name: &str) -> Option<Value> {
        let lot = |id: &str, bins| Value::map([("id", Value::from(id)), ("bins", Value::Int(bins))]);
        match name {
            "lot" => Some(lot("L-1", 3)),
            "lots" => Some(Value::list(vec![lot("L-1", 3), lot("L-2", 40)])),
            _ => None,
        }
    }

    fn call(&self, _: usize, call: Call<'_>) -> Outcome {
        match call.arguments {
            [Value::String(text)] if text.is_empty() => Err(Fault::message("the text is empty")),
            [Value::String(text)] => Ok(Value::string(format!("lot {text}"))),
            _ => Err(Fault::NoOverload),
        }
    }
}

#[test]
fn the_host_gives_names_members_and_functions() {
    let evaluate = |text: &str| {
        let (program, errors) = Program::compile(text, &Host);
        assert!(errors.is_empty(), "{text}: {errors:?}");
        program.evaluate(&Host, Limits::default(), None).map_err(|error| error.to_string())
    };
    assert_eq!(evaluate("label(lot.id) + '!'"), Ok(Value::from("lot L-1!")));
    assert_eq!(evaluate("label('')"), Err("`label`: the text is empty".to_owned()));
    let errors = |text: &str| -> Vec<String> {
        let (_, errors) = Program::compile(text, &Host);
        errors.iter().map(|error| format!("`{}` {error}", error.span.of(text))).collect()
    };
    assert_eq!(errors("lot.bin + lots.map(l, l.idd)[0]"), ["`bin` there is no `bin`", "`idd` there is no `idd`"]);
    assert_eq!(errors("lott.id == labl(1)"), ["`lott` there is no `lott`", "`labl` there is no function `labl`"]);
    assert_eq!(errors("label(lot.bins)"), ["`label` `label` does not take int"]);
    assert_eq!(errors("lot.id == lot.bins"), ["`==` string never equals int"]);
    assert_eq!(errors("lots.exists(l, l.bins)"), ["`l.bins` a condition must be true or false, not int"]);
    let result = |text: &str| Program::compile(text, &Host).0.result_type().to_string();
    assert_eq!(result("lots.map(l, l.bins)"), "list(int)");
    assert_eq!(result("{'a': lot.?id}"), "map(string, optional(string))");
    assert_eq!(result("lots.filter(l, true)[0].id"), "string");
}

#[test]
fn what_happened_is_recorded() {
    let text = "lots.all(l, l.bins < 10 && l.id != '') || lot.bins == 4";
    let (program, errors) = Program::compile(text, &Host);
    assert!(errors.is_empty(), "{errors:?}");
    let mut record = Record::new();
    let value = program.evaluate(&Host, Limits::default(), Some(&mut record));
    assert_eq!(value.ok(), Some(Value::Bool(false)));
    let parts: Vec<String> = program
        .tree()
        .nodes()
        .filter_map(|(id, node)| Some(format!("{} = {:?}", node.span.of(text), record.part(id)?.as_ref().ok()?)))
        .collect();
    assert!(parts.contains(&"lot.bins = 3".to_owned()), "{parts:?}");
    // Of the loop the values are those of the element that decided; what was not evaluated for it is of another one.
    let (id, found) = program.tree().nodes().find_map(|(id, _)| Some((id, record.find_loop(id)?))).expect("a loop");
    assert_eq!(program.tree().node(id).span.of(text), "lots.all(l, l.bins < 10 && l.id != '')");
    let element = found.deciding.as_ref().expect("an element decided");
    assert_eq!((element.index, found.length, element.is_last), (1, 2, true));
    let inside: Vec<String> = program
        .tree()
        .nodes()
        .filter_map(|(id, node)| {
            let value = record.part_in(found, id)?.as_ref().ok()?;
            Some(format!("{} = {value:?}", node.span.of(text)))
        })
        .filter(|part| part.starts_with("l."))
        .collect();
    assert_eq!(inside, ["l.bins = 40", "l.bins < 10 = false", "l.bins < 10 && l.id != '' = false"]);
}

#[test]
fn functions_are_described_and_their_examples_read() {
    let mut names: Vec<&str> = functions::library().map(|function| function.name).collect();
    names.sort_unstable();
    let count = names.len();
    names.dedup();
    assert_eq!(names.len(), count, "each name once");
    for function in functions::library() {
        assert!(!function.parsed_signatures().is_empty(), "{}", function.name);
        let (program, errors) = Program::compile(function.example, &Open);
        let unknown = errors.iter().filter(|error| !error.to_string().contains("function `now`")).count();
        assert_eq!(unknown, 0, "{}: {errors:?}", function.example);
        let called = program.calls().iter().any(|call| &*call.name == function.name);
        assert!(called, "the example of `{}` calls it", function.name);
    }
    for (name, _, _, example) in functions::MACROS {
        let (_, errors) = Program::compile(example, &Open);
        assert!(errors.is_empty(), "{name}: {errors:?}");
        assert!(example.contains(&format!("{name}(")), "{name}");
    }
    let mut budget = Budget::new(Limits::default());
    let size = functions::function("size").expect("there is one");
    let arguments = [Value::from("gala")];
    assert_eq!(size.call(Call { arguments: &arguments, budget: &mut budget }), Ok(Value::Int(4)));
}

/// A response, read in place or converted.
struct Body(Value);

impl Activation for Body {
    fn value(&self, name: &str) -> Option<Value> {
        (name == "body").then(|| self.0.clone())
    }

    fn call(&self, _: usize, _: Call<'_>) -> Outcome {
        Err(Fault::NoOverload)
    }
}

/// Expressions on a response.
fn on_body() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        Just("body"),
        Just("body.a"),
        Just("body.b[1]"),
        Just("body.?a"),
        Just("body['a']"),
        Just("size(body.b)"),
        Just("1"),
        Just("'a'"),
        Just("2.5"),
    ];
    leaf.prop_map(str::to_owned).prop_recursive(3, 20, 3, |inner| {
        prop_oneof![
            (inner.clone(), "==|in|\\+|<", inner.clone()).prop_map(|(a, sign, b)| format!("({a}) {sign} ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}).map(x, ({b}))")),
            inner.clone().prop_map(|a| format!("({a}).all(k, v, k == v)")),
            inner.clone().prop_map(|a| format!("has(({a}).a)")),
            inner.clone().prop_map(|a| format!("({a}).transformMap(k, v, v)")),
            (inner.clone(), inner).prop_map(|(a, b)| format!("[({a}), ({b})]")),
        ]
    })
}

fn small_json() -> impl Strategy<Value = serde_json::Value> {
    let leaf = prop_oneof![
        Just(serde_json::Value::Null),
        any::<bool>().prop_map(Into::into),
        (-3_i64..3).prop_map(Into::into),
        Just(serde_json::Value::from(2.5)),
        "[ab\"]{0,2}".prop_map(Into::into),
    ];
    leaf.prop_recursive(3, 16, 3, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..4).prop_map(Into::into),
            proptest::collection::vec(("[ab]", inner), 0..4)
                .prop_map(|members| members.into_iter().collect::<serde_json::Map<_, _>>().into()),
        ]
    })
}

proptest! {
    #[test]
    fn any_text_is_checked_and_evaluated_without_a_panic(text in prop_oneof![expression(), jumble()]) {
        let (program, _) = Program::compile(&text, &Open);
        let limits = Limits { steps: 1_000, bytes: 10_000 };
        let mut record = Record::new();
        let recorded = program.evaluate(&Nothing, limits, Some(&mut record));
        let plain = program.evaluate(&Nothing, limits, None);
        prop_assert_eq!(format!("{recorded:?}"), format!("{plain:?}"));
    }

    #[test]
    fn json_in_place_and_converted_give_the_same(json in small_json(), text in on_body()) {
        let (program, _) = Program::compile(&text, &Open);
        let in_place = Value::parse_json(json.to_string()).expect("JSON");
        let [one, other] = [in_place, Value::from_json(&json)].map(|body| {
            let outcome = program.evaluate(&Body(body), Limits::default(), None);
            format!("{outcome:?}")
        });
        prop_assert_eq!(one, other);
    }
}
