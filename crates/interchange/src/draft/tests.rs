//! Tests of writing cells.

use super::{Body, CellFileBuilder, ImportedRequest, RequestError, SecretExtractor};
use proptest::prelude::*;
use yieldtray_http::PreparedRequest;
use yieldtray_syntax::ValueText;
use yieldtray_test_support::{json_answer, replay, settings};

/// The first request of a file.
#[track_caller]
fn sent(file: &str) -> PreparedRequest {
    let record =
        replay(&format!("#- a.http\n{file}"), &["a.http"], settings(None, &[]), |_| Ok(json_answer(200, "{}")));
    let errors = record.problems().into_iter().filter(|problem| problem.is_error()).collect::<Vec<_>>();
    assert!(errors.is_empty(), "{file}\n{errors:?}");
    PreparedRequest::clone(&record.sent[0])
}

fn builder(drafts: impl IntoIterator<Item = ImportedRequest>) -> (CellFileBuilder, SecretExtractor) {
    let (mut builder, mut extractor) =
        (CellFileBuilder::new(["get-lots".to_owned()], "bodies"), SecretExtractor::default());
    drafts.into_iter().for_each(|draft| builder.add(draft, &mut extractor));
    (builder, extractor)
}

fn draft(target: &str) -> ImportedRequest {
    ImportedRequest { target: target.into(), ..ImportedRequest::default() }
}

#[test]
fn secrets_become_values_and_names_are_unique() {
    let with = |headers: &[(&str, &str)], body: &str| ImportedRequest {
        headers: headers.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect(),
        body: Body::Text(body.into()),
        ..draft("http://b/lots?api_key=k%2F4616&page=2")
    };
    let random = "q8ZkP2vLx0TnB7sRj5Wd9Yf3";
    let (builder, extractor) = builder([
        with(
            &[("Authorization", "Bearer t-4616"), ("Cookie", "shift=early; gate=2")],
            r#"{"pin": "4616", "bins": "24"}"#,
        ),
        with(&[("X-Api-Key", "t-4616"), ("Content-Type", "application/x-www-form-urlencoded")], "password=a%20b&c=d"),
        draft(&format!("http://b/{random}")),
    ]);
    assert_eq!(
        builder.text(),
        "%% GET /lots 2\nGET http://b/lots?api_key={{api_key}}&page=2\nAuthorization: Bearer {{bearer_token}}\n\
         Cookie: {{session_cookies}}\n\n{\"pin\": \"{{pin}}\", \"bins\": \"24\"}\n\n\
         %% GET /lots 3\nGET http://b/lots?api_key={{api_key}}&page=2\nX-Api-Key: {{bearer_token}}\n\
         Content-Type: application/x-www-form-urlencoded\n\npassword={{raw(password)}}&c=d\n\n\
         %% GET /…\nGET http://b/{{secret}}\n"
    );
    let found: Vec<_> = extractor.found.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
    let expected = [
        ("bearer_token", "t-4616"),
        ("session_cookies", "shift=early; gate=2"),
        ("api_key", "k/4616"),
        ("pin", "4616"),
        ("password", "a%20b"),
        ("secret", random),
    ];
    assert_eq!(found, expected);
}

#[test]
fn bytes_go_to_files_and_what_cannot_be_written_is_told() {
    let bytes = ImportedRequest {
        body: Body::Bytes(vec![0, 255]),
        headers: vec![("Content-Type".into(), "image/png".into())],
        method: Some("PUT".into()),
        ..draft("http://b/photos")
    };
    let odd = ImportedRequest { headers: vec![("X-A".into(), "a\nb".into())], ..draft("http://b/odd") };
    let (builder, _) = builder([bytes, odd]);
    assert_eq!(
        builder.text(),
        "%% PUT /photos\n% body from bodies/put-photos.png verbatim\nPUT http://b/photos\nContent-Type: image/png\n"
    );
    assert_eq!(builder.files, [("bodies/put-photos.png".to_owned(), vec![0, 255])]);
    let why = RequestError::HeaderValue("X-A".to_owned());
    assert_eq!((builder.count, builder.refused), (1, vec![("GET /odd".to_owned(), why)]));
}

#[test]
fn what_stands_above_a_cell_does_not_change_it() {
    let mut builder = CellFileBuilder::new([], "bodies").below(vec!["Accept".to_owned(), "X-Gate".to_owned()], true);
    let own = ImportedRequest { headers: vec![("accept".into(), "a/b".into())], ..draft("http://b/") };
    builder.add(own, &mut SecretExtractor::default());
    assert_eq!(builder.text(), "%% GET /\n% header X-Gate:\n% auth none\nGET http://b/\naccept: a/b\n");
}

/// Text that is easily corrupted: placeholders, escapes, line ends, white space, lines that look like instructions.
fn odd_text() -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        Just("{{"),
        Just("}}"),
        Just("{"),
        Just("\\"),
        Just("\\{{"),
        Just("\n"),
        Just("\r\n"),
        Just(" "),
        Just("\t"),
        Just("%"),
        Just("%%"),
        Just("\n% check 1 == 2"),
        Just("\n%% b"),
        Just("\\%"),
        Just("#"),
        Just("\""),
        Just("'"),
        Just("é✓"),
        Just("a"),
        Just("="),
        Just("\u{0}"),
        Just("\u{feff}"),
        Just("lots"),
        Just("\n\n"),
    ];
    prop::collection::vec(piece, 0..10).prop_map(|pieces| pieces.concat())
}

proptest! {
    #[test]
    fn a_body_goes_out_as_it_came_in(body in odd_text()) {
        let media = ("Content-Type".into(), "text/plain".into());
        let draft = ImportedRequest { method: Some("POST".into()), body: Body::Text(body.as_str().into()), headers: vec![media],
            ..draft("http://b/") };
        let (builder, _) = builder([draft]);
        let sent = sent(&builder.text());
        prop_assert_eq!(sent.body.map(|body| body.text().into_owned()).unwrap_or_default(), body);
    }

    #[test]
    fn what_stands_on_a_line_goes_out_as_it_came_in(text in odd_text(), name in odd_text()) {
        let mut draft = draft("http://b/");
        draft.method = Some("POST".into());
        draft.parameters = vec![(format!("a{name}").into(), text.as_str().into())];
        draft.auth = Some(("basic", vec!["clerk".into(), ValueText::from(text.as_str())]));
        let mut field = text.replace(|c: char| c.is_control() && c != '\t', "");
        field = field.trim().to_owned();
        draft.headers = vec![("X-Odd".into(), field.as_str().into())];
        let sent = sent(&crate::draft::cells(&[draft]).expect("a cell")[0]);
        prop_assert_eq!(sent.header("x-odd"), Some(field.as_str()));
        let pairs: Vec<(String, String)> = sent.url.query_pairs().into_owned().collect();
        prop_assert_eq!(pairs, vec![(format!("a{name}"), text.clone())]);
        use base64::Engine as _;
        let basic = base64::engine::general_purpose::STANDARD.encode(format!("clerk:{text}"));
        let basic = format!("Basic {basic}");
        prop_assert_eq!(sent.header("authorization"), Some(basic.as_str()));
    }
}
