//! Tests of expressions.

use super::{Bindings, Engine, RandomSource, Value};
use chrono::DateTime;
use std::time::Duration;
use yieldtray_source::Code;

/// An engine without functions of its own.
pub(crate) fn engine() -> Engine {
    Engine::default()
}

/// Random values and a time that repeat.
pub(crate) fn random() -> RandomSource {
    let noon = DateTime::parse_from_rfc3339("2026-09-14T12:00:00+00:00").expect("a time");
    RandomSource::new(1, Box::new(move || noon))
}

fn bindings() -> Bindings<'static> {
    let body = r#"{"id": "L-2043", "bins": 24, "kg": 11.5, "open": true, "none": null, "big": 123456789012345678901234567890,
        "lots": [{"id": "L-1", "bins": 3}, {"id": "L-2", "bins": 40}], "empty": []}"#;
    let mut bindings = Bindings::default();
    bindings.insert("body", Value::parse_json(body.as_bytes()).expect("JSON"));
    bindings.insert("status", Value::from(201_i64));
    bindings.insert("text", Value::text("lot L-2043 of G-11"));
    bindings.insert("elapsed", Value::duration(Duration::from_millis(250)));
    bindings.insert("headers", Value::map([("content-type", Value::text("application/json"))]));
    bindings
}

fn run(engine: &Engine, expression: &str) -> Result<String, String> {
    let compiled = engine.compile(expression).map_err(|faults| {
        faults.iter().map(|fault| format!("{}: {}", fault.code.as_str(), fault.message)).collect::<Vec<_>>().join("; ")
    })?;
    let value = engine.evaluate(&compiled, &bindings(), &random());
    value.map(|value| value.show()).map_err(|error| error.to_string())
}

#[test]
fn expressions_and_their_values() {
    let engine = engine();
    for (expression, expected) in [
        ("body.bins + 1", "25"),
        ("body.kg * 2.0", "23.0"),
        ("body.bins == 24 && status in [200, 201]", "true"),
        ("body.lots.exists(l, l.id == 'L-2')", "true"),
        ("body.lots.all(l, l.bins < 10)", "false"),
        ("body.lots.map(l, l.bins)", "[3,40]"),
        ("body.lots.filter(l, l.bins > 10).size()", "1"),
        ("has(body.lots) && !has(body.trays)", "true"),
        ("elapsed < duration('1s')", "true"),
        ("string(elapsed)", "\"0.25s\""),
        ("body.big", "123456789012345678901234567890"),
        ("body.big == parse_json('123456789012345678901234567890')", "true"),
        ("string(body.big)", "\"123456789012345678901234567890\""),
        ("base64('apple')", "\"YXBwbGU=\""),
        ("unbase64('YXBwbGU=') + unbase64('YXBwbGU')", "\"appleapple\""),
        ("unbase64('_-4')", "\"/+4=\""),
        ("hex('Hi')", "\"4869\""),
        ("urlencode('a/b é')", "\"a%2Fb%20%C3%A9\""),
        // RFC 4231, test case 2.
        (
            "hmac_sha256('Jefe', 'what do ya want for nothing?')",
            "\"5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843\"",
        ),
        ("sha256('')", "\"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855\""),
        ("json(body.lots[0])", "\"{\\\"id\\\":\\\"L-1\\\",\\\"bins\\\":3}\""),
        ("parse_json('[1, 2.5, \"a\"]')", "[1,2.5,\"a\"]"),
        ("path(body, '$.lots[?@.bins > 10].id')", "[\"L-2\"]"),
        ("pointer(body, '/lots/1/id')", "\"L-2\""),
        ("find(text, 'L-([0-9]+)')", "\"2043\""),
        ("find(text, 'G-[0-9]+')", "\"G-11\""),
        ("find(text, 'tray')", "null"),
        ("lower('AB') + upper('cd') + trim('  e ')", "\"abCDe\""),
        ("split('a,b,c', ',')", "[\"a\",\"b\",\"c\"]"),
        ("join(body.lots.map(l, l.bins), '+')", "\"3+40\""),
        ("replace('L-1', 'L-', '')", "\"1\""),
        ("text.lower().find('g-([0-9]+)')", "\"11\""),
        ("raw('a') + 'b'", "\"ab\""),
        ("string(now())", "\"2026-09-14T12:00:00Z\""),
        ("now() + duration('24h') > now()", "true"),
        ("size(uuid())", "36"),
        ("random(3, 3)", "3"),
        ("pick(['gala'])", "\"gala\""),
        ("uuid() == uuid()", "false"),
        ("type(body.bins) == int", "true"),
        ("'a-b-c'.split('-', 2)", "[\"a\",\"b-c\"]"),
        ("split('ab', '')", "[\"a\",\"b\"]"),
        ("body.lots.map(l, l.bins).sort().last().orValue(0)", "40"),
        ("math.greatest(body.lots.map(l, l.bins))", "40"),
        ("body.?trays.orValue([]).size() + body.lots.size()", "2"),
        ("cel.bind(lot, body.lots[1], lot.id + ' ' + string(lot.bins))", "\"L-2 40\""),
        ("body.lots.transformMapEntry(i, l, {l.id: l.bins})", "{\"L-1\":3,\"L-2\":40}"),
        ("regex.extractAll(text, '[A-Z]-[0-9]+')", "[\"L-2043\",\"G-11\"]"),
        ("sets.contains([1, 2, 3], [3, 1])", "true"),
        ("'%s has %d bins'.format([body.id, body.bins])", "\"L-2043 has 24 bins\""),
        ("base64url(b'\\xfb\\xff') + ' ' + string(unhex('4A6f'))", "\"-_8 Jo\""),
        // FIPS 180-4 and RFC 2202, test case 2.
        ("hex(digest('sha1', 'abc'))", "\"a9993e364706816aba3e25717850c26c9cd0d89d\""),
        ("hex(hmac('sha1', 'Jefe', 'what do ya want for nothing?'))", "\"effcdf6ae5eb2fa2d27416d5f184df9c259a7c79\""),
        ("size(digest('sha512', 'abc')) + size(hmac('sha384', b'', ''))", "112"),
        ("format_time(now(), '%Y%m%dT%H%M', 'Europe/Berlin')", "\"20260914T1400\""),
        ("now().format_time('%d.%m.')", "\"14.09.\""),
        ("body.big > 123456789012345678901234567889.0", "true"),
    ] {
        assert_eq!(run(&engine, expression).as_deref(), Ok(expected), "{expression}");
    }
}

#[test]
fn failures_say_what_is_there_instead() {
    let engine = engine();
    for (expression, expected) in [
        (
            "body.bin",
            "`body` has no member `bin`; available: `id`, `bins`, `kg`, `open`, `none`, `big`, `lots` and `empty`; did you mean `bins`?",
        ),
        ("headers['etag'] == 'x'", "`headers` has no member `etag`; available: `content-type`"),
        ("body.id.x", "`body.id` is a string, so it has no `x`"),
        ("body.lots[7].id", "the list has no element 7: `body.lots` has 2"),
        ("body.bins < 'a'", "`<` cannot take an integer and a string"),
        ("body.bins * 1.5", "`*` cannot take an integer and a double: convert one, as in `double(x)` or `int(x)`"),
        ("body.bins + body.id", "`+` cannot take an integer and a string"),
        ("body.lots.map(l, l.kg)", "`l` has no member `kg`; available: `id` and `bins`"),
        ("1 / 0", "division by zero"),
        ("9223372036854775807 + 1", "the result does not fit in 64 bits"),
        ("lower(body.bins)", "`lower` expects a string first, but got an integer"),
        ("random(5, 1)", "`random` expects the lower bound first, but got 5 and 1"),
        ("pick([])", "`pick` cannot pick from an empty list"),
        ("join(body, ',')", "`join` expects a list, but got a map"),
        ("pointer(body, 'lots')", "`pointer` invalid JSON Pointer `lots` (RFC 6901): it must start with `/`"),
        ("pointer(body, '/trays')", "`pointer` there is no value at `/trays`"),
        ("!body.bins", "`!` cannot take an integer"),
    ] {
        assert_eq!(run(&engine, expression).err().as_deref(), Some(expected), "{expression}");
    }
    for (expression, start) in [
        ("parse_json('{')", "`parse_json` the string is not JSON: unexpected end of text, expected a name"),
        ("path(body, 'lots')", "`path` invalid JSONPath `lots` (RFC 9535)"),
        ("find(text, '(')", "`find` invalid regular expression `(`: unclosed group"),
    ] {
        let message = run(&engine, expression).expect_err(expression);
        assert!(message.starts_with(start), "{expression}: {message}");
    }
}

#[test]
fn faults_are_found_before_anything_runs() {
    let engine = engine();
    for (expression, code, at, hint) in [
        ("statu(1)", Code::UnknownFunction, "statu", None),
        ("body.lots.exist(l, l.id)", Code::UnknownFunction, "exist", Some("did you mean `exists`?")),
        ("sha265('a')", Code::UnknownFunction, "sha265", Some("did you mean `sha256`?")),
        ("uuid(1)", Code::WrongArguments, "uuid", Some("for example `uuid()`")),
        ("'uuid(1)' + replace('a')", Code::WrongArguments, "replace", None),
        ("status = 200", Code::BadExpression, "=", Some("write `==` to compare")),
        ("status == 200 and true", Code::BadExpression, "and", Some("write `&&`")),
        ("(1 + 2", Code::BadExpression, "", None),
        ("1 +", Code::BadExpression, "", None),
    ] {
        let faults = engine.compile(expression).expect_err(expression);
        assert_eq!(faults.len(), 1, "{expression}: {faults:?}");
        assert_eq!(faults[0].code, code, "{expression}");
        assert_eq!(faults[0].span.of(expression), at, "{expression}");
        if hint.is_some() {
            assert_eq!(faults[0].hint.as_deref(), hint, "{expression}");
        }
    }
}

#[test]
fn what_can_never_hold_is_found_with_all_that_is_wrong_before_anything_is_evaluated() {
    let engine = engine();
    for (expression, errors) in [
        ("status == '200'", &["`==` mismatched-types: an integer never equals a string"][..]),
        ("'5' == 5", &["`==` mismatched-types: a string never equals an integer"]),
        ("elapsed < 250", &["`<` mismatched-types: `<` cannot take a duration and an integer"]),
        (
            "status * 1.5",
            &[
                "`*` mismatched-types: `*` cannot take an integer and a double: convert one, as in `double(x)` or `int(x)`",
            ],
        ),
        (
            "request.titel",
            &["`titel` unknown-member: `request` has no member `titel`; available: `name`, `title`, `file` and `tags`"],
        ),
        ("sent['header']", &["`'header'` unknown-member: `sent` has no member `header`"]),
        ("status.code", &["`code` unknown-member: `status` is an integer, so it has no `code`"]),
        ("lower(status)", &["`lower` mismatched-types: `lower` cannot take an integer"]),
        ("text.startsWith(1)", &["`startsWith` mismatched-types: `startsWith` cannot take a string, an integer"]),
        ("status.all(s, s > 1)", &["`status` mismatched-types: expected a list or a map but found an integer"]),
        (
            "hops.all(hop, hop.status)",
            &["`hop.status` mismatched-types: a condition must be true or false, but this is an integer"],
        ),
        ("startsWith('a', 'b')", &["`startsWith` wrong-arguments: `startsWith` is a method: it is called on a value"]),
        (
            "statu(1) + text.lowr() == (1 + 'a')",
            &[
                "`statu` unknown-function: no function `statu`",
                "`lowr` unknown-function: no function `lowr`",
                "`+` mismatched-types: `+` cannot take an integer and a string",
            ],
        ),
    ] {
        let found = engine.compile(expression).expect_err(expression);
        let found: Vec<String> = found
            .iter()
            .map(|error| format!("`{}` {}: {}", error.span.of(expression), error.code.as_str(), error.message))
            .collect();
        assert_eq!(found.len(), errors.len(), "{expression}: {found:?}");
        for (found, expected) in found.iter().zip(errors) {
            let start =
                expected.replace("no `title`", "no member `titel`; available: `name`, `title`, `file` and `tags`");
            assert!(found.starts_with(&start), "{expression}: {found}");
        }
    }
    // Unknown values may satisfy a condition.
    for expression in
        ["body == '200'", "row.bins + 1 == 2", "body.lots.all(l, l.bins > 1.5)", "environment == 'pack-1'"]
    {
        assert!(engine.compile(expression).is_ok(), "{expression}");
    }
}

#[test]
fn a_check_is_explained_with_the_values_it_used() {
    let engine = engine();
    let compiled = engine.compile("random(1, 1000000) == random(1, 1000000)").expect("it compiles");
    let random = random();
    let evaluation = engine.evaluate_with_record(&compiled, &bindings(), &random);
    let drawn = random.fork();
    let twice = [drawn.draw(|rng| rng.i64(1..=1_000_000)), drawn.draw(|rng| rng.i64(1..=1_000_000))];
    let sides = evaluation.explain().operands.expect("an equality");
    assert_eq!(sides.map(|(_, value)| value.show()), twice.map(|number| number.to_string()));
    let parts: Vec<String> = evaluation.explain().parts.iter().map(|part| format!("{:?}", part.value)).collect();
    assert_eq!(parts, twice.map(|number| format!("Ok({number})")));
    // Nothing was drawn to explain it.
    assert_ne!(random.draw(|rng| rng.i64(1..=1_000_000)), twice[0]);
}

#[test]
fn functions_of_a_workspace_are_compiled_once_and_called() {
    let function = |name: &str, params: &[&str], is: &str| super::UserFunction {
        name: name.to_owned(),
        params: params.iter().map(|param| (*param).to_owned()).collect(),
        is: is.to_owned(),
        help: None,
        source: yieldtray_source::SourceId(0),
        span: yieldtray_source::Span::empty(0),
        body: yieldtray_source::Span::empty(0),
    };
    let engine = Engine::with_functions(&[
        function("label", &["lot", "row"], "lot + '/' + string(row) + suffix()"),
        function("suffix", &[], "' of ' + string(status)"),
        function("ripe", &["kg"], "kg > 10.0"),
        function("ring", &["x"], "rang(x)"),
        function("rang", &["x"], "ring(x)"),
        function("broken", &["x"], "x +"),
        function("shadow", &["body"], "body + 1"),
    ]);
    assert_eq!(run(&engine, "label(body.id, 7)").as_deref(), Ok("\"L-2043/7 of 201\""));
    assert_eq!(run(&engine, "body.lots.map(body, shadow(body.bins))").as_deref(), Ok("[4,41]"));
    assert_eq!(engine.compile("label('a', 1)").expect("it compiles").names().collect::<Vec<_>>(), ["status"]);
    assert_eq!(run(&engine, "ripe('a')").expect_err("text"), "in `ripe`: `>` cannot take a string and a double");
    for (expression, message) in [
        ("ring(1)", "variable-cycle: functions call each other recursively: ring → rang → ring"),
        ("broken(1)", "bad-expression: cannot call `broken`: its expression has an error"),
        ("label(1)", "wrong-arguments: `label` takes 2 arguments, but got 1"),
        ("ripe(1.0) == 'a'", "mismatched-types: a boolean never equals a string"),
    ] {
        assert_eq!(run(&engine, expression).expect_err(expression), message, "{expression}");
    }
    let compiled = engine.compile("ripe(body.kg) && !ripe(body.kg + 1.0)").expect("it compiles");
    let explanation = engine.evaluate_with_record(&compiled, &bindings(), &random()).explain();
    let parts: Vec<(&str, String)> =
        explanation.parts.iter().map(|part| (part.text.as_str(), format!("{:?}", part.value))).collect();
    assert_eq!(
        parts,
        [
            ("ripe(body.kg + 1.0)", "Ok(true)".to_owned()),
            ("body.kg + 1.0", "Ok(12.5)".to_owned()),
            ("body.kg", "Ok(11.5)".to_owned()),
        ]
    );
}

#[test]
fn functions_are_listed_with_what_they_take() {
    let call =
        |name: &str| super::function(name).map(|found| (found.call, found.receivers.join(" "))).unwrap_or_default();
    let expected = |call: &str, receivers: &str| (call.to_owned(), receivers.to_owned());
    assert_eq!(call("random"), expected("random(low, high)", ""));
    assert_eq!(call("int"), expected("int(x)", ""));
    assert_eq!(call("size"), expected("size(x)", "string bytes list map"));
    assert_eq!(call("contains"), expected("string.contains(string)", "string"));
    assert_eq!(call("getHours"), expected("x.getHours()", "timestamp duration"));
    assert_eq!(call("math.greatest"), expected("math.greatest(x, …)", ""));
    assert_eq!(call("exists"), expected("list.exists(x, condition)", "list map"));
}

#[test]
fn names_are_told_without_running() {
    let compiled = engine().compile("a + body.b.map(c, c + a)[d].e + f(g)").map(|_| ()).expect_err("f is no function");
    assert_eq!(compiled[0].code, Code::UnknownFunction);
    let compiled = engine().compile("a + body.b.map(c, c + a)[d].e + json(g)").expect("it compiles");
    assert_eq!(compiled.names().collect::<Vec<_>>(), ["a", "body", "d", "g"]);
    assert!(engine().compile("raw(a)").expect("it compiles").is_raw());
    assert!(!engine().compile("raw(a) + b").expect("it compiles").is_raw());
}

#[test]
fn endless_and_deep_expressions_end_in_an_error() {
    let engine = engine();
    let list = format!("[{}]", (0..100).map(|n| n.to_string()).collect::<Vec<_>>().join(","));
    let nested = format!("{list}.all(a, {list}.all(b, {list}.all(c, {list}.all(d, a + b + c + d >= 0))))");
    let message = run(&engine, &nested).expect_err("a hundred million steps are too many");
    assert!(message.contains("limit of 1,000,000 steps"), "{message}");
    assert_eq!(run(&engine, &format!("{list}.map(x, x).size()")).as_deref(), Ok("100"));

    let chain = "1".to_owned() + &"+1".repeat(8000);
    assert_eq!(run(&engine, &chain).as_deref(), Ok("8001"));
    let selects = "body".to_owned() + &".a".repeat(8000);
    run(&engine, &selects).expect_err("there is no `a`");
    let too_long = "1".to_owned() + &"+1".repeat(9000);
    assert!(
        run(&engine, &too_long).expect_err("too long").starts_with("bad-expression: the expression is longer than")
    );
    for brackets in ["(".repeat(5000) + "1" + &")".repeat(5000), "[".repeat(5000) + &"]".repeat(5000)] {
        let message = run(&engine, &brackets).expect_err("too many levels");
        assert_eq!(message, "bad-expression: nesting is deeper than 200 levels");
    }
    let deep_json = format!("parse_json('{}')", "[".repeat(300));
    run(&engine, &deep_json).expect_err("more than 128 levels");
    let doubled = "cel.bind(a, 'x', ".to_owned()
        + &(0..40).map(|n| format!("cel.bind(a, a + a + '{n}', ")).collect::<String>()
        + "a"
        + &")".repeat(41);
    assert_eq!(
        run(&engine, &doubled).expect_err("a text of a terabyte"),
        "the value is larger than the limit of 64 MiB"
    );
    let shared =
        "cel.bind(a, text, lists.range(1000).map(x, lists.range(1000).map(y, lists.range(1000).map(z, text))))";
    assert!(run(&engine, shared).is_err(), "a value of 18 GB");
}

#[test]
fn a_distinct_expression_is_compiled_once() {
    let engine = engine();
    let first = engine.compile("status == 200").expect("it compiles");
    let second = engine.compile("status == 200").expect("it compiles");
    assert!(std::sync::Arc::ptr_eq(&first, &second));
}

#[test]
fn the_same_seed_makes_the_same_values() {
    let draw = || run(&engine(), "[uuid(), string(random(1, 1000000)), pick(['a', 'b', 'c', 'd'])]");
    assert_eq!(draw(), draw());
}

#[track_caller]
fn explained(expression: &str, parts: &[(&str, &str)], notes: &[&str]) {
    let engine = engine();
    let compiled = engine.compile(expression).expect("it compiles");
    let explanation = engine.evaluate_with_record(&compiled, &bindings(), &random()).explain();
    let found: Vec<(String, String)> = explanation
        .parts
        .into_iter()
        .map(|part| (part.text, part.value.map_or_else(|error| format!("({error})"), |value| value.show())))
        .collect();
    let found: Vec<(&str, &str)> = found.iter().map(|(text, value)| (text.as_str(), value.as_str())).collect();
    assert_eq!(found, parts, "{expression}");
    assert_eq!(explanation.notes, notes, "{expression}");
}

#[test]
fn a_failed_check_is_explained_by_its_parts() {
    explained("status == 200", &[("status", "201")], &[]);
    let notes = ["an integer never equals a string", "remove the quotes to compare with a number"];
    explained("body.bins == '24'", &[("body.bins", "24")], &notes);
    explained("status == 201 && body.id == \"L-1\"", &[("body.id", "\"L-2043\"")], &[]);
    explained("body.bins < 3 || body.kg > 20.0", &[("body.bins", "24"), ("body.kg", "11.5")], &[]);
    explained("!(body.open)", &[("body.open", "true")], &[]);
    explained("size(body.lots) == 3", &[("size(body.lots)", "2")], &[]);
    explained(
        "body.lots.all(l, l.bins < 10)",
        &[("body.lots[1]", "{\"id\":\"L-2\",\"bins\":40}"), ("l.bins", "40")],
        &["is false for `body.lots[1]`"],
    );
    explained(
        "body.lots.exists(l, l.id == 'L-9')",
        &[("body.lots", "[{\"id\":\"L-1\",\"bins\":3},{\"id\":\"L-2\",\"bins\":40}]")],
        &["none of the 2 elements of `body.lots` satisfies the condition"],
    );
    // The variable is the element; a part with the same value is another one.
    explained(
        "status == 7 || [200, 201].all(s, s < 201)",
        &[("status", "201"), ("[200, 201][1]", "201")],
        &["is false for `[200, 201][1]`"],
    );
    explained("body.empty.exists(l, l == 1)", &[("body.empty", "[]")], &["`body.empty` is empty"]);
    // Of what is negated, what made it hold decides.
    explained(
        "!body.lots.exists(l, l.id == 'L-2')",
        &[("body.lots[1]", "{\"id\":\"L-2\",\"bins\":40}"), ("l.id", "\"L-2\"")],
        &["is true for `body.lots[1]`"],
    );
    explained(
        "!(body.lots.all(l, l.bins < 100))",
        &[("body.lots", "[{\"id\":\"L-1\",\"bins\":3},{\"id\":\"L-2\",\"bins\":40}]")],
        &["all 2 elements of `body.lots` satisfy the condition"],
    );
    explained("!(status == 201 && body.bins == 24)", &[("status", "201"), ("body.bins", "24")], &[]);
    explained("!(status == 200 || body.bins == 24)", &[("body.bins", "24")], &[]);
    explained(
        "headers['content-type'].startsWith(\"text/\")",
        &[("headers['content-type']", "\"application/json\"")],
        &[],
    );
    explained(
        "headers[\"etag\"] == \"1\"",
        &[("headers[\"etag\"]", "(`headers` has no member `etag`; available: `content-type`)")],
        &[],
    );
    explained("body.open ? status == 200 : false", &[("body.open", "true"), ("status", "201")], &[]);
    explained("(status + 1) * 2 == 3", &[("(status + 1) * 2", "404"), ("status + 1", "202"), ("status", "201")], &[]);
}

#[test]
fn xpath_selects_from_xml() {
    let engine = engine();
    let xml =
        r#"'<?xml version="1.0"?><m xmlns:p="urn:p"><lot id="L-1"><bins>24</bins></lot><p:lot id="L-2"/>&amp;</m>'"#;
    for (path, expected) in [
        ("//lot/@id", r#"["L-1"]"#),
        ("//@id", r#"["L-1","L-2"]"#),
        ("/m/p:lot/@id", r#"["L-2"]"#),
        ("count(//lot)", "1.0"),
        ("string(//bins)", r#""24""#),
        ("//bins > 20", "true"),
        ("//nothing", "[]"),
    ] {
        assert_eq!(run(&engine, &format!("xpath({xml}, '{path}')")).as_deref(), Ok(expected), "{path}");
    }
    for (xml, path, message) in
        [("'<m>'", "//a", "this is not XML"), ("'<m/>'", "//[", "invalid XPath"), ("'no'", "//a", "this is not XML")]
    {
        let error = run(&engine, &format!("xpath({xml}, '{path}')")).expect_err(path);
        assert!(error.contains(message), "{path}: {error}");
    }
    let deep = format!("xpath('{}', '//a')", "<a>".repeat(2_000));
    assert!(run(&engine, &deep).expect_err("deep").contains("nested deeper than 500 levels"));
}
