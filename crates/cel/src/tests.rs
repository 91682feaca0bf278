//! Tests of the syntax.

use crate::{Kind, MAX_DEPTH, NodeId, Tree, Unary, parse, print, tokens};
use proptest::prelude::*;

/// A tree as nested lists, without spans.
fn shape(tree: &Tree, id: NodeId) -> String {
    let of = |id: &NodeId| shape(tree, *id);
    let all = |ids: &[NodeId]| ids.iter().map(|id| format!(" {}", of(id))).collect::<String>();
    let mark = |optional: bool| if optional { "?" } else { "" };
    match &tree.node(id).kind {
        Kind::Error => "error".to_owned(),
        Kind::Literal(literal) => format!("{literal:?}"),
        Kind::Name { name, absolute } => format!("{}{name}", if *absolute { "." } else { "" }),
        Kind::Select { operand, field, optional, .. } => format!("(.{} {} {field})", mark(*optional), of(operand)),
        Kind::Has { operand, field, .. } => format!("(has {} {field})", of(operand)),
        Kind::Index { operand, index, optional } => format!("([{}] {} {})", mark(*optional), of(operand), of(index)),
        Kind::Call { function, receiver, arguments, absolute, .. } => {
            let receiver = receiver.map(|receiver| format!(" {}.", of(&receiver))).unwrap_or_default();
            format!("({}{function}{receiver}{})", if *absolute { "." } else { "" }, all(tree.list(*arguments)))
        }
        Kind::Macro { name, receiver, variables, arguments, .. } => {
            let names: Vec<&str> = variables.iter().map(|(name, _)| &**name).collect();
            format!("({name} {} |{}|{})", of(receiver), names.join(" "), all(tree.list(*arguments)))
        }
        Kind::Unary { operator, operand } => {
            format!("({} {})", if *operator == Unary::Not { "!" } else { "-" }, of(operand))
        }
        Kind::Binary { operator, left, right, .. } => format!("({} {} {})", operator.as_str(), of(left), of(right)),
        Kind::Conditional { condition, yes, no } => format!("(if {} {} {})", of(condition), of(yes), of(no)),
        Kind::List(elements) => {
            let element = |element: &crate::Element| format!(" {}{}", mark(element.optional), of(&element.value));
            format!("(list{})", elements.iter().map(element).collect::<String>())
        }
        Kind::Map(entries) => {
            let entry =
                |entry: &crate::Entry| format!(" {}{}: {}", mark(entry.optional), of(&entry.key), of(&entry.value));
            format!("(map{})", entries.iter().map(entry).collect::<String>())
        }
        Kind::Message { name, fields } => {
            let field = |field: &crate::Field| format!(" {}{}: {}", mark(field.optional), field.name, of(&field.value));
            format!("({name}{{{}}})", fields.iter().map(field).collect::<String>())
        }
    }
}

/// The shape of a text, or its errors: the part that each is about, and what is wrong.
fn read(text: &str) -> Result<String, Vec<String>> {
    let parsed = parse(text);
    if parsed.errors.is_empty() {
        return Ok(shape(&parsed.tree, parsed.tree.root()));
    }
    Err(parsed.errors.iter().map(|error| format!("`{}` {error}", error.span.of(text))).collect())
}

#[track_caller]
fn check(rows: &[(&str, &str)]) {
    for (text, expected) in rows {
        assert_eq!(read(text), Ok((*expected).to_owned()), "{text}");
    }
}

#[test]
fn literals_have_their_values() {
    check(&[
        ("null", "Null"),
        ("true", "Bool(true)"),
        ("24", "Int(24)"),
        ("-9223372036854775808", "Int(-9223372036854775808)"),
        ("0x1F", "Int(31)"),
        ("-0x80", "Int(-128)"),
        ("24u", "Uint(24)"),
        ("0xFFu", "Uint(255)"),
        ("18446744073709551615U", "Uint(18446744073709551615)"),
        ("1.5", "Double(1.5)"),
        (".5", "Double(0.5)"),
        ("1e3", "Double(1000.0)"),
        ("-1.5E-3", "Double(-0.0015)"),
        ("'a\\'b'", "String(\"a'b\")"),
        ("\"\"\"two\nlines \"quoted\\\"\"\"\"", "String(\"two\\nlines \\\"quoted\\\"\")"),
        ("r'\\d+'", "String(\"\\\\d+\")"),
        ("'\\u00e4\\U0001F34E\\x41\\101\\n'", "String(\"ä🍎AA\\n\")"),
        ("b'ä\\xff\\377'", "Bytes([195, 164, 255, 255])"),
        ("rB\"\\x\"", "Bytes([92, 120])"),
    ]);
}

#[test]
fn operators_bind_as_the_specification_says() {
    check(&[
        ("a || b && c == d + e * -f", "(|| a (&& b (== c (+ d (* e (- f))))))"),
        ("a - b - c", "(- (- a b) c)"),
        ("a < b == c", "(== (< a b) c)"),
        ("a in b", "(in a b)"),
        ("a ? b : c ? d : e", "(if a b (if c d e))"),
        ("(a ? b : c) ? d : e", "(if (if a b c) d e)"),
        ("!a.b", "(! (. a b))"),
        ("!!a", "(! (! a))"),
        ("--5", "(- Int(-5))"),
        ("-(5)", "(- Int(5))"),
        ("-5u", "(- Uint(5))"),
        ("!-5", "(! Int(-5))"),
        ("-a.b()", "(- (b a.))"),
        ("a // to the end\n + b", "(+ a b)"),
    ]);
}

#[test]
fn members_calls_and_collections_are_read() {
    check(&[
        ("a.b[0].c(d, e)", "(c ([] (. a b) Int(0)). d e)"),
        ("a.?b[?c]", "([?] (.? a b) c)"),
        ("a.`content-type`", "(. a content-type)"),
        ("a.for.package", "(. (. a for) package)"),
        (".a.b", "(. .a b)"),
        (".f(a)", "(.f a)"),
        ("[1, ?a, ]", "(list Int(1) ?a)"),
        ("{'a': 1, ?b: c}", "(map String(\"a\"): Int(1) ?b: c)"),
        ("[]", "(list)"),
        ("{}", "(map)"),
        ("a.b.C{d: 1, ?e: f}", "(a.b.C{ d: Int(1) ?e: f})"),
        (".C{}", "(.C{})"),
        ("5.f()", "(f Int(5).)"),
    ]);
}

#[test]
fn macros_bind_names() {
    check(&[
        ("has(a.b)", "(has a b)"),
        ("a.all(b, b > 1)", "(all a |b| (> b Int(1)))"),
        ("a.exists(k, v, k == v)", "(exists a |k v| (== k v))"),
        ("a.map(b, c, d)", "(map a |b| c d)"),
        ("a.filter(b, c)", "(filter a |b| c)"),
        ("a.transformList(k, v, w)", "(transformList a |k v| w)"),
        ("a.transformMap(k, v, w, x)", "(transformMap a |k v| w x)"),
        ("a.transformMapEntry(k, v, {v: k})", "(transformMapEntry a |k v| (map v: k))"),
        ("a.optMap(b, c)", "(optMap a |b| c)"),
        ("cel.bind(a, b, c)", "(cel.bind b |a| c)"),
        // With other arguments they are plain calls.
        ("a.all(b)", "(all a. b)"),
        ("all(a, b)", "(all a b)"),
        ("has(a.b, c)", "(has (. a b) c)"),
        ("cel.bind(a)", "(bind cel. a)"),
    ]);
}

#[test]
fn all_errors_are_reported_with_their_places() {
    for (text, errors) in [
        ("", &["`` expected an expression, found the end"][..]),
        ("a +", &["`` expected an expression, found the end"]),
        ("a b", &["`b` expected an operator or the end, found `b`"]),
        ("a ? b", &["`` expected `:`, found the end"]),
        ("(a", &["`` expected `,` or `)`, found the end"]),
        ("f(a,)", &["`)` expected an expression, found `)`"]),
        ("[a b, c] + d", &["`b` expected `,` or `]`, found `b`"]),
        ("{a}", &["`}` expected `:`, found `}`"]),
        ("a.1", &["`.1` expected an operator or the end, found `.1`"]),
        ("a.true", &["`true` expected the name of a member, found `true`"]),
        ("a == 'open", &["`'open` the string is not closed"]),
        (
            "'a\nc'",
            &[
                "`'a` a string in single quotes cannot span lines: use three quotes",
                "`c` expected an operator or the end, found `c`",
            ],
        ),
        ("'\\q' + '\\u12'", &["`\\q` `\\q` is not an escape sequence", "`\\u12` `\\u12` is not an escape sequence"]),
        ("'\\ud800'", &["`\\ud800` `\\ud800` is not a character code"]),
        ("b'\\u0041'", &["`\\u` `\\u` is not an escape sequence"]),
        ("9223372036854775808", &["`9223372036854775808` `9223372036854775808` does not fit into 64 bits"]),
        ("12abc + 0x", &["`12abc` `12abc` is not a number", "`0x` `0x` is not a number"]),
        ("1e400", &["`1e400` `1e400` is not a number"]),
        ("a $ b", &["`$` `$` is not part of an expression"]),
        ("for + while()", &["`for` `for` is a reserved word", "`while` `while` is a reserved word"]),
        ("has(a)", &["`a` `has` needs a member, as in `has(a.b)`"]),
        ("a.map(b.c, d)", &["`b.c` the variable of `map` must be a name"]),
        ("a.all(k, k, true)", &["`k` the two variables of `all` have the same name"]),
        ("a.transformMapEntry(k, v, v)", &["`v` `transformMapEntry` needs an entry, as in `{key: value}`"]),
        ("!-a", &["`-` expected an operand, found `-`"]),
        ("a = b", &["`=` `=` is not part of an expression"]),
        ("a.`b.c`()", &["`(` expected an operator or the end, found `(`"]),
    ] {
        let errors: Vec<String> = errors.iter().map(|error| (*error).to_owned()).collect();
        assert_eq!(read(text), Err(errors), "{text}");
    }
}

#[test]
fn nodes_know_their_part_of_the_text() {
    let text = " a.b [ 0 ]  + (f( x ) )";
    let parsed = parse(text);
    let spans: Vec<&str> = parsed.tree.nodes().map(|(_, node)| node.span.of(text)).collect();
    assert_eq!(spans, ["a", "a.b", "0", "a.b [ 0 ]", "x", "f( x )", "a.b [ 0 ]  + (f( x ) )"]);
}

#[test]
fn levels_are_limited_and_chains_are_not() {
    let nested = |levels: usize| format!("{}a{}", "(".repeat(levels), ")".repeat(levels));
    assert_eq!(read(&nested(MAX_DEPTH - 1)), Ok("a".to_owned()));
    for text in [nested(MAX_DEPTH), "[".repeat(5_000), "!".repeat(5_000), "a ? b : ".repeat(5_000), "f(".repeat(5_000)]
    {
        let errors = parse(&text).errors;
        assert_eq!(errors.len(), 1, "{errors:?}");
        assert_eq!(errors[0].to_string(), "nesting is deeper than 200 levels");
    }
    // An error for each element, in a time that does not grow with their square.
    assert_eq!(parse(&format!("[{}]", "$,".repeat(200_000))).errors.len(), 200_000);
    for chain in [" + a", ".a", "[0]", ".f()", " && a", ".all(b, c)"] {
        let text = format!("a{}", chain.repeat(20_000));
        let parsed = parse(&text);
        assert_eq!(parsed.errors, [], "{chain}");
        assert_eq!(print(&parsed.tree), text, "{chain}");
    }
}

/// Texts that follow the grammar.
pub(crate) fn expression() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![
        "[a-d]",
        "[0-9]{1,3}u?",
        Just("-7".to_owned()),
        Just("-7u".to_owned()),
        Just("1.5e300".to_owned()),
        Just("-0.0".to_owned()),
        Just("\"a\\n\\\"ä\\u009b\"".to_owned()),
        Just("b'\\x00\\\"~'".to_owned()),
        Just("[]".to_owned()),
        Just("null".to_owned()),
    ];
    leaf.prop_recursive(6, 60, 4, |inner| {
        let operator = prop_oneof![
            Just("||"),
            Just("&&"),
            Just("=="),
            Just("!="),
            Just("<"),
            Just(">="),
            Just("in"),
            Just("+"),
            Just("-"),
            Just("*"),
            Just("/"),
            Just("%"),
        ];
        prop_oneof![
            (inner.clone(), operator, inner.clone())
                .prop_map(|(left, operator, right)| format!("({left}) {operator} ({right})")),
            (inner.clone(), inner.clone(), inner.clone()).prop_map(|(a, b, c)| format!("({a}) ? ({b}) : ({c})")),
            ("[!-]", inner.clone()).prop_map(|(operator, operand)| format!("{operator}({operand})")),
            inner.clone().prop_map(|operand| format!("({operand}).f.`g-h`")),
            inner.clone().prop_map(|operand| format!("has(({operand}).g)")),
            (inner.clone(), inner.clone()).prop_map(|(operand, index)| format!("({operand})[?({index})]")),
            (inner.clone(), inner.clone()).prop_map(|(operand, argument)| format!("({operand}).m({argument}, 1)")),
            (inner.clone(), inner.clone()).prop_map(|(range, body)| format!("({range}).exists(k, v, ({body}))")),
            (inner.clone(), inner.clone()).prop_map(|(value, body)| format!("cel.bind(x, {value}, {body})")),
            (inner.clone(), inner.clone()).prop_map(|(key, value)| format!("{{({key}): ({value}), ?'k': 1}}")),
            (inner.clone(), inner).prop_map(|(a, b)| format!("p.T{{f: ({a}), ?g: ({b})}}")),
        ]
    })
}

/// Texts of the signs and words of the language, in any order.
pub(crate) fn jumble() -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        Just("("),
        Just(")"),
        Just("["),
        Just("]"),
        Just("{"),
        Just("}"),
        Just(","),
        Just(":"),
        Just("?"),
        Just("."),
        Just("-"),
        Just("!"),
        Just("&&"),
        Just("in"),
        Just("has("),
        Just(".map(x,"),
        Just("'"),
        Just("\"\"\""),
        Just("\\"),
        Just("b'"),
        Just("0x"),
        Just("1e"),
        Just("9"),
        Just("a"),
        Just(" "),
        Just("\n"),
        Just("//"),
        Just("`"),
        Just("ä"),
        Just("cel.bind("),
    ];
    proptest::collection::vec(piece, 0..40).prop_map(|pieces| pieces.concat())
}

proptest! {
    #[test]
    fn what_is_printed_is_read_as_the_same(text in expression()) {
        let parsed = parse(&text);
        prop_assert_eq!(&parsed.errors, &[], "{}", text);
        let printed = print(&parsed.tree);
        let again = parse(&printed);
        prop_assert_eq!(&again.errors, &[], "{} printed as {}", text, printed);
        prop_assert_eq!(shape(&again.tree, again.tree.root()), shape(&parsed.tree, parsed.tree.root()), "{}", printed);
        prop_assert_eq!(print(&again.tree), printed);
    }

    #[test]
    fn any_text_has_a_tree_and_its_tokens_are_the_text(text in prop_oneof![jumble(), any::<String>()]) {
        let joined: String = tokens(&text).iter().map(|token| token.span.of(&text)).collect();
        prop_assert_eq!(&joined, &text);
        let parsed = parse(&text);
        let root = parsed.tree.node(parsed.tree.root());
        prop_assert!(root.span.end() <= text.len());
        let has_error = parsed.tree.nodes().any(|(_, node)| node.kind == Kind::Error);
        prop_assert!(!has_error || !parsed.errors.is_empty(), "{}: a part that cannot be read has an error", text);
        for error in &parsed.errors {
            prop_assert!(text.get(error.span.start()..error.span.end()).is_some(), "{}: {:?}", text, error);
        }
    }
}
