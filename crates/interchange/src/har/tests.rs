//! Tests of importing HAR.

use super::{EntryFilter, factor_out_common, read};
use crate::draft::{CellFileBuilder, SecretExtractor};
use serde_json::{Value, json};

fn entry(method: &str, url: &str, more: Value) -> Value {
    let mut entry = json!({
        "request": { "method": method, "url": url, "httpVersion": "HTTP/2", "cookies": [], "queryString": [],
            "headers": [{ "name": ":authority", "value": "b" }, { "name": "Accept", "value": "*/*" }] },
        "response": { "status": 200, "content": { "size": 0, "mimeType": "application/json; charset=utf-8" } },
    });
    for (part, value) in more.as_object().into_iter().flatten() {
        match value.as_object() {
            Some(members) => members.iter().for_each(|(name, value)| entry[part][name] = value.clone()),
            None => entry[part] = value.clone(),
        }
    }
    entry
}

fn archive(entries: &[Value]) -> String {
    let pages = json!([{ "id": "page_1", "title": "Intake" }]);
    json!({ "log": { "version": "1.2", "pages": pages, "entries": entries, "comment": "ours" } }).to_string()
}

/// The cells, and the secrets lifted.
fn taken(archive: &str, choice: &EntryFilter, checks: bool) -> (String, Vec<(String, String)>) {
    let mut recording = read(archive.as_bytes(), choice, checks).unwrap_or_else(|why| panic!("{why}"));
    let mut extractor = SecretExtractor::default();
    let head = factor_out_common(&mut recording.drafts, &mut extractor, None, true);
    let mut builder = CellFileBuilder::new([], "bodies");
    recording.drafts.into_iter().for_each(|draft| builder.add(draft, &mut extractor));
    assert_eq!(builder.refused, []);
    (format!("{head}\n{}", builder.text()), extractor.found)
}

#[test]
fn a_recording_becomes_cells() {
    let lots = entry(
        "GET",
        "http://local.example/lots?state=open#top",
        json!({
            "response": { "content": { "mimeType": "application/json", "text": "{\"lots\": [], \"next\": 2}" } },
        }),
    );
    let booked = entry(
        "POST",
        "http://local.example/lots",
        json!({
            "request": {
                "headers": [{ "name": "Accept", "value": "*/*" }, { "name": "content-type", "value": "application/json" },
                    { "name": "authorization", "value": "Bearer t-4616" }, { "name": "Cookie", "value": "shift=early" },
                    { "name": "host", "value": "local.example" }, { "name": "content-length", "value": "11" }],
                "postData": { "mimeType": "application/json", "text": "{\"bins\":24}" },
            },
            "response": { "status": 201 },
        }),
    );
    let form = entry(
        "POST",
        "http://local.example/session",
        json!({
            "request": { "postData": { "mimeType": "application/x-www-form-urlencoded",
                "params": [{ "name": "user", "value": "clerk & co" }, { "name": "password", "value": "windfall" }] } },
        }),
    );
    let photo = entry(
        "PUT",
        "http://photos.example/1",
        json!({
            "request": { "postData": { "mimeType": "image/png", "text": "iVBORw==", "encoding": "base64" } },
        }),
    );
    let (text, secrets) = taken(&archive(&[lots, booked, form, photo]), &EntryFilter::default(), true);
    assert_eq!(
        text,
        "% let base = \"http://local.example\"\n% redirects 0\n% cookies off\n% header Accept: */*\n\n\
         %% GET /lots\n# the fragment (`#…`) of the URL is never sent\nGET /lots?state=open\n\n\
         % check status == 200\n% check headers[\"content-type\"].startsWith(\"application/json\")\n\
         % check type(body.lots) == list\n% check type(body.next) == int\n\n\
         %% POST /lots\nPOST /lots\ncontent-type: application/json\nauthorization: Bearer {{bearer_token}}\n\
         Cookie: {{session_cookies}}\n\n{\"bins\":24}\n\n% check status == 201\n\n\
         %% POST /session\nPOST /session\nContent-Type: application/x-www-form-urlencoded\n\n\
         user=clerk+%26+co&password={{password}}\n\n% check status == 200\n\n\
         %% PUT /1\n% body from bodies/put-1.png verbatim\nPUT http://photos.example/1\nContent-Type: image/png\n\n\
         % check status == 200\n"
    );
    let names: Vec<&str> = secrets.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, ["bearer_token", "session_cookies", "password"]);
}

#[test]
fn what_is_wanted_is_chosen() {
    let of = |media: &str| json!({ "response": { "content": { "mimeType": media } } });
    let all = archive(&[
        entry("GET", "http://b/lots", json!({ "pageref": "page_1" })),
        entry("DELETE", "http://b/lots/1", json!({})),
        entry("GET", "http://b/logo", of("image/svg+xml")),
        entry("GET", "http://b/desk.js", of("text/plain")),
        entry("GET", "http://b/map.js", of("application/json")),
        entry("GET", "blob:http://b/1", json!({})),
        entry("GET", "ws://b/scale", json!({})),
    ]);
    let urls = |choice: &EntryFilter| -> Vec<String> {
        let recording = read(all.as_bytes(), choice, false).expect("an archive");
        recording.drafts.iter().map(|draft| draft.target.head().replace("http://b", "")).collect()
    };
    let (none, words) =
        (EntryFilter::default(), |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect());
    assert_eq!(urls(&none), ["/lots", "/lots/1", "/map.js"]);
    assert_eq!(urls(&EntryFilter { everything: true, ..none.clone() }).len(), 5);
    assert_eq!(urls(&EntryFilter { only: words(&["/lots*"]), ..none.clone() }), ["/lots", "/lots/1"]);
    assert_eq!(urls(&EntryFilter { only: words(&["*://b/lots"]), ..none.clone() }), ["/lots"]);
    assert_eq!(urls(&EntryFilter { methods: words(&["delete"]), ..none.clone() }), ["/lots/1"]);
    assert_eq!(urls(&EntryFilter { media: words(&["image/*"]), ..none.clone() }), ["/logo"]);
    assert_eq!(urls(&EntryFilter { page: Some("Intake".to_owned()), ..none.clone() }), ["/lots"]);
    let recording = read(all.as_bytes(), &none, false).expect("an archive");
    assert_eq!((recording.entries, recording.fixed, recording.other), (7, 2, 2));
}

/// A body that is missing in the recording, and a secret that occurs elsewhere too.
#[test]
fn lost_bodies_are_told_and_secrets_leave_every_place() {
    let lost = entry(
        "POST",
        "http://local.example/lots",
        json!({
            "request": {
                "headers": [{ "name": "Content-Length", "value": "6" }, { "name": "Content-Type", "value": "text/plain" }],
                "postData": { "mimeType": "text/plain", "text": "" },
            },
        }),
    );
    let known = entry(
        "GET",
        "http://local.example/cookies?session=made-up-session-1",
        json!({ "request": { "headers": [{ "name": "Cookie", "value": "made-up-session-1" }] } }),
    );
    let (text, secrets) = taken(&archive(&[lost, known]), &EntryFilter::default(), false);
    assert!(text.contains("# Its body of 6 bytes was not recorded: write it below the headers.\n"), "{text}");
    assert!(!text.contains("made-up-session-1"), "{text}");
    assert_eq!(secrets.len(), 1, "{secrets:?}");
}

#[test]
fn what_is_no_archive_is_said() {
    let deep = format!("{{\"log\": {{\"entries\": [{}", "[".repeat(4000));
    for (text, why) in [
        ("", "EOF while parsing a value at line 1 column 0"),
        ("[]", "invalid type: sequence, expected an object with a `log` at line 1 column 1"),
        ("{\"log\": {}}", "`log.entries` is missing (HTTP Archive 1.2)"),
        ("{\"log\": {\"entries\": [{\"request\": {}}]}}", "missing field `url` at line 1 column 35"),
        ("{\"log\": {\"entries\": [", "EOF while parsing a list at line 1 column 21"),
        (deep.as_str(), "invalid type: sequence, expected a string at line 1 column 23"),
    ] {
        let error = read(text.as_bytes(), &EntryFilter::default(), false).expect_err("it is no archive");
        assert_eq!(error.to_string(), why, "{text:.60}");
    }
    assert!(read(format!("\u{feff}{}", archive(&[])).as_bytes(), &EntryFilter::default(), false).is_ok());
}
