//! Tests of the parser.

use super::{Cell, InstructionKind, Item, Node, Parsed, Version, parse};
use proptest::prelude::*;
use std::fmt::Write;
use yieldtray_source::{Code, Lines, SourceId, Span};

fn parsed(text: &str) -> Parsed {
    let parsed = parse(text, SourceId(0), "intake");
    assert_eq!(rebuilt(text, &parsed), text, "the spans joined are the text");
    parsed
}

/// The text rebuilt from the nodes; only white space may be between them.
fn rebuilt(text: &str, parsed: &Parsed) -> String {
    let mut rebuilt = String::new();
    for (node, span) in parsed.file.nodes(text) {
        assert!(
            node != Node::Gap || span.of(text).trim_matches('\u{feff}').trim_ascii().is_empty(),
            "a gap holds {:?}",
            span.of(text)
        );
        rebuilt.push_str(span.of(text));
    }
    rebuilt
}

/// A cell in one line: name, method, target, fields, body, tail.
fn shown(text: &str, cell: &Cell) -> String {
    let mut shown = format!("{}:", cell.name);
    if let Some(request) = &cell.request {
        let method = request.method.map_or("-", |method| method.of(text));
        let _ = write!(shown, " {method} {}", request.target.of(text));
    }
    for field in &cell.fields {
        let _ = write!(shown, " [{}={}]", field.name.of(text), field.value.of(text));
    }
    if !cell.body.is_empty() {
        let _ = write!(shown, " {:?}", cell.body.of(text));
    }
    for instruction in cell.instructions() {
        let _ = write!(shown, " %{}", instruction.span.of(text).trim_start_matches('%').trim());
    }
    shown
}

/// Cells as they are understood, problems as code and underlined text.
fn understood(text: &str) -> (Vec<String>, Vec<(Code, String)>) {
    let parsed = parsed(text);
    let cells = parsed.file.cells.iter().map(|cell| shown(text, cell)).collect();
    let problems = parsed.problems.iter().map(|p| (p.code, p.span.of(text).to_owned())).collect();
    (cells, problems)
}

#[track_caller]
fn check(text: &str, cells: &[&str], problems: &[(Code, &str)]) {
    for text in [text.to_owned(), text.replace('\n', "\r\n"), format!("\u{feff}{text}")] {
        let (found_cells, found_problems) = understood(&text);
        let found_cells: Vec<String> = found_cells.iter().map(|cell| cell.replace("\\r\\n", "\\n")).collect();
        assert_eq!(found_cells, cells, "cells of {text:?}");
        let found: Vec<(Code, &str)> = found_problems.iter().map(|(code, text)| (*code, text.as_str())).collect();
        assert_eq!(found, problems, "problems of {text:?}");
    }
}

#[test]
fn files_and_cells() {
    check("", &[], &[]);
    check("# only words\n% let a = 1\n", &[], &[]);
    check("http://local/lots", &["intake: - http://local/lots"], &[]);
    check("% name mine\nGET /lots\n\n% check status == 200", &["mine: GET /lots %name mine %check status == 200"], &[]);
    check(
        "%% Sign in\nPOST /session\nA: b\n#C: d\n\n{ }\n\n%% Über uns!\n/lots\n%%\n/x\n",
        &["sign-in: POST /session [A=b] \"{ }\"", "über-uns: - /lots", "request-3: - /x"],
        &[],
    );
    check("%% a\nGET /x\n%% b\nGET /y", &["a: GET /x", "b: GET /y"], &[]);
    check("%% a\n/x\n%% a\n/y", &["a: - /x", "a: - /y"], &[(Code::DuplicateName, "a")]);
    check("%% a\n% name b\n% name c\n/x", &["b: - /x %name b %name c"], &[(Code::DuplicateName, "c")]);
    check("GET /x\n%% a\n/y", &["a: - /y"], &[(Code::StrayText, "GET /x")]);
    check("%% a\n# words\n%% b\n/y", &["a:", "b: - /y"], &[(Code::NoRequest, "a")]);
    check("% needs b\n", &[], &[(Code::MisplacedInstruction, "b")]);
}

/// A check among the lines of a body would never be evaluated, and the file would look fine.
#[test]
fn lines_that_were_not_meant_for_a_body_are_reported() {
    let found = |text: &str| -> Vec<(String, bool)> {
        let problems = parse(text, SourceId(0), "intake").problems;
        problems.iter().map(|problem| (problem.span.of(text).to_owned(), problem.is_error())).collect()
    };
    for (body, expected) in [
        ("POST /x\n\n{}\n%check status == 200", vec![("%check", true)]),
        ("POST /x\n\n{}\n%chekc status == 200", vec![("%chekc", true)]),
        ("POST /x\n\n% frobnicate", vec![("% frobnicate", false)]),
        ("POST /x\n\n\\%check status\n\\% frobnicate", vec![]),
        ("GET /x\n\nGET /y", vec![("GET /y", true)]),
        ("POST /x\n\n{}\n\nPOST http://local/y HTTP/1.1", vec![("POST http://local/y HTTP/1.1", false)]),
        ("GET /x\n\n### Another\n\nGET {{base}}/y", vec![("### Another", true)]),
        ("POST /x\n\n{}\n---\nDELETE /y", vec![("---", false)]),
        ("POST /x\n\n---\nGET is a method\nGETS /y", vec![]),
        ("POST /x\n\n{}\n % % Another", vec![]),
        ("POST /x\n\n{}\n% % Another", vec![("% %", true)]),
        ("POST /x\n\n{}\n %% Another", vec![(" %%", false)]),
    ] {
        let expected: Vec<(String, bool)> = expected.into_iter().map(|(at, stops)| (at.to_owned(), stops)).collect();
        assert_eq!(found(&format!("%% a\n{body}\n")), expected, "{body}");
    }
}

#[test]
fn request_lines_and_fields() {
    check("%% a\nPURGE /x HTTP/1.1", &["a: PURGE /x"], &[]);
    check(
        "%% a\nGET {{base}}/{{ pick(['a b', \"}}\"]) }} HTTP/2",
        &["a: GET {{base}}/{{ pick(['a b', \"}}\"]) }}"],
        &[],
    );
    check("%% a\nGET", &["a:"], &[(Code::BadRequestLine, "GET")]);
    check("%% a\nGET /a b", &["a:"], &[(Code::BadRequestLine, " ")]);
    check("%% a\nGET /a HTTP/3", &["a:"], &[(Code::BadRequestLine, "HTTP/3")]);
    check("%% a\nget /a", &["a: get /a"], &[(Code::Assumption, "get")]);
    check("%% a\n/x\nA:\nA: 1", &["a: - /x [A=] [A=1]"], &[]);
    check("%% a\n/x\n A: 1", &["a: - /x"], &[(Code::BadHeader, "A: 1")]);
    check("%% a\n/x\nA : 1", &["a: - /x"], &[(Code::BadHeader, "A ")]);
    check("%% a\n/x\n{\"a\": 1}", &["a: - /x"], &[(Code::BadHeader, "{\"a\"")]);
    check("%% a\n/x\nA: b\0c", &["a: - /x"], &[(Code::BadHeader, "b\0c")]);
    check("%% a\n/x\nno colon", &["a: - /x"], &[(Code::BadHeader, "no colon")]);
    check("%% a\n/x\ncontent-LENGTH: 3", &["a: - /x"], &[(Code::ConnectionHeader, "content-LENGTH")]);
}

#[test]
fn bodies_and_tails() {
    check(
        "%% a\nPOST /x\n\n# text\n% of the crop: 12\n\n\n",
        &["a: POST /x \"# text\\n% of the crop: 12\""],
        &[(Code::SwallowedText, "% of")],
    );
    check(
        "%% a\nPOST /x\n\n12 % of the crop\n%20 %a% 5%check",
        &["a: POST /x \"12 % of the crop\\n%20 %a% 5%check\""],
        &[],
    );
    check("%% a\nPOST /x\n\n\\% tea\n\\%% not a cell", &["a: POST /x \"\\\\% tea\\n\\\\%% not a cell\""], &[]);
    check(
        "%% a\nPOST /x\n\nbody\n\n% check true\n\n# words\n% tag t",
        &["a: POST /x \"body\" %check true %tag t"],
        &[],
    );
    check("%% a\n/x\n% check true", &["a: - /x %check true"], &[]);
    check(
        "%% a\nPOST /x\n\nbody\n% chekc true",
        &["a: POST /x \"body\" %chekc true"],
        &[(Code::UnknownInstruction, "chekc")],
    );
    check("%% a\n/x\n\n% check true\nmore\nand more", &["a: - /x %check true"], &[(Code::StrayText, "more")]);
    check("%% a\nPOST /x\n\nbody\n% graphql", &["a: POST /x \"body\" %graphql"], &[]);
}

#[test]
fn instructions_that_cannot_be_read() {
    for (line, code, at) in [
        ("% tga x", Code::UnknownInstruction, "tga"),
        ("%", Code::UnknownInstruction, ""),
        ("% ask", Code::BadName, ""),
        ("% ask pin", Code::MalformedInstruction, ""),
        ("% ask pin Which?", Code::MalformedInstruction, "Which?"),
        ("% ask pin \"open", Code::MalformedInstruction, "\"open"),
        ("% ask pin \"\"", Code::MalformedInstruction, "\"\""),
        ("% ask status \"?\"", Code::ReservedName, "status"),
        ("% ask pin \"?\" scret", Code::MalformedInstruction, "scret"),
        ("% ask pin \"?\" default", Code::MalformedInstruction, "default"),
        ("% name", Code::MalformedInstruction, ""),
        ("% name a b", Code::BadName, "a b"),
        ("% tag a,,b", Code::MalformedInstruction, ""),
        ("% tag a b", Code::BadName, "a b"),
        ("% needs other.http#a, b c", Code::BadName, "b c"),
        ("% let x", Code::MalformedInstruction, ""),
        ("% let x =", Code::MalformedInstruction, ""),
        ("% let = 1", Code::BadName, ""),
        ("% let a-b = 1", Code::BadName, "a-b"),
        ("% let body = 1", Code::ReservedName, "body"),
        ("% yield x = body", Code::MisplacedInstruction, "yield"),
        ("% header Accept", Code::MalformedInstruction, ""),
        ("% header Accept: a", Code::MisplacedInstruction, "header"),
        ("% header Connection:", Code::ConnectionHeader, "Connection"),
        ("% check", Code::MalformedInstruction, ""),
        ("% check ok:", Code::MalformedInstruction, ""),
        ("% check a else b", Code::MalformedInstruction, "b"),
    ] {
        let (_, problems) = understood(&format!("%% a\n{line}\n/x"));
        assert_eq!(problems, [(code, at.to_owned())], "{line}");
    }
}

#[test]
fn a_question_and_its_parts() {
    for (line, expected) in [
        ("% ask pin \"The PIN?\"", "pin | The PIN? | false | - | -"),
        ("%  ask  pin  \" The PIN? \"  secret ", "pin | The PIN? | true | - | -"),
        ("% ask n \"?\" default 12 + 1", "n | ? | false | 12 + 1 | -"),
        ("% ask n \"?\" secret default pin from ['a from b', x]", "n | ? | true | pin | ['a from b', x]"),
        ("% ask n \"?\" from lots default lots[0]", "n | ? | false | lots[0] | lots"),
    ] {
        let text = format!("%% a\n{line}\n/x");
        let parsed = parsed(&text);
        assert_eq!(parsed.problems, [], "{line}");
        let shown = parsed.file.cells[0].instructions().map(|instruction| match instruction.kind {
            InstructionKind::Ask { name, question, secret, default, choices } => {
                let part = |span: Option<Span>| span.map_or("-", |span| span.of(&text));
                format!(
                    "{} | {} | {secret} | {} | {}",
                    name.of(&text),
                    question.of(&text),
                    part(default),
                    part(choices)
                )
            }
            other => format!("{other:?}"),
        });
        assert_eq!(shown.collect::<Vec<_>>(), [expected], "{line}");
    }
    let (_, problems) = understood("% ask pin \"?\"\n%% a\n/x");
    assert_eq!(problems, [(Code::MisplacedInstruction, "ask".to_owned())]);
}

#[test]
fn instructions_and_their_parts() {
    let text = "%% a\n/x\n% check ok: a ? b : \"x: else y\" else \"why {{c}}\"\n% check {\"a\": 1} == b\n% yield t = body.t secret\n% yield u = a + secret\n% check x == ' else '";
    let parsed = parsed(text);
    assert_eq!(parsed.problems, []);
    let parts: Vec<String> = parsed.file.cells[0]
        .instructions()
        .map(|instruction| match instruction.kind {
            InstructionKind::Check { label, expression, hint } => {
                let of = |span: Option<Span>| span.map_or("-", |span| span.of(text));
                format!("{} | {} | {}", of(label), expression.of(text), of(hint))
            }
            InstructionKind::Yield { name, expression, secret } => {
                format!("{} | {} | {secret}", name.of(text), expression.of(text))
            }
            other => format!("{other:?}"),
        })
        .collect();
    assert_eq!(
        parts,
        [
            "ok | a ? b : \"x: else y\" | why {{c}}",
            "- | {\"a\": 1} == b | -",
            "t | body.t | true",
            "u | a + secret | false",
            "- | x == ' else ' | -",
        ]
    );
}

#[test]
fn versions_and_comments() {
    let text = "%% a\n# docs\n/x HTTP/2\n# between";
    let parsed = parsed(text);
    let cell = &parsed.file.cells[0];
    assert_eq!(cell.request.as_ref().and_then(|request| request.version), Some(Version::Http2));
    let comments = cell.items.iter().filter(|item| matches!(item, Item::Comment(_)));
    assert_eq!(comments.map(|item| item.span().of(text)).collect::<Vec<_>>(), ["# docs", "# between"]);
}

/// Doubling the text must not more than double the work, counted in nodes and problems: wall time is not a measure on
/// a shared machine.
#[test]
fn many_cells_parse_alike() {
    let cell = "%% Weigh tray\n% name tray-N\nPOST /lots/{{id}}\nA: b\n\n{ \"kg\": {{kg}} }\n\n% check status == 201\n";
    let text: String = (0..2000).map(|n| cell.replace("tray-N", &format!("tray-{n}"))).collect();
    let parsed = parsed(&text);
    assert_eq!(parsed.file.cells.len(), 2000);
    assert_eq!(parsed.problems, []);
    assert_eq!(Lines::new(&text).line_of(parsed.file.cells[1999].span.start()), 1999 * 8 + 1);
}

/// Lines that mean something, shuffled: what a person might type, in an order nobody would.
fn line() -> impl Strategy<Value = String> {
    let known = prop::sample::select(vec![
        "%% Book in",
        "%%",
        "% name a",
        "% check x: status == 200 else \"h\"",
        "% yield a = b secret",
        "% let",
        "% ",
        "% header A: b",
        "% needs a, b",
        "# words",
        "GET /lots HTTP/1.1",
        "POST {{ '}}' }}",
        "A: {{b",
        "",
        " ",
        "{",
        "}",
        "\\% x",
        "\\{{",
        "\u{feff}",
        "% waive a",
        "Ä: ö",
        "% chekc",
        "%%%",
        "\t",
    ]);
    prop_oneof![known.prop_map(str::to_owned), "[ -~äß✓]{0,12}"]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_lines_parse_and_nothing_is_lost(lines in prop::collection::vec(line(), 0..24), crlf: bool) {
        let text = lines.join(if crlf { "\r\n" } else { "\n" });
        let parsed = parse(&text, SourceId(0), "any");
        prop_assert_eq!(rebuilt(&text, &parsed), text.clone());
        for problem in &parsed.problems {
            prop_assert!(text.get(problem.span.range()).is_some(), "{:?} is no place in the text", problem);
        }
    }

    #[test]
    fn any_bytes_parse(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
        let text = String::from_utf8_lossy(&bytes);
        let parsed = parse(&text, SourceId(0), "any");
        prop_assert_eq!(rebuilt(&text, &parsed), text.as_ref());
    }
}

/// The problem of one instruction in a cell: code and message.
fn said(line: &str) -> Option<String> {
    let text = format!("%% a\nPOST /x\n\n{line}\n");
    let parsed = parse(&text, SourceId(0), "a");
    assert_eq!(parsed.file.cells.len(), 1, "{line}");
    parsed.problems.first().map(|problem| format!("{}: {}", problem.span.of(&text), problem.message))
}

#[test]
fn a_sequence_with_a_slip_lacks_no_request() {
    let record =
        |text: &str| parse(text, SourceId(0), "a").problems.iter().map(|problem| problem.code).collect::<Vec<_>>();
    assert_eq!(record("%% a\n% play b with c =\n%% b\n/x\n"), [Code::MalformedInstruction]);
    assert_eq!(record("%% a\n% needs\n%% b\n/x\n"), [Code::NoRequest, Code::MalformedInstruction]);
    assert_eq!(record("%% a\n%% b\n/x\n"), [Code::NoRequest]);
}

#[test]
fn instructions_about_sending_are_read_and_their_slips_told() {
    for line in [
        "% query grower = a = b",
        "% query bare",
        "% query {{'a' + '='}} = 1",
        "% field note =",
        "% part note = from here",
        "% part photo from \"two words.jpg\" type image/jpeg as {{'a b'}}.jpg",
        "% part {{' from '}} from x.jpg",
        "% body from {{'a b'}}/x.json verbatim",
        "% auth basic {{a + ' '}} \"two words\"",
        "% auth none",
        "% timeout 1m30s",
        "% redirects 0",
        "% cookies on",
        "% insecure",
        "% insecure off",
        "% save labels/{{lot}}.png",
        "% wait until body.state == 'every' every 500ms for 1m",
    ] {
        assert_eq!(said(line), None, "{line}");
    }
    for (line, message) in [
        ("% query = 1", ": `% query` is missing a name"),
        ("% field note", ": `% field` is missing `= TEXT`"),
        ("% field = 1", "= 1: `% field` is missing a name"),
        ("% part photo", ": `% part` is missing `= TEXT` or `from PATH`"),
        ("% part photo from x.jpg as", "as: missing value after `as`"),
        ("% part photo from x.jpg and y.jpg", "and: unexpected `and`"),
        ("% part photo from x.jpg as a as b", "as: duplicate `as`"),
        ("% body lots.json", "lots.json: `% body` is missing `from PATH`"),
        ("% body from", ": `% body from` is missing a path"),
        ("% body from two words.json", "words.json: unexpected `words.json`"),
        ("% auth", ": `% auth` is missing a scheme"),
        ("% auth baisc a b", "baisc: unknown authentication scheme `baisc`"),
        ("% auth basic clerk", ": `% auth basic` is missing a password"),
        ("% auth bearer a b", "b: unexpected argument `b`"),
        ("% timeout 5", "5: `5` is not a valid duration (at most 24h)"),
        ("% timeout", ": `% timeout` is missing a duration"),
        ("% redirects 51", "51: expected a number from 0 to 50"),
        ("% cookies", ": expected `on` or `off`"),
        ("% insecure no", "no: expected `on` or `off`, found `no`"),
        ("% save", ": `% save` is missing a path"),
        ("% save a b", "b: unexpected argument `b`"),
        ("% wait body.done every 1s for 2s", "body.done: `% wait` is missing `until`"),
        ("% wait until body.done", ": `% wait until` is missing `every DURATION for DURATION`"),
        ("% wait until body.done every 1 for 2s", "body.done: expected `EXPR every DURATION for DURATION`"),
        ("% skip environment", "environment: `% skip` is missing `when`"),
        ("% skip when", ": `% skip when` is missing an expression"),
        ("% each lot in \"lots.csv\"", "lot: `% each` is missing `row`"),
        ("% each row in", ": `% each row in` is missing a file"),
        ("% afterwards now", "now: `% afterwards` takes no arguments"),
        ("% play", ": `% play` is missing the name of a request"),
        ("% play a b = 1", "b: `% play` is missing `with`"),
        ("% play a with b", "b: expected `NAME = EXPRESSION` after `with`"),
        ("% play a with b = 1, status = 2", "status: `status` is reserved and cannot be a variable name"),
        ("% play a times 0", "0: expected a number from 1 to 10000"),
    ] {
        assert_eq!(said(line).as_deref(), Some(message), "{line}");
    }
    for line in ["% query a = 1", "% field a = 1", "% part a = 1", "% body from a", "% save a"] {
        let parsed = parse(&format!("{line}\n%% a\n/x\n"), SourceId(0), "a");
        assert_eq!(parsed.problems[0].code, Code::MisplacedInstruction, "{line}");
    }
}
