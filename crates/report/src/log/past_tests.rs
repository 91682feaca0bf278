//! Tests of logged exchanges.

use crate::Entry;
use crate::log::logged::{LoggedExchange, MAX_LOGGED_BODY, RestoreError, restore_secrets};
use bytes::Bytes;
use std::borrow::Cow;
use std::sync::Arc;
use std::time::Duration;
use yieldtray_engine::Event;
use yieldtray_http::{
    Body, CapturedExchange, CookieNote, CookieStatus, Exchange, Hop, HopKind, PreparedRequest, Timings,
};
use yieldtray_test_support::{answer, settings, side_by_side, with_run};
use yieldtray_workspace::secret::Masker;

const DESK: &str = "#- desk.http\n%% Sign in\nPOST http://local/session\n\n{}\n\n% check status == 201\n% yield token = body.token secret\n";

/// The logged form of an exchange, read again.
fn logged(answer: &Exchange, masker: &Masker) -> LoggedExchange<'static> {
    with_run(DESK, &["desk.http"], settings(None, &[]), 1, |run| {
        let record = side_by_side(run, 1, &mut |_| 0, &mut |_| Ok(answer.clone()));
        let report = record.events.into_iter().find_map(|event| match event {
            Event::CellFinished(report) => Some(report),
            _ => None,
        });
        let report = report.expect("one cell");
        let kept = CapturedExchange {
            began: Duration::from_millis(3),
            sent: answer.sent.clone(),
            answer: Some(answer.clone()),
        };
        let past = LoggedExchange::of(Cow::Owned(Entry::of(run.workspace(), &report)), &kept, masker, 77);
        let bytes = |held: &super::StoredBody<'_>| held.bytes.as_ref().map(|bytes| bytes.to_vec());
        let again =
            LoggedExchange::read(&past.head(), past.fields().to_owned(), bytes(&past.sent), bytes(&past.received))
                .expect("it is read");
        assert_eq!(again, past);
        again
    })
}

fn full() -> Exchange {
    let mut sent = PreparedRequest::new("POST", "http://local:4616/session?shift=early".parse().expect("an address"));
    sent.headers = vec![("accept".into(), "*/*".into()), ("x-api-key".into(), "local-key-4616".into())];
    sent.body = Some(Body::from("{\"password\":\"windfall-99\"}"));
    let timings = Timings {
        began: Duration::from_micros(250),
        connect: Some(Duration::from_micros(125)),
        wait: Duration::from_micros(4_000),
        receive: Duration::from_micros(500),
        total: Duration::from_micros(5_000),
        ..Timings::default()
    };
    let hop = Hop {
        kind: HopKind::Redirect,
        timings: Timings { total: Duration::ZERO, ..timings },
        status: 301,
        method: "POST".to_owned(),
        url: "http://local:4616/session/".to_owned(),
        location: "/session".to_owned(),
    };
    let cookie = CookieNote {
        host: "local".to_owned(),
        name: "shift".to_owned(),
        status: CookieStatus::Ended,
        message: "at once".to_owned(),
    };
    let head = [("Content-Type", "application/json"), ("X-A", "1"), ("X-A", "2")];
    Exchange {
        sent: Arc::new(sent),
        hops: vec![hop],
        version: "HTTP/2",
        timings,
        proxy: Some("http://proxy:3128".to_owned()),
        cookies: vec![cookie],
        ..answer(201, &head, "{\"token\":\"t-canary-early\"}")
    }
}

#[test]
fn an_exchange_comes_back_as_it_was() {
    let before = full();
    let past = logged(&before, &Masker::default());
    let after = past.exchange().expect("there was an answer");
    let record = |exchange: &Exchange| {
        let sent = &exchange.sent;
        let body = sent.body.as_ref().map(|body| body.text().into_owned());
        // A key in a header field is masked whatever the masker knows.
        let fields: Vec<String> = sent.wire_headers().iter().map(|(name, _)| name.to_string()).collect();
        let own = Exchange { sent: Arc::new(PreparedRequest::new("GET", sent.url.clone())), ..exchange.clone() };
        format!("{} {} {fields:?} {body:?} {own:?}", sent.method, sent.url)
    };
    assert_eq!(record(&after), record(&before));
    assert_eq!((past.seed, past.entry.started_ms), (77, Some(3.0)));
    let entry = past.with_exchange();
    assert_eq!(entry.request.expect("a request").body.as_deref(), Some("{\"password\":\"windfall-99\"}"));
    assert_eq!(entry.response.expect("an answer").body.as_deref(), Some("{\"token\":\"t-canary-early\"}"));
}

#[test]
fn no_secret_is_kept_in_any_charset_and_no_large_body() {
    let mut masker = Masker::default();
    masker.add("windfall-99");
    masker.add("t-canary-early");
    let past = logged(&full(), &masker);
    let bytes =
        |held: &super::StoredBody<'_>| String::from_utf8_lossy(held.bytes.as_deref().unwrap_or_default()).into_owned();
    assert_eq!(bytes(&past.sent), "{\"password\":\"[secret]\"}");
    assert_eq!(bytes(&past.received), "{\"token\":\"[secret]\"}");
    assert!(past.is_masked() && !past.fields().contains("local-key-4616"), "{}", past.fields());

    // UTF-16, in which the masker finds nothing: the text is kept, and read as what it is.
    let wide: Vec<u8> = "für t-canary-early".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let mut strange = answer(200, &[("Content-Type", "text/plain; charset=utf-16le")], "");
    (strange.size, strange.body) = (wide.len() as u64, Bytes::from(wide.clone()));
    let past = logged(&strange, &masker);
    assert_eq!(past.exchange().expect("an answer").text(), "für [secret]");
    strange.headers[0].1 = b"image/png".to_vec();
    assert_eq!(
        logged(&strange, &Masker::default()).received.bytes.as_deref(),
        Some(&wide[..]),
        "bytes stay as they are"
    );

    let mut large = answer(200, &[], &"x".repeat(MAX_LOGGED_BODY as usize + 1));
    let past = logged(&large, &masker);
    let digest = blake3::hash(&large.body).to_hex().to_string();
    assert_eq!((past.received.bytes.as_ref(), past.received.digest.as_deref()), (None, Some(digest.as_str())));
    let again = past.exchange().expect("an answer");
    assert!(!again.is_body_complete() && again.size == large.size && again.digest == Some(digest));
    // One that was only passed on has the digest its receiver made.
    (large.body, large.digest) = (Bytes::new(), Some("d1".to_owned()));
    assert_eq!(logged(&large, &masker).received.digest.as_deref(), Some("d1"));
}

#[test]
fn a_request_is_sent_again_with_the_secrets_of_now() {
    let mut masker = Masker::default();
    masker.add("new+secret");
    let request = |url: &str, key: Option<&str>, body: &str| {
        let mut request = PreparedRequest::new("POST", url.parse().expect("an address"));
        request.headers.extend(key.map(|key| ("x-api-key".into(), key.to_owned().into())));
        request.body = Some(Body::from(body.to_owned()));
        request
    };
    let then = || request("http://local/lots?pin=[secret]&x=1", Some("[secret]"), "{\"bins\":1,\"pin\":\"[secret]\"}");
    let now =
        request("http://local/lots?y=9&pin=new%2Bsecret", Some("new+secret"), "{\"bins\":9,\"pin\":\"new+secret\"}");
    let filled = restore_secrets(then(), Some(&now), &masker).expect("all are found");
    assert_eq!(filled.url.as_str(), "http://local/lots?pin=new%2Bsecret&x=1", "a parameter is where its name is");
    assert_eq!(filled.header("x-api-key"), Some("new+secret"));
    assert_eq!(filled.body.expect("a body").text(), "{\"bins\":1,\"pin\":\"new+secret\"}");

    let lacks = |then: PreparedRequest, now: Option<&PreparedRequest>| {
        restore_secrets(then, now, &masker).expect_err("it cannot be filled in")
    };
    assert_eq!(lacks(then(), None), RestoreError::Missing("the URL".to_owned()));
    let without = request("http://local/lots?pin=new%2Bsecret", None, "{}");
    assert_eq!(lacks(then(), Some(&without)), RestoreError::Missing("`x-api-key`".to_owned()));
    let elsewhere =
        request("http://other/lots?pin=new%2Bsecret", Some("new+secret"), "{\"bins\":1,\"pin\":\"new+secret\"}");
    let other = RestoreError::OtherOrigin { logged: "http://local".to_owned(), current: "http://other".to_owned() };
    assert_eq!(lacks(then(), Some(&elsewhere)), other, "no secret goes to another server");
    // Under another name it has no counterpart.
    let renamed = request("http://local/lots?pin=new%2Bsecret", Some("new+secret"), "{\"code\":\"new+secret\"}");
    assert_eq!(lacks(then(), Some(&renamed)), RestoreError::Missing("the body".to_owned()));
    // Without secrets nothing is needed of now.
    let plain = request("http://local/lots", None, "{}");
    assert_eq!(restore_secrets(plain.clone(), None, &masker).expect("nothing is masked").url, plain.url);
}
