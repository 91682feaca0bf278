//! Round trips: an exported request is the same when imported again.

use super::shape::Shape;
use super::{ExportedRequest, ParameterizedRequest, outline, target, write};
use crate::draft::{ImportedRequest, cells};
use percent_encoding::utf8_percent_encode;
use proptest::prelude::*;
use yieldtray_http::PreparedRequest;
use yieldtray_source::percent::PERCENT_ENCODE_SET;
use yieldtray_test_support::{json_answer, replay, settings};
use yieldtray_workspace::secret::Masker;

/// A request as a target writes it.
fn written(prepared: &PreparedRequest, as_target: &str) -> String {
    let found: Result<ParameterizedRequest, ()> = outline(&[], &Masker::default(), |_| Ok(prepared.clone()));
    let found = found.expect("it can be made");
    let handed = ExportedRequest { name: "a", title: "A", outline: &found, yields: Vec::new() };
    write(target(as_target).expect("a target"), &[handed]).unwrap_or_else(|why| panic!("{why}"))
}

/// The request of an imported cell.
fn sent(draft: ImportedRequest) -> Result<PreparedRequest, String> {
    let cell = cells(&[draft]).map_err(|error| error.to_string())?.remove(0);
    let record =
        replay(&format!("#- a.http\n{cell}"), &["a.http"], settings(None, &[]), |_| Ok(json_answer(200, "{}")));
    let errors: Vec<String> =
        record.problems().iter().filter(|problem| problem.is_error()).map(|problem| problem.message.clone()).collect();
    match record.sent.first() {
        Some(sent) if errors.is_empty() => Ok(PreparedRequest::clone(sent)),
        _ => Err(format!("{cell}\n{errors:?}")),
    }
}

fn odd_text() -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        Just("'"),
        Just("\""),
        Just("\\"),
        Just("$HOME"),
        Just("${x}"),
        Just("`id`"),
        Just("$(id)"),
        Just("!x"),
        Just("{{"),
        Just("}}"),
        Just("\n"),
        Just("\r\n"),
        Just("\t"),
        Just(" "),
        Just("%"),
        Just("%20"),
        Just("#"),
        Just("@a"),
        Just("&b=1"),
        Just("é✓🍏"),
        Just("\u{1}"),
        Just("~*"),
        Just(";"),
        Just("|"),
        Just(">"),
        Just("lots"),
        Just("\n% check 1 == 2"),
    ];
    prop::collection::vec(piece, 0..8).prop_map(|pieces| pieces.concat())
}

fn requests() -> impl Strategy<Value = PreparedRequest> {
    let method = prop_oneof![Just("GET"), Just("POST"), Just("PUT"), Just("DELETE"), Just("HEAD"), Just("BOOK")];
    let field = (prop_oneof![Just("X-Gate"), Just("Content-Type"), Just("X-Lot")], odd_text());
    let fields = prop::collection::vec(field, 0..4);
    (method, odd_text(), odd_text(), fields, prop::option::of(odd_text())).prop_map(
        |(method, path, query, fields, body)| {
            let encode = |text: &str| utf8_percent_encode(text, PERCENT_ENCODE_SET).to_string();
            let url = format!("http://local:4616/lots/a{}?q={}", encode(&path), encode(&query));
            let mut prepared = PreparedRequest::new(method, url.parse().expect("an address"));
            for (name, value) in fields {
                let value = value.replace(|c: char| c.is_control() && c != '\t', "").trim().to_owned();
                let again = name == "Content-Type" && prepared.header(name).is_some();
                if !again {
                    prepared.headers.push((name.into(), value.into()));
                }
            }
            prepared.body = body.filter(|body| !body.is_empty()).map(Into::into);
            prepared
        },
    )
}

proptest! {
    #[test]
    fn a_request_comes_back_from_a_command(request in requests()) {
        let command = written(&request, "shell");
        let mut commands = crate::curl::commands(&command);
        let drafts = commands.next().expect("a command").drafts.map_err(|why| TestCaseError::fail(format!("{why}\n{command}")))?;
        prop_assert!(commands.next().is_none(), "{}", command);
        let back = sent(drafts.into_iter().next().expect("a request"));
        let back = back.map_err(|why| TestCaseError::fail(format!("{command}\n{why}")))?;
        prop_assert_eq!(Shape::of(&back), Shape::of(&request), "{}", command);
    }

    #[test]
    fn a_request_comes_back_from_a_recording(request in requests()) {
        let archive = written(&request, "har");
        let recording = crate::har::read(archive.as_bytes(), &crate::har::EntryFilter::default(), false);
        let recording = recording.map_err(|why| TestCaseError::fail(format!("{why}\n{archive}")))?;
        let back = sent(recording.drafts.into_iter().next().expect("a request"));
        let back = back.map_err(|why| TestCaseError::fail(format!("{archive}\n{why}")))?;
        prop_assert_eq!(Shape::of(&back), Shape::of(&request), "{}", archive);
    }
}
