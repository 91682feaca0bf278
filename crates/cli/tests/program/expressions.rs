//! Expressions on the built program: errors before anything is sent, values, explanations.

use crate::support::{TestWorkspace, answer, server};
use std::time::Duration;

const BODY: &str = r#"{ "zone": "C", "id": 123456789012345678901234567890, "kg": 0.10000000000000000001, "lots": [
    {"id": "L-2", "bins": 40, "note": null}, {"id": "L-1", "bins": 3}], "alpha": true, "zone": "D" }"#;

/// A workspace whose server gives the response above.
fn workspace(file: &str) -> TestWorkspace {
    let base = server(|_| (Duration::ZERO, answer("application/json", BODY)));
    TestWorkspace::empty().file("yieldtray.toml", &format!("[values]\nbase = '{base}'\n")).file("a.http", file)
}

#[test]
fn all_errors_are_told_before_anything_is_sent() {
    let workspace = workspace(
        "%% a\nGET /\n\n% check status == \"200\" && lowr(text) == 'a' && sent.header == 'b' && size > 'c'\n% check elapsed\n",
    );
    let run = workspace.run(&["send", "a.http", "--no-log"]).exits(2);
    assert_eq!(run.stdout, "");
    let expected = r#"error[mismatched-types]: an integer never equals a string
 --> a.http:4:16
  |
4 | % check status == "200" && lowr(text) == 'a' && sent.header == 'b' && size > 'c'
  |                ^^
  |
  = hint: use `int(…)` to convert a string to a number, or remove the quotes of a literal

error[unknown-function]: no function `lowr`
 --> a.http:4:28
  |
4 | % check status == "200" && lowr(text) == 'a' && sent.header == 'b' && size > 'c'
  |                            ^^^^
  |
  = hint: did you mean `lower`?

error[unknown-member]: `sent` has no member `header`; available: `method`, `url`, `headers` and `body`
 --> a.http:4:54
  |
4 | % check status == "200" && lowr(text) == 'a' && sent.header == 'b' && size > 'c'
  |                                                      ^^^^^^
  |
  = hint: did you mean `headers`?

error[mismatched-types]: `>` cannot take an integer and a string
 --> a.http:4:76
  |
4 | % check status == "200" && lowr(text) == 'a' && sent.header == 'b' && size > 'c'
  |                                                                            ^
  |
  = hint: use `int(…)` to convert a string to a number, or remove the quotes of a literal

error[mismatched-types]: a condition must be true or false, but this is a duration
 --> a.http:5:9
  |
5 | % check elapsed
  |         ^^^^^^^
"#;
    let told = run.stderr.find("error[").map_or("", |at| &run.stderr[at..]);
    assert_eq!(told.trim_end(), expected.trim_end());
}

#[test]
fn a_name_nobody_gives_is_told_beside_other_errors() {
    let workspace = workspace("%% a\nGET /\n\n% check status == 'a' && trays > 3\n");
    let run = workspace.run(&["lint"]).exits(2);
    for part in ["error[mismatched-types]", "error[unknown-variable]", "a.http:4:16", "a.http:4:26"] {
        assert!(run.both().contains(part), "{part}: {}", run.both());
    }
}

#[test]
fn values_keep_the_order_and_the_digits_of_the_response() {
    let workspace = workspace(
        "%% a\nGET /\n\n% check body.id > 123456789012345678901234567889.0\n% check body.kg < 0.2 && body.zone == 'D'\n\
         % yield whole = body\n% yield lot = body.lots[0]\n% yield id = body.id\n\n\
         %% b\n% needs a\nPOST /?id={{id}}\nContent-Type: application/json\n\n{ \"whole\": {{whole}}, \"lot\": {{lot}} }\n",
    );
    let whole = r#"{"zone":"D","id":123456789012345678901234567890,"kg":0.10000000000000000001,"lots":[{"id":"L-2","bins":40,"note":null},{"id":"L-1","bins":3}],"alpha":true}"#;
    let run = workspace.run(&["send", "a.http#a", "--pick", "body"]).exits(0);
    assert_eq!(run.stdout.trim_end(), whole);
    let sent = workspace.run(&["send", "a.http#b", "--pick", "sent.body"]).exits(0);
    assert_eq!(
        sent.stdout.trim_end(),
        format!(r#"{{ "whole": {whole}, "lot": {{"id":"L-2","bins":40,"note":null}} }}"#)
    );
    let url = workspace.run(&["send", "a.http#b", "--pick", "sent.url"]).exits(0);
    assert!(url.stdout.trim_end().ends_with("/?id=123456789012345678901234567890"), "{}", url.stdout);
}

#[test]
fn a_failed_check_marks_its_parts_where_they_are_written() {
    let workspace = workspace(
        "%% a\nGET /\n\n% check body.lots.all(l, l.bins   <  10)\n% check random(1, 1000000) == random(1, 1000000)\n\
         % check body.zone == 'D' && !(body.lots.exists(l, l.id == 'L-1'))\n",
    );
    let run = workspace.run(&["send", "a.http", "--no-log", "--seed", "7"]).exits(1);
    let told: Vec<&str> = run.stderr.lines().skip_while(|line| !line.contains("checks failed")).collect();
    assert_eq!(
        told[..told.len() - 1],
        [
            "3 of 3 checks failed",
            "      a.http:4  body.lots.all(l, l.bins   <  10)",
            "                ^^^^^^^^^        ^^^^^^",
            "                body.lots[0]  is  {\"id\":\"L-2\",\"bins\":40,\"note\":null}",
            "                l.bins        is  40",
            "                is false for `body.lots[0]`",
            "      a.http:5  random(1, 1000000) == random(1, 1000000)",
            "                ^^^^^^^^^^^^^^^^^^    ^^^^^^^^^^^^^^^^^^",
            "                random(1, 1000000)  is  728958",
            "                random(1, 1000000)  is  510672",
            "      a.http:6  body.zone == 'D' && !(body.lots.exists(l, l.id == 'L-1'))",
            "                                      ^^^^^^^^^           ^^^^",
            "                body.lots[1]  is  {\"id\":\"L-1\",\"bins\":3}",
            "                l.id          is  \"L-1\"",
            "                is true for `body.lots[1]`",
        ]
    );
}

#[test]
fn limits_name_themselves_and_their_place() {
    let loops = "lists.range(2000).all(a, lists.range(2000).all(b, true))";
    for (expression, message) in [
        (loops, "the expression exceeds the limit of 1,000,000 steps"),
        ("size(lists.range(9000000)) > 0", "the value is larger than the limit of 64 MiB"),
        ("size(json([1].map(a, [a, a]))) == 0 || 1 / (status - 200) > 0", "division by zero"),
    ] {
        let workspace = workspace(&format!("%% a\nGET /\n\n% check {expression}\n"));
        let run = workspace.run(&["send", "a.http", "--no-log"]).exits(1);
        assert!(run.stderr.contains(message), "{expression}: {}", run.stderr);
    }
    let deep = "(".repeat(300) + "true" + &")".repeat(300);
    let workspace = workspace(&format!("%% a\nGET /\n\n% check {deep}\n"));
    let run = workspace.run(&["send", "a.http", "--no-log"]).exits(2);
    assert!(run.stderr.contains("nesting is deeper than 200 levels"), "{}", run.stderr);
}

#[test]
fn functions_of_the_libraries_are_there_and_listed() {
    let workspace = workspace("%% a\nGET /\n");
    for (expression, expected) in [
        ("body.lots.map(l, l.bins).sort().join('+')", "3+40"),
        ("body.lots.transformMapEntry(i, l, {l.id: l.?note.hasValue()})", r#"{"L-2":true,"L-1":false}"#),
        ("body.lots.sortBy(l, l.id).first().optMap(l, l.bins).orValue(0)", "3"),
        ("'%s %05d'.format(['a', 1]) == 'a'", ""),
        ("base64url(hmac('sha512', 'key', text)).size()", "86"),
        ("format_time(timestamp('2026-09-14T22:30:00Z'), '%d.%m.%Y %H:%M', 'Europe/Berlin')", "15.09.2026 00:30"),
        ("cidr('127.0.0.0/8').containsIP(regex.extract(url, '//([0-9.]+)').orValue('::1'))", "true"),
        ("path(body, '$.lots[*].id')", r#"["L-2","L-1"]"#),
        ("path(body, '$.lots[?@.bins > 10].id')", r#"["L-2"]"#),
        ("pointer(body, '/lots/1/id')", "L-1"),
        ("cel.bind(n, body.lots.size(), n * n)", "4"),
    ] {
        let run = workspace.run(&["send", "a.http", "--no-log", "--pick", expression]);
        match expected {
            "" => assert!(run.stderr.contains("unknown format verb `%0`"), "{expression}: {}", run.both()),
            expected => assert_eq!(run.stdout.trim_end(), expected, "{expression}: {}", run.stderr),
        }
    }
    let listed = workspace.run(&["values", "--functions", "--json"]).exits(0).json();
    let language = listed["language"].as_array().expect("a list");
    for call in [
        "random(low, high)",
        "digest(algorithm, x)",
        "list.sortBy(x, key)",
        "sets.contains(list(A), list(A))",
        "size(x)",
    ] {
        assert!(language.iter().any(|function| function["call"] == call), "{call}");
    }
}
