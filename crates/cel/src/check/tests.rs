//! Tests of the types that are known before anything is evaluated, and of what does not fit.

use crate::test_schema::Lot;
use crate::{Environment, Open, Program, Type};
use std::sync::Arc;

struct Names;

impl Environment for Names {
    fn name(&self, name: &str) -> Option<Type> {
        Some(match name {
            "lot" => Type::Record(Arc::new(Lot)),
            "lots" => Type::list(Type::Record(Arc::new(Lot))),
            "body" => Type::Dyn,
            "status" => Type::Int,
            "elapsed" => Type::Duration,
            "headers" => Type::map(Type::String),
            "scale.kg" => Type::Double,
            _ => return None,
        })
    }

    fn is_name_space(&self, name: &str) -> bool {
        name == "scale"
    }

    fn is_open(&self) -> bool {
        false
    }

    fn names(&self) -> Vec<String> {
        ["lot", "lots", "body", "status", "elapsed", "headers"].map(str::to_owned).to_vec()
    }
}

fn result(text: &str) -> String {
    let (program, errors) = Program::compile(text, &Names);
    assert!(errors.is_empty(), "{text}: {errors:?}");
    program.result_type().to_string()
}

#[test]
fn results_have_types() {
    for (text, expected) in [
        ("status + 1", "int"),
        ("body", "dyn"),
        ("body.id", "dyn"),
        ("body + 1", "int"),
        ("body + 'a'", "string"),
        ("body - body", "dyn"),
        ("-body", "dyn"),
        ("body == 1", "bool"),
        ("lot.bins * 2", "int"),
        ("lot.note", "string or null"),
        ("lot['id']", "string"),
        ("lot.?note", "optional(string or null)"),
        ("lot.?note.orValue('')", "string or null"),
        ("lots[0].id", "string"),
        ("lots[?0]", "optional(map(string, dyn))"),
        ("lots.map(l, l.bins)", "list(int)"),
        ("lots.map(l, l.bins > 1, l.id)", "list(string)"),
        ("lots.filter(l, l.bins > 1).map(l, l.id)", "list(string)"),
        ("lots.sortBy(l, l.bins)[0].bins", "int"),
        ("lots.transformMapEntry(i, l, {l.id: l.bins})", "map(string, int)"),
        ("lots.transformMap(i, l, l.id)", "map(int, string)"),
        ("headers.map(name, headers[name])", "list(string)"),
        ("headers.transformList(name, value, value)", "list(string)"),
        ("headers.filter(name, true)", "list(string)"),
        ("[]", "list(dyn)"),
        ("[] + [1]", "list(int)"),
        ("[1, 'a']", "list(dyn)"),
        ("[[], [1]]", "list(list(int))"),
        ("{}", "map(dyn, dyn)"),
        ("{'a': 1, 'b': 2}.a", "int"),
        ("{'a': 1, 'b': 'c'}", "map(string, dyn)"),
        ("status > 1 ? status : 2", "int"),
        ("status > 1 ? status : 'a'", "dyn"),
        ("[lot.note, 'a'][0]", "string or null"),
        ("[null, lot.note][0]", "string or null"),
        ("type(status)", "type"),
        ("int", "type"),
        ("elapsed + elapsed", "duration"),
        ("timestamp(0) - timestamp(0)", "duration"),
        ("timestamp(0) + elapsed", "timestamp"),
        ("body + elapsed", "dyn"),
        ("optional.of(lot.bins).optMap(n, string(n))", "optional(string)"),
        ("optional.none()", "optional(dyn)"),
        ("cel.bind(n, lot.bins, [n, n])", "list(int)"),
        ("math.greatest(1, 2)", "int"),
        ("math.greatest([1.5])", "double"),
        ("math.greatest(body, 2)", "dyn"),
        ("dyn(status)", "dyn"),
        ("scale.kg * 2.0", "double"),
        ("has(lot.note) && 'a' in headers", "bool"),
        ("headers.size() + size(lots)", "int"),
        ("cidr('10.0.0.0/8').ip()", "net.IP"),
        ("cel.block([lot.bins, cel.index(0) + 1], cel.index(1))", "int"),
    ] {
        assert_eq!(result(text), expected, "{text}");
    }
}

#[test]
fn what_does_not_fit_is_an_error_at_its_place() {
    for (text, expected) in [
        ("statu", &["`statu` there is no `statu`"][..]),
        ("lot.weight", &["`weight` there is no `weight`"]),
        ("lots.map(l, l.weight)", &["`weight` there is no `weight`"]),
        ("lot.id.size", &["`size` string has no member `size`"]),
        ("lots.id", &["`id` list(map(string, dyn)) has no member `id`"]),
        ("lots['id']", &["`'id'` `[ ]` does not take list(map(string, dyn)), string"]),
        ("status[0]", &["`0` `[ ]` does not take int, int"]),
        ("{1: 2}.a", &["`a` map(int, int) has no member `a`"]),
        ("has(status.a)", &["`a` int has no member `a`"]),
        ("status == 'a'", &["`==` int never equals string"]),
        ("status != null", &["`!=` int never equals null_type"]),
        ("lot.note == 5", &["`==` string or null never equals int"]),
        ("'a' in [1, 2]", &["`in` `in` does not take string, list(int)"]),
        ("1 in headers", &["`in` `in` does not take int, map(string, string)"]),
        ("1 in status", &["`in` `in` does not take int, int"]),
        ("status < 'a'", &["`<` `<` does not take int, string"]),
        ("[1] < [2]", &["`<` `<` does not take list(int), list(int)"]),
        ("status && true", &["`status` `&&` does not take int"]),
        ("!status", &["`!status` `!` does not take int"]),
        ("-headers", &["`-headers` `-` does not take map(string, string)"]),
        ("status ? 1 : 2", &["`status` a condition must be true or false, not int"]),
        ("lots.all(l, l.bins)", &["`l.bins` a condition must be true or false, not int"]),
        ("lots.map(l, l.bins, l.id)", &["`l.bins` a condition must be true or false, not int"]),
        ("status.exists(s, true)", &["`status` int has no elements to go through"]),
        ("{null: 1}", &["`null` null_type cannot be the key of a map"]),
        ("[?status]", &["`status` this must be an optional, not int"]),
        ("status.optMap(s, s)", &["`status` this must be an optional, not int"]),
        ("Lot{id: 'L-1'}", &["`Lot{id: 'L-1'}` there is no type `Lot`"]),
        ("siez(lots)", &["`siez` there is no function `siez`"]),
        ("size()", &["`size` `size` does not take 0 arguments here"]),
        ("math.abss(1)", &["`math` there is no `math`", "`abss` there is no function `abss`"]),
        ("startsWith('a', 'b')", &["`startsWith` `startsWith` does not take 2 arguments here"]),
        ("status.int()", &["`int` `int` does not take 1 arguments here"]),
        ("cel.block(lots, 1)", &["`lots` `cel.block` does not take list(map(string, dyn))"]),
        ("elapsed + 1", &["`+` `+` does not take duration, int"]),
        ("timestamp(0) * 2", &["`*` `*` does not take timestamp, int"]),
        // All at once, and the rest of a text that does not follow the grammar.
        (
            "lot.weight + statu + ",
            &[
                "`weight` there is no `weight`",
                "`statu` there is no `statu`",
                "`` expected an expression, found the end",
            ],
        ),
    ] {
        let (_, errors) = Program::compile(text, &Names);
        let found: Vec<String> = errors.iter().map(|error| format!("`{}` {error}", error.span.of(text))).collect();
        assert_eq!(found, expected, "{text}");
    }
}

#[test]
fn what_may_fit_is_no_error() {
    for text in [
        "body == 1 && body == 'a' && body < 2 && body.x.y[0] in body",
        "lot.note == null || lot.note == 'a'",
        "[] == [1] && {} == {'a': 1} && [1] == ['a']",
        "1 == 1.0 && 1u < 2",
        "dyn(status) == 'a'",
        "lots.exists(l, l.note == null)",
        "headers['a'] == 'b' && headers.a == headers[body]",
        "optional.none() == optional.of(1)",
        "type(body) == int && type(status) != string && type(body) in [int, double]",
        "lot[body] == 1",
    ] {
        let (_, errors) = Program::compile(text, &Names);
        assert!(errors.is_empty(), "{text}: {errors:?}");
    }
}

#[test]
fn names_are_free_unless_something_binds_them() {
    let names = |text: &str| {
        let (program, _) = Program::compile(text, &Open);
        program
            .names()
            .iter()
            .map(|name| format!("{name}{:?}", program.places(name).collect::<Vec<_>>()))
            .collect::<Vec<_>>()
    };
    assert_eq!(names("a + b.c + a"), ["a[0..1, 10..11]", "b[4..5]"]);
    assert_eq!(names("a.map(a, a + b)"), ["a[0..1]", "b[13..14]"]);
    assert_eq!(names("cel.bind(a, b, a + c)"), ["b[12..13]", "c[19..20]"]);
    // A name that is compared with `type(…)` is a type there; elsewhere it may be a variable.
    assert_eq!(names("type(a) == int && int in [b]"), ["a[5..6]", "int[18..21]", "b[26..27]"]);
    assert_eq!(names("int == type(a)"), ["a[12..13]"]);
    assert_eq!(names("math.abs(a)"), ["a[9..10]"]);
    assert_eq!(names("a.math.abs"), ["a[0..1]"]);
}

#[test]
fn long_chains_are_checked_in_a_moment() {
    for chain in [".a", ".a()", "[0]", " + a", " == a", " ? a : a"] {
        for first in ["a", "math", "google"] {
            let text = format!("{first}{}", chain.repeat(if chain.ends_with("a : a") { 150 } else { 50_000 }));
            let (program, _) = Program::compile(&text, &Open);
            assert_eq!(program.text().len(), text.len());
        }
    }
}
