//! Tests of exporting code.

use super::json_path::PathStep;
use super::{
    ExportedRequest, NamedValue, NamedValueKind, ParameterizedRequest, ResponseValue, Source, TARGETS, outline, target,
    write,
};
use percent_encoding::utf8_percent_encode;
use yieldtray_expression::Value;
use yieldtray_http::{Body, BodyPart, FileBody, PreparedRequest};
use yieldtray_source::percent::PERCENT_ENCODE_SET;
use yieldtray_workspace::secret::Masker;

/// Makes a request of values: one that is set, else the one it has.
fn made(
    values: &[(&str, Value)],
    set: &[(String, Value)],
    make: impl Fn(&dyn Fn(&str) -> Value) -> PreparedRequest,
) -> PreparedRequest {
    make(&|name| {
        let set = set.iter().rev().find(|(own, _)| own == name).map(|(_, value)| value.clone());
        set.or_else(|| values.iter().find(|(own, _)| *own == name).map(|(_, value)| value.clone()))
            .expect("it has a value")
    })
}

fn text(value: &Value) -> String {
    value.to_text().expect("a text").into_owned()
}

/// Values in every place, one of them through an expression.
fn busy(value: &dyn Fn(&str) -> Value) -> PreparedRequest {
    let lot = text(&value("lot"));
    let path = utf8_percent_encode(&lot, PERCENT_ENCODE_SET).to_string();
    let url = format!("{}/lots/{path}?bins={}", text(&value("base")), text(&value("bins")));
    let mut prepared = PreparedRequest::new("POST", url.parse().expect("an address"));
    prepared.headers.push(("X-Lot".into(), lot.clone().into()));
    prepared.headers.push(("X-Size".into(), lot.len().to_string().into()));
    prepared.headers.push(("Authorization".into(), format!("Bearer {}", text(&value("token"))).into()));
    prepared.headers.push(("Content-Type".into(), "application/json".into()));
    let (quoted, note) = (value("lot").show(), value("note").show());
    prepared.body = Some(format!("{{\"lot\": {quoted}, \"bins\": {}, \"note\": {note}}}", value("bins").show()).into());
    prepared
}

fn values() -> Vec<(&'static str, Value)> {
    vec![
        ("base", Value::text("http://local:4616")),
        ("lot", Value::text("L/7 \"a\"")),
        ("bins", Value::infer("24")),
        ("note", Value::text("ripe")),
        ("token", Value::text("t-4616/abcd")),
    ]
}

fn named(name: &str, kind: NamedValueKind) -> NamedValue {
    NamedValue { name: name.to_owned(), kind }
}

/// How a target writes the busy request, with these names.
#[track_caller]
fn shown(as_target: &str, names: &[NamedValue], values: &[(&str, Value)]) -> (String, Vec<String>) {
    let mut masker = Masker::default();
    masker.add("t-4616/abcd");
    let found: Result<ParameterizedRequest, ()> = outline(names, &masker, |set| Ok(made(values, set, busy)));
    let found = found.expect("it can be made");
    let handed = ExportedRequest { name: "weigh", title: "Weigh", outline: &found, yields: Vec::new() };
    let written = write(target(as_target).expect("a target"), &[handed]).unwrap_or_else(|why| panic!("{why}"));
    (written, found.notes)
}

fn secret() -> NamedValue {
    named("token", NamedValueKind::Secret("t-4616/abcd".to_owned()))
}

#[test]
fn values_stay_names_where_they_stand_as_they_are() {
    let kept = |name: &str| {
        let value = values().into_iter().find(|(own, _)| *own == name).map(|(_, value)| value);
        named(name, NamedValueKind::Value(value.expect("one of them")))
    };
    let (written, notes) =
        shown("shell", &[kept("base"), kept("bins"), kept("note"), kept("lot"), secret()], &values());
    // The length of the lot's name is worked out from it: with another lot it would be wrong.
    assert_eq!(notes, ["the result of the expression with `lot` is exported"]);
    assert_eq!(
        written.split_once("\n\n").expect("two parts").1,
        "curl -sS --max-time 30 -L --max-redirs 10 -X POST \"${base}/lots/L%2F7%20%22a%22?bins=${bins}\" \\\n  \
         -H 'X-Lot: L/7 \"a\"' \\\n  -H 'X-Size: 7' \\\n  -H \"Authorization: Bearer ${TOKEN}\" \\\n  \
         -H 'Content-Type: application/json' \\\n  \
         --data-raw \"{\\\"lot\\\": \\\"L/7 \\\\\\\"a\\\\\\\"\\\", \\\"bins\\\": ${bins}, \\\"note\\\": \\\"${note}\\\"}\"\n"
    );
    assert!(
        written.starts_with("#!/bin/sh\nset -eu\n: \"${TOKEN:?}\"\n") || written.contains("base=http://local:4616\n"),
        "{written}"
    );
}

#[test]
fn what_has_no_value_is_read_and_written_as_its_place_wants() {
    let values: Vec<(&str, Value)> = values().into_iter().filter(|(name, _)| *name != "note").collect();
    let (written, notes) = shown("python", &[named("note", NamedValueKind::Open), secret()], &values);
    assert_eq!(notes, Vec::<String>::new());
    for part in [
        "note = os.environ[\"NOTE\"]\n",
        "token = os.environ[\"TOKEN\"]\n",
        "(\"Authorization\", \"Bearer \" + token),\n",
        "\"bins\": 24, \"note\": ' + json.dumps(note, ensure_ascii=False) + \"}\").encode(),\n",
    ] {
        assert!(written.contains(part), "{part}\n---\n{written}");
    }
    // A language without encodings needs the text as written.
    let (written, _) = shown("go", &[named("note", NamedValueKind::Open), secret()], &values);
    assert!(written.contains("noteJsonValue := os.Getenv(\"NOTE_JSON_VALUE\") // as a JSON value\n"), "{written}");
}

#[test]
fn what_an_expression_makes_of_a_value_that_nobody_has_is_given_whole() {
    let values: Vec<(&str, Value)> = values().into_iter().filter(|(name, _)| *name != "lot").collect();
    let (written, notes) = shown("shell", &[named("lot", NamedValueKind::Open), secret()], &values);
    // The length of its name is in a field; elsewhere it is itself.
    assert_eq!(notes, ["the X-Size is computed from `lot`: set it yourself"]);
    assert!(
        written.contains("-H \"X-Size: ${X_SIZE}\"") && written.contains("/lots/$(percent \"$LOT\")?bins=24"),
        "{written}"
    );
    assert!(
        written.contains("-H \"X-Lot: ${LOT}\"") && written.contains("\\\"lot\\\": \\\"$(json \"$LOT\")\\\""),
        "{written}"
    );
}

#[test]
fn a_secret_is_text_in_no_form() {
    let make = |value: &dyn Fn(&str) -> Value| {
        use base64::Engine as _;
        let token = text(&value("token"));
        let mut prepared = PreparedRequest::new("GET", "http://b/".parse().expect("an address"));
        let coded = base64::engine::general_purpose::STANDARD.encode(format!("x{token}"));
        prepared.headers.push(("X-Coded".into(), coded.into()));
        prepared.headers.push((
            "Authorization".into(),
            format!("Basic {}", base64::engine::general_purpose::STANDARD.encode(format!("clerk:{token}"))).into(),
        ));
        prepared
    };
    let mut masker = Masker::default();
    masker.add("t-4616/abcd");
    let found: Result<ParameterizedRequest, ()> = outline(&[secret()], &masker, |set| Ok(made(&values(), set, make)));
    let found = found.expect("it can be made");
    assert_eq!(found.notes, ["the X-Coded is computed from a secret: set it yourself"]);
    let handed = ExportedRequest { name: "a", title: "A", outline: &found, yields: Vec::new() };
    for target in TARGETS.iter() {
        let written = write(target, std::slice::from_ref(&handed)).unwrap_or_else(|why| panic!("{why}"));
        assert!(!masker.finds_in(&written), "{}\n{written}", target.name);
        assert!(written.contains("X_CODED"), "{}\n{written}", target.name);
    }
}

#[test]
fn an_answer_gives_what_every_language_can_name() {
    let name = |name: &str| PathStep::Name(name.to_owned());
    for (expression, source) in [
        ("body.token", Some(Source::Body(vec![name("token")]))),
        (" body.lots[0][\"lot id\"] ", Some(Source::Body(vec![name("lots"), PathStep::Place(0), name("lot id")]))),
        ("body", Some(Source::Body(vec![]))),
        ("headers[\"Location\"]", Some(Source::Header("location".to_owned()))),
        ("headers.etag", Some(Source::Header("etag".to_owned()))),
        ("status", Some(Source::Status)),
        ("text", Some(Source::Text)),
        ("body.id + 1", None),
        ("body.lots.size()", None),
        ("size(body)", None),
        ("body[x]", None),
        ("elapsed", None),
    ] {
        assert_eq!(Source::of(expression), source, "{expression}");
    }
}

/// Those that no test runs, as they were looked at.
#[test]
fn languages_that_are_not_run() {
    let file = FileBody { path: "crate.png".into(), shown: "crate.png".to_owned(), size: 3 };
    let make = |value: &dyn Fn(&str) -> Value| {
        let mut prepared = busy(value);
        let pieces = vec![
            BodyPart::Bytes("it's \"ripe\" $x #{y} \\(z)\n".into()),
            BodyPart::File(file.clone()),
            BodyPart::Bytes(vec![0, 255].into()),
        ];
        prepared.body = Some(Body::Pieces(pieces));
        prepared.sending.redirects = 0;
        prepared.sending.insecure = true;
        prepared
    };
    let found: Result<ParameterizedRequest, ()> =
        outline(&[secret()], &Masker::default(), |set| Ok(made(&values(), set, make)));
    let found = found.expect("it can be made");
    let mut all = String::new();
    for name in ["powershell", "typescript", "csharp", "kotlin", "swift"] {
        let handed =
            ExportedRequest { name: "weigh", title: "Weigh", outline: &found, yields: Vec::<ResponseValue>::new() };
        let written = write(target(name).expect("a target"), &[handed]).unwrap_or_else(|why| panic!("{why}"));
        all.push_str(&format!("=== {name}\n{written}\n"));
    }
    insta::assert_snapshot!(all);
}
