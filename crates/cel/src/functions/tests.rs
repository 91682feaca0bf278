//! Tests of the libraries: for each function what it gives, and what it refuses.

use crate::{Limits, Nothing, Open, Program};

/// The value of an expression, or its error.
fn run(text: &str) -> String {
    let (program, errors) = Program::compile(text, &Open);
    if let Some(error) = errors.first() {
        return format!("not compiled: {error}");
    }
    match program.evaluate(&Nothing, Limits::default(), None) {
        Ok(value) => format!("{value:?}"),
        Err(error) => format!("error: {error}"),
    }
}

#[track_caller]
fn check(rows: &[(&str, &str)]) {
    for (text, expected) in rows {
        assert_eq!(run(text), *expected, "{text}");
    }
}

#[test]
fn the_standard_library() {
    check(&[
        ("size('Äpfel')", "5"),
        ("size(b'\\xff\\x00')", "2"),
        ("[1, [2, 3]].size()", "2"),
        ("{'gala': 1, 'fuji': 2}.size()", "2"),
        ("size(24)", "not compiled: `size` does not take int"),
        ("size(dyn(24))", "error: `size` does not take int"),
        ("'gala'.contains('al')", "true"),
        ("'gala'.startsWith('al')", "false"),
        ("'gala'.endsWith('la')", "true"),
        ("''.contains('')", "true"),
        ("'L-2043'.matches('^L-[0-9]+$')", "true"),
        ("matches('lot L-2043', 'L-[0-9]{4}')", "true"),
        ("'gala'.matches('G')", "false"),
        ("type(1u)", "uint"),
        ("type(type(1))", "type"),
        ("type(timestamp(0)) == google.protobuf.Timestamp", "true"),
        ("type([]) in [map, list]", "true"),
        ("dyn(1) == 1.0", "true"),
        ("'a' in {'a': null}", "true"),
        ("2.0 in [1, 2]", "true"),
        ("[1] in [[1.0], 'x']", "true"),
        ("'gala' < 'gale' && b'a' < b'b' && false < true", "true"),
        ("duration('1s') < duration('1001ms')", "true"),
        ("timestamp(1) > timestamp(0)", "true"),
    ]);
}

#[test]
fn conversions() {
    check(&[
        ("int('-24')", "-24"),
        ("int(3.99) + int(-3.99)", "0"),
        ("int(24u)", "24"),
        ("int(timestamp('1970-01-02T00:00:01Z'))", "86401"),
        ("int('24 bins')", "error: `24 bins` is not an integer"),
        ("int('')", "error: `` is not an integer"),
        ("int(1e19)", "error: the result is out of the range of int"),
        ("int(double('NaN'))", "error: the result is out of the range of int"),
        ("int(18446744073709551615u)", "error: the result is out of the range of int"),
        ("uint('24')", "24u"),
        ("uint(0.9)", "0u"),
        ("uint(-1)", "error: the result is out of the range of uint"),
        ("uint(-1.0)", "error: the result is out of the range of uint"),
        ("double('11.5') + double(1) + double(1u)", "13.5"),
        ("double('kg')", "error: `kg` is not a number"),
        ("string(11.5) + string(-3) + string(4u)", "\"11.5-34\""),
        ("string(true) + string(b'ja')", "\"trueja\""),
        ("string(b'\\xff')", "error: the bytes are not UTF-8"),
        ("string(1e400 > 0.0)", "not compiled: `1e400` is not a number"),
        ("string(-1.0 / 0.0)", "\"-Infinity\""),
        ("string([1])", "not compiled: `string` does not take list(int)"),
        ("string(dyn(null))", "error: `string` does not take null_type"),
        ("bytes('ä')", "b\"\\xc3\\xa4\""),
        ("bool('True') && bool('t') && !bool('0')", "true"),
        ("bool('yes')", "error: `yes` is not true or false"),
        ("string(timestamp('2026-09-14T08:30:00+02:00'))", "\"2026-09-14T06:30:00Z\""),
        ("string(timestamp('2026-09-14T06:30:00.120Z'))", "\"2026-09-14T06:30:00.120Z\""),
        ("timestamp('2026-09-14 06:30:00Z')", "error: `2026-09-14 06:30:00Z` is not an RFC 3339 timestamp"),
        ("timestamp('2026-09-14')", "error: `2026-09-14` is not an RFC 3339 timestamp"),
        ("timestamp(253402300800)", "error: the result is out of the range of timestamp"),
        ("duration('1h30m') == duration('90m')", "true"),
        ("duration('1.5s') == duration('1500ms')", "true"),
        ("duration('-2us') < duration('0')", "true"),
        ("string(duration('1h0.000000001s'))", "\"3600.000000001s\""),
        ("string(duration('-250ms'))", "\"-0.25s\""),
        ("duration('5')", "error: `5` is not a duration such as `1h30m` or `250ms`"),
        ("duration('1.2.3s')", "error: `1.2.3s` is not a duration such as `1h30m` or `250ms`"),
        ("duration('s')", "error: `s` is not a duration such as `1h30m` or `250ms`"),
        ("duration('')", "error: `` is not a duration such as `1h30m` or `250ms`"),
        (
            "duration('300000h') < duration('9999999h')",
            "error: `9999999h` is not a duration such as `1h30m` or `250ms`",
        ),
    ]);
}

#[test]
fn parts_of_times() {
    check(&[
        ("timestamp('2026-09-14T06:30:05.250Z').getFullYear()", "2026"),
        ("timestamp('2026-09-14T06:30:05.250Z').getMonth()", "8"),
        ("timestamp('2026-09-14T06:30:05.250Z').getDate()", "14"),
        ("timestamp('2026-09-14T06:30:05.250Z').getDayOfMonth()", "13"),
        ("timestamp('2026-09-14T06:30:05.250Z').getDayOfWeek()", "1"),
        ("timestamp('2026-09-14T06:30:05.250Z').getDayOfYear()", "256"),
        ("timestamp('2026-09-14T06:30:05.250Z').getHours()", "6"),
        ("timestamp('2026-09-14T06:30:05.250Z').getMinutes()", "30"),
        ("timestamp('2026-09-14T06:30:05.250Z').getSeconds()", "5"),
        ("timestamp('2026-09-14T06:30:05.250Z').getMilliseconds()", "250"),
        ("timestamp('2026-09-14T23:30:00Z').getDate('Europe/Berlin')", "15"),
        ("timestamp('2026-12-14T23:30:00Z').getHours('Europe/Berlin')", "0"),
        ("timestamp('2026-09-14T23:30:00Z').getHours('-08:00')", "15"),
        ("timestamp('2026-09-14T23:30:00Z').getMinutes('+05:45')", "15"),
        ("timestamp('9999-12-31T23:30:00Z').getHours('Europe/Berlin')", "0"),
        ("timestamp(0).getHours('Europe/Berln')", "error: `getHours`: unknown time zone `Europe/Berln`"),
        ("timestamp(0).getHours('europe/berlin')", "error: `getHours`: unknown time zone `europe/berlin`"),
        ("timestamp(0).getHours('+25:00')", "error: `getHours`: unknown time zone `+25:00`"),
        ("timestamp(0).getHours('+1:00')", "error: `getHours`: unknown time zone `+1:00`"),
        ("duration('90m').getHours()", "1"),
        ("duration('90m').getMinutes()", "90"),
        ("duration('90m').getSeconds()", "5400"),
        ("duration('1.25s').getMilliseconds()", "250"),
        ("duration('1s').getFullYear()", "not compiled: `getFullYear` does not take duration"),
        ("timestamp(10) - timestamp(4) == duration('6s')", "true"),
        ("timestamp(10) - duration('4s') + duration('1s') == timestamp(7)", "true"),
        ("duration('4s') - duration('6s') == -duration('2s')", "true"),
        ("timestamp(1) + timestamp(2)", "not compiled: `+` does not take timestamp, timestamp"),
        ("timestamp('9999-12-31T23:59:59Z') + duration('1s')", "error: the result is out of the range of timestamp"),
    ]);
}

#[test]
fn strings() {
    check(&[
        ("'Äpfel'.charAt(0) + 'Äpfel'.charAt(5)", "\"Ä\""),
        ("'gala'.charAt(5)", "error: `charAt`: the index 5 is out of range"),
        ("'gala'.charAt(-1)", "error: `charAt`: the index -1 is out of range"),
        ("'Ä-Ä-Ä'.indexOf('Ä', 1)", "2"),
        ("'gala'.indexOf('x')", "-1"),
        ("'gala'.indexOf('', 4)", "4"),
        ("'Ä-Ä-Ä'.lastIndexOf('Ä')", "4"),
        ("'Ä-Ä-Ä'.lastIndexOf('Ä', 3)", "2"),
        ("'gala'.lastIndexOf('')", "4"),
        ("['gala', 'fuji'].join(', ')", "\"gala, fuji\""),
        ("[].join('-') + ['gala'].join()", "\"gala\""),
        ("['gala', dyn(3)].join()", "error: `join` does not take list"),
        ("'Gala Ä'.lowerAscii() + 'Gala ä'.upperAscii()", "\"gala ÄGALA ä\""),
        ("'L-1 L-2 L-3'.replace('L-', '', 2)", "\"1 2 L-3\""),
        ("'gala'.replace('', '.')", "\".g.a.l.a.\""),
        ("'gala'.replace('a', 'o', 0)", "\"gala\""),
        ("'gala'.replace('a', 'o', -1)", "\"golo\""),
        ("'a,b,c'.split(',')", "[\"a\", \"b\", \"c\"]"),
        ("'a,b,c'.split(',', 2)", "[\"a\", \"b,c\"]"),
        ("'a,b,c'.split(',', 0)", "[]"),
        ("'aÄc'.split('')", "[\"a\", \"Ä\", \"c\"]"),
        ("'aÄc'.split('', 2)", "[\"a\", \"Äc\"]"),
        ("''.split(',')", "[\"\"]"),
        ("'Äpfel'.substring(1) + 'Äpfel'.substring(0, 1)", "\"pfelÄ\""),
        ("'gala'.substring(3, 2)", "error: `substring`: the end 2 is before the start 3"),
        ("'gala'.substring(1, 9)", "error: `substring`: the index 9 is out of range"),
        ("' \\t gala\\u00a0'.trim()", "\"gala\""),
        ("'Äpf'.reverse()", "\"fpÄ\""),
        ("[1, 2].reverse()", "[2, 1]"),
        ("strings.quote('say \"gala\"\\n\\\\')", "\"\\\"say \\\\\\\"gala\\\\\\\"\\\\n\\\\\\\\\\\"\""),
    ]);
}

#[test]
fn formats() {
    check(&[
        ("'%s has %d bins, %.1f kg'.format(['L-1', 24, 11.55])", "\"L-1 has 24 bins, 11.6 kg\""),
        ("'%d%%'.format([42u])", "\"42%\""),
        ("'%s'.format([[1, 'a', null, b'c', {'k': 2.5}]])", "\"[1, a, null, c, {k: 2.5}]\""),
        ("'%s'.format([{'b': 1, 'a': [true]}])", "\"{a: [true], b: 1}\""),
        ("'%s %s'.format([timestamp(0), duration('1.5s')])", "\"1970-01-01T00:00:00Z 1.5s\""),
        ("'%e %.0e'.format([24.0, 0.00012])", "\"2.400000e+01 1e-04\""),
        ("'%f'.format([24])", "\"24.000000\""),
        ("'%b %o %x %X'.format([5, 8, -255, 255u])", "\"101 10 -ff FF\""),
        ("'%x'.format(['gala'])", "\"67616c61\""),
        ("'%X'.format([b'\\xfe'])", "\"FE\""),
        ("'%b'.format([true])", "\"1\""),
        ("'%d'.format([1.0 / 0.0])", "\"Infinity\""),
        ("'%s'.format([])", "error: `format`: `%s` needs argument 1, but only 0 were given"),
        ("'%q'.format([1])", "error: `format`: unknown format verb `%q`; available: %s, %d, %f, %e, %b, %o, %x and %X"),
        ("'100%'.format([])", "error: `format`: incomplete `%` at the end of the format"),
        ("'%.9999f'.format([1.0])", "error: `format`: after `%.` must be a number up to 1000"),
        ("'%d'.format(['24'])", "error: `format`: `%d` cannot format a value of type string"),
        ("'%x'.format([1.5])", "error: `format`: `%x` cannot format a value of type double"),
        ("'%s'.format([optional.of(1)])", "error: `format`: `%s` cannot format a value of type optional_type"),
    ]);
}

#[test]
fn math() {
    check(&[
        ("math.greatest(3, 4.5, 2u)", "4.5"),
        ("math.greatest([3, 40, 12])", "40"),
        ("math.least(3, 3.0)", "3"),
        ("math.least(dyn([]))", "error: `math.least`: the list is empty"),
        ("math.least(dyn('a'))", "error: `math.least` does not take string"),
        ("math.ceil(11.2) + math.floor(11.8)", "23.0"),
        ("math.round(-2.5)", "-3.0"),
        ("math.trunc(-2.9)", "-2.0"),
        ("math.sqrt(16) + math.sqrt(9.0)", "7.0"),
        ("math.abs(-3) + math.abs(3)", "6"),
        ("math.abs(-2.5)", "2.5"),
        ("math.abs(-9223372036854775808)", "error: the result is out of the range of int"),
        ("[math.sign(-3), math.sign(0), math.sign(7)]", "[-1, 0, 1]"),
        ("math.sign(-0.5)", "-1.0"),
        ("math.sign(7u)", "1u"),
        ("math.isNaN(0.0 / 0.0) && math.isInf(1.0 / 0.0) && math.isFinite(1.0)", "true"),
        ("math.ceil(3)", "not compiled: `math.ceil` does not take int"),
        ("[math.bitAnd(6, 3), math.bitOr(6, 3), math.bitXor(6, 3), math.bitNot(6)]", "[2, 7, 5, -7]"),
        ("math.bitNot(0u)", "18446744073709551615u"),
        ("[math.bitShiftLeft(1, 4), math.bitShiftRight(16, 4), math.bitShiftLeft(1, 64)]", "[16, 1, 0]"),
        ("math.bitShiftRight(-1, 60)", "15"),
        ("math.bitShiftLeft(1, -1)", "error: `math.bitShiftLeft`: cannot shift by a negative number: -1"),
    ]);
}

#[test]
fn arithmetic() {
    check(&[
        ("7 / 2 * 2 + 7 % 2", "7"),
        ("-7 / 2", "-3"),
        ("-7 % 2", "-1"),
        ("7u / 2u + 7u % 4u", "6u"),
        ("1u - 2u", "error: the result is out of the range of uint"),
        ("9223372036854775807 * 2", "error: the result is out of the range of int"),
        ("-9223372036854775808 / -1", "error: the result is out of the range of int"),
        ("-(-9223372036854775808)", "error: the result is out of the range of int"),
        ("1 % 0", "error: division by zero"),
        ("1u / 0u", "error: division by zero"),
        ("1.0 / 0.0 > 1e300", "true"),
        ("2.5 % 2.0", "not compiled: `%` does not take double, double"),
        ("1 + 1u", "not compiled: `+` does not take int, uint"),
        ("dyn(1) + dyn(1.0)", "error: `+` does not take int, double"),
        ("'ga' + 'la'", "\"gala\""),
        ("b'a' + b'b'", "b\"ab\""),
        ("[1] + ['a']", "[1, \"a\"]"),
        ("-'a'", "not compiled: `-` does not take string"),
        ("-1u", "not compiled: `-` does not take uint"),
        ("!dyn(1)", "error: `!` does not take int"),
        ("1 < 1.5 && 2u > 1 && 1.0 == 1u", "true"),
        ("0.0 / 0.0 == 0.0 / 0.0 || 0.0 / 0.0 < 1.0", "false"),
    ]);
}

#[test]
fn logic() {
    check(&[
        ("1 / 0 > 0 || true", "true"),
        ("true || 1 / 0 > 0", "true"),
        ("1 / 0 > 0 && false", "false"),
        ("1 / 0 > 0 && true", "error: division by zero"),
        ("false || 1 / 0 > 0", "error: division by zero"),
        ("dyn('a') || true", "true"),
        ("dyn('a') || false", "error: `||` does not take string"),
        ("true ? 1 : 1 / 0", "1"),
        ("1 / 0 > 0 ? 1 : 2", "error: division by zero"),
        ("[1, 2, 3].all(n, 6 / (n - 2) > 0)", "false"),
        ("[2, 3].all(n, 6 / (n - 2) > 0)", "error: division by zero"),
        ("[2, 3].exists(n, 6 / (n - 2) > 0)", "true"),
        ("[1, 2, 2].exists_one(n, n == 2)", "false"),
        ("[1, 2].exists_one(n, n == 2) && [1, 2].existsOne(i, n, i == n - 1 && n == 2)", "true"),
        ("[].all(n, false) && ![].exists(n, true)", "true"),
        ("dyn(1).all(n, true)", "error: int has no elements to go through"),
    ]);
}

#[test]
fn loops() {
    check(&[
        ("[1, 2, 3].map(n, n % 2 == 1, n * n)", "[1, 9]"),
        ("{'a': 1, 'b': 2}.map(k, k + '!')", "[\"a!\", \"b!\"]"),
        ("{'a': 1, 'b': 2}.filter(k, k > 'a')", "[\"b\"]"),
        ("['x', 'y'].transformList(i, v, v + string(i))", "[\"x0\", \"y1\"]"),
        ("['x', 'y'].transformList(i, v, i > 0, v)", "[\"y\"]"),
        ("['x', 'y'].transformMap(i, v, v + '!')", "{0: \"x!\", 1: \"y!\"}"),
        ("{'a': 1, 'b': 2}.transformMap(k, v, v > 1, v * 10)", "{\"b\": 20}"),
        ("['x', 'y'].transformMapEntry(i, v, {v: i})", "{\"x\": 0, \"y\": 1}"),
        ("['x', 'x'].transformMapEntry(i, v, {v: i})", "error: the key `x` appears twice"),
        ("['x'].transformMapEntry(i, v, {1.5: v})", "not compiled: double cannot be the key of a map"),
        ("{'a': 1}.all(k, v, k == 'a' && v == 1)", "true"),
        ("[1, 2].exists(i, v, i == v)", "false"),
        ("[[1, 2], [3]].map(l, l.map(n, n + size(l)))", "[[3, 4], [4]]"),
        ("cel.bind(x, 2, cel.bind(y, x + 1, x * y))", "6"),
        ("cel.bind(x, 1 / 0, 2)", "error: division by zero"),
        ("[1, 2].map(x, cel.bind(x, x * 10, x + 1))", "[11, 21]"),
        ("cel.block([2, cel.index(0) + 1], cel.index(0) * cel.index(1))", "6"),
        ("cel.index(0)", "not compiled: there is no function `cel.index`"),
    ]);
}

#[test]
fn lists() {
    check(&[
        ("[1, 2, 3].slice(1, 3)", "[2, 3]"),
        ("[1, 2].slice(0, 3)", "error: `slice`: there is no element 3: the list has 2"),
        ("[1, 2].slice(2, 1)", "error: `slice`: the end 1 is before the start 2"),
        ("[1, 2].slice(-1, 1)", "error: `slice`: there is no element -1: the list has 2"),
        ("[1, [2, [3]]].flatten()", "[1, 2, [3]]"),
        ("[1, [2, [3]]].flatten(5)", "[1, 2, 3]"),
        ("[1, [2]].flatten(0)", "[1, [2]]"),
        ("[1].flatten(-1)", "error: `flatten`: levels cannot be negative: -1"),
        ("[1, 2, 1.0, 'a', 'a'].distinct()", "[1, 2, \"a\"]"),
        ("[3, 1.5, 2u].sort()", "[1.5, 2u, 3]"),
        ("['b', 'a'].sort()", "[\"a\", \"b\"]"),
        ("[].sort()", "[]"),
        ("[1, 'a'].sort()", "error: `sort`: a int and a string cannot be compared"),
        ("[[1], [2]].sort()", "error: `sort`: values of type list cannot be ordered"),
        ("[{'n': 2}, {'n': 1}].sortBy(x, x.n)", "[{\"n\": 1}, {\"n\": 2}]"),
        ("['bb', 'a', 'cc'].sortBy(x, size(x))", "[\"a\", \"bb\", \"cc\"]"),
        ("[7, 8].first().value() + [7, 8].last().value()", "15"),
        ("[].first().hasValue() || [].last().hasValue()", "false"),
        ("lists.range(3)", "[0, 1, 2]"),
        ("lists.range(-3)", "[]"),
    ]);
}

#[test]
fn sets_and_encoders() {
    check(&[
        ("sets.contains(['gala', 'fuji'], ['fuji'])", "true"),
        ("sets.contains([1], [1.0, 1u])", "true"),
        ("sets.contains([], [1])", "false"),
        ("sets.equivalent([1, 2, 1], [2, 1])", "true"),
        ("sets.equivalent([1], [1, 2])", "false"),
        ("sets.intersects([1, 2], [2, 3]) && !sets.intersects([1], [])", "true"),
        ("base64.encode(b'apple')", "\"YXBwbGU=\""),
        ("base64.decode('YXBwbGU') == base64.decode('YXBwbGU=')", "true"),
        ("base64.decode('a')", "error: `base64.decode`: the string is not base64 (RFC 4648 4)"),
        ("base64.encode('apple')", "not compiled: `base64.encode` does not take string"),
    ]);
}

#[test]
fn optionals() {
    check(&[
        ("optional.of(24)", "optional.of(24)"),
        ("optional.none()", "optional.none()"),
        ("optional.ofNonZeroValue('')", "optional.none()"),
        ("optional.ofNonZeroValue(0.5)", "optional.of(0.5)"),
        ("[optional.ofNonZeroValue([]), optional.ofNonZeroValue(null)].unwrapOpt()", "[]"),
        ("optional.unwrap([optional.of(1), optional.none(), optional.of(3)])", "[1, 3]"),
        ("optional.unwrap([1])", "not compiled: `optional.unwrap` does not take list(int)"),
        ("{'a': {'b': 1}}.?a.?b", "optional.of(1)"),
        ("{'a': {'b': 1}}.?a.b.value()", "1"),
        ("{'a': 1}.?c.or(optional.of(2)).value()", "2"),
        ("{'a': 1}.?a.orValue(2) + {'a': 1}.?b.orValue(2)", "3"),
        ("[1, 2][?5].hasValue()", "false"),
        ("[1, 2][?1]", "optional.of(2)"),
        ("{'a': 1}.?a.optMap(x, x + 1)", "optional.of(2)"),
        ("{}.?a.optMap(x, x + 1)", "optional.none()"),
        ("{'a': {'b': 1}}.?a.optFlatMap(x, x.?b)", "optional.of(1)"),
        ("{'a': 1}.?a.optFlatMap(x, x)", "not compiled: this must be an optional, not int"),
        ("[?optional.of(1), ?optional.none(), 3]", "[1, 3]"),
        ("{?'a': optional.none(), 'b': 2}", "{\"b\": 2}"),
        ("[?1]", "not compiled: this must be an optional, not int"),
        ("[?dyn(1)]", "error: a value after `?` must be an optional, not int"),
        ("has({'a': optional.of({'b': 1})}.a.b)", "true"),
        ("dyn(1).optMap(x, x)", "error: a value after `?` must be an optional, not int"),
    ]);
}

#[test]
fn regular_expressions() {
    check(&[
        ("regex.extract('lot L-2043', 'L-([0-9]+)')", "optional.of(\"2043\")"),
        ("regex.extract('lot L-2043', 'L-[0-9]+').value()", "\"L-2043\""),
        ("regex.extract('lot', 'L-')", "optional.none()"),
        (
            "regex.extract('a', '(a)(b)?')",
            "error: `regex.extract`: `(a)(b)?` has 2 groups, but at most one can be extracted",
        ),
        ("regex.extractAll('L-1 L-2', 'L-([0-9])')", "[\"1\", \"2\"]"),
        ("regex.extractAll('a', 'x')", "[]"),
        ("regex.replace('L-1 L-2', 'L-([0-9])', '#\\\\1')", "\"#1 #2\""),
        ("regex.replace('L-1 L-2', 'L', 'M', 1)", "\"M-1 L-2\""),
        ("regex.replace('a', 'a', '\\\\0\\\\0\\\\\\\\')", "\"aa\\\\\""),
        ("regex.replace('a', 'a', '\\\\2')", "error: `regex.replace`: there is no group 2"),
        (
            "regex.replace('a', 'a', '\\\\x')",
            "error: `regex.replace`: after `\\` must be the number of a group, or another `\\`",
        ),
        ("regex.extract('a', '[')", "error: `regex.extract`: invalid regular expression `[`: unclosed character class"),
    ]);
}

#[test]
fn network_addresses() {
    check(&[
        ("string(ip('2001:db8:0:0::1'))", "\"2001:db8::1\""),
        ("ip('192.0.2.7') == ip('192.0.2.7') && ip('192.0.2.7') != ip('192.0.2.8')", "true"),
        ("ip('192.0.2.7').family() + ip('::1').family()", "10"),
        ("ip('192.0.2')", "error: `192.0.2` is not an IP address"),
        ("isIP('::ffff:192.0.2.1') || isIP('fe80::1%eth0')", "false"),
        ("isIP('192.0.2.7') && isCIDR('192.0.2.0/24') && !isCIDR('192.0.2.0/33')", "true"),
        ("ip.isCanonical('2001:DB8::1')", "false"),
        ("ip('127.0.0.1').isLoopback() && ip('0.0.0.0').isUnspecified()", "true"),
        ("ip('169.254.0.1').isLinkLocalUnicast() && ip('224.0.0.1').isLinkLocalMulticast()", "true"),
        ("ip('192.0.2.7').isGlobalUnicast() && !ip('255.255.255.255').isGlobalUnicast()", "true"),
        ("string(cidr('192.0.2.7/24').masked())", "\"192.0.2.0/24\""),
        ("cidr('192.0.2.0/24').containsIP('192.0.2.7') && !cidr('192.0.2.0/24').containsIP(ip('192.0.3.7'))", "true"),
        ("cidr('192.0.2.0/24').containsIP('::1')", "false"),
        ("cidr('10.0.0.0/8').containsCIDR('10.1.0.0/16') && !cidr('10.1.0.0/16').containsCIDR('10.0.0.0/8')", "true"),
        ("cidr('2001:db8::/0').containsIP('::1')", "true"),
        ("cidr('192.0.2.0/24').prefixLength() + size(string(cidr('192.0.2.0/24').ip()))", "33"),
        ("cidr('192.0.2.0')", "error: `192.0.2.0` is not an address range such as `192.0.2.0/24`"),
        ("type(ip('::1')) == net.IP && type(cidr('::/0')) == net.CIDR", "true"),
    ]);
}
