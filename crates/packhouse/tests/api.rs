//! The API of the packhouse: what it accepts and refuses.

use std::io::{Read, Write};
use std::net::TcpStream;
use yieldtray_packhouse::{Packhouse, Server};

struct Answer {
    status: u16,
    head: String,
    body: String,
}

impl Answer {
    fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.body).unwrap_or_else(|error| panic!("{error}: {}", self.body))
    }
}

/// One request on a connection of its own.
fn ask(packhouse: &Packhouse, method: &str, target: &str, headers: &str, body: &str) -> Answer {
    let mut stream = TcpStream::connect(packhouse.address()).expect("it listens");
    let length = body.len();
    write!(
        stream,
        "{method} {target} HTTP/1.1\r\nHost: packhouse\r\nConnection: close\r\nContent-Length: {length}\r\n{headers}\r\n{body}"
    )
    .expect("it reads");
    let mut bytes = Vec::new();
    stream.read_to_end(&mut bytes).expect("it answers");
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let (head, body) = text.split_once("\r\n\r\n").expect("a head and a body");
    let status = head.split(' ').nth(1).and_then(|status| status.parse().ok()).expect("a status");
    Answer { status, head: head.to_lowercase(), body: body.to_owned() }
}

const KEY: &str = "X-Api-Key: local-key-4616\r\nContent-Type: application/json\r\n";

#[test]
fn lots_live_from_booking_to_closing() {
    let packhouse = Packhouse::start(Server::Local).expect("it starts");
    let booked = ask(&packhouse, "POST", "/lots", KEY, r#"{"grower": "G-12", "bins": 8, "ref": "gate"}"#);
    assert_eq!(booked.status, 201);
    assert!(booked.head.contains("location: /lots/l-2043"), "{}", booked.head);
    assert!(booked.head.contains("etag: \"l-2043-1\""), "{}", booked.head);
    let known = ask(&packhouse, "GET", "/lots/L-2043", "If-None-Match: \"L-2043-1\"\r\n", "");
    assert_eq!((known.status, known.body.as_str()), (304, ""));
    let weighed = ask(&packhouse, "POST", "/lots/L-2043/weighings", KEY, r#"{"tray": "T-1", "kg": 11.5}"#);
    assert_eq!(weighed.status, 201);
    let stale = ask(&packhouse, "PATCH", "/lots/L-2043", &format!("{KEY}If-Match: \"L-2043-9\"\r\n"), "{}");
    assert_eq!(stale.status, 412);
    let whole = r#"{"grower": "G-11", "variety": "fuji", "bins": 9, "state": "closed"}"#;
    let replaced = ask(&packhouse, "PUT", "/lots/L-2043", KEY, whole);
    assert_eq!((replaced.status, replaced.json()["ref"].is_null()), (200, true));
    for (method, target) in [("DELETE", "/lots/L-2043"), ("PATCH", "/lots/L-2043"), ("POST", "/lots/L-2043/weighings")]
    {
        assert_eq!(ask(&packhouse, method, target, KEY, "{}").status, 409, "{method} {target}");
    }
    assert_eq!(ask(&packhouse, "DELETE", "/lots/L-2039", KEY, "").status, 204);
    assert_eq!(ask(&packhouse, "GET", "/lots/L-2039", "", "").status, 404);
}

#[test]
fn lists_are_filtered_and_paged() {
    let packhouse = Packhouse::start(Server::Local).expect("it starts");
    let page = ask(&packhouse, "GET", "/lots?state=open&per_page=2&page=2", "", "");
    let json = page.json();
    assert_eq!((json["lots"][0]["id"].as_str(), json["lots"].as_array().map(Vec::len)), (Some("L-2041"), Some(1)));
    assert_eq!(json["total"], 3);
    assert!(page.head.contains("link: </lots?page=1&per_page=2>; rel=\"prev\""), "{}", page.head);
    for bad in ["/lots?page=0", "/lots?per_page=101", "/lots?page=x", "/lots?colour=red"] {
        assert_eq!(ask(&packhouse, "GET", bad, "", "").status, 400, "{bad}");
    }
}

#[test]
fn what_does_not_fit_is_refused_with_reasons() {
    let packhouse = Packhouse::start(Server::Local).expect("it starts");
    for (headers, body, status) in [
        ("Content-Type: application/json\r\n", "{}", 401),
        ("Authorization: Bearer nobody\r\n", "{}", 401),
        ("X-Api-Key: production-key-9027\r\n", "{}", 403),
        ("X-Api-Key: local-key-4616\r\n", "{}", 415),
        (KEY, "{", 400),
        (KEY, "[]", 400),
        (KEY, "{\"grower\": \"G-11\"}", 422),
        (KEY, "{\"grower\": \"G-11\", \"bins\": 2.5}", 422),
        (KEY, "{\"grower\": \"G-11\", \"bins\": 2, \"colour\": 1}", 422),
        (KEY, "{\"grower\": 11, \"bins\": 2}", 422),
    ] {
        let answer = ask(&packhouse, "POST", "/lots", headers, body);
        assert_eq!(answer.status, status, "{headers}{body}");
        assert!(answer.head.contains("content-type: application/problem+json"), "{}", answer.head);
        assert_eq!(answer.json()["status"], status);
        assert_eq!(status == 422, answer.json()["errors"].is_array());
    }
    assert_eq!(ask(&packhouse, "GET", "/nowhere", "", "").status, 404);
    assert_eq!(ask(&packhouse, "PURGE", "/health", "", "").status, 405);
    assert_eq!(ask(&packhouse, "POST", "/moved", "", "").status, 308);
}

#[test]
fn a_session_ends_with_its_token() {
    let packhouse = Packhouse::start(Server::Production).expect("it starts");
    let json = "Content-Type: application/json\r\n";
    let signing_in = |password: &str| {
        let body = format!(r#"{{"email": "clerk@packhouse.example", "password": "{password}"}}"#);
        ask(&packhouse, "POST", "/session", json, &body)
    };
    assert_eq!(signing_in("windfall-local").status, 401, "each server has its own password");
    let right = signing_in("windfall-production");
    let token = right.json()["token"].as_str().expect("a token").to_owned();
    assert!(right.head.contains(&format!("set-cookie: packhouse_session={token}; path=/; httponly")), "{}", right.head);
    let cookie = format!("Cookie: a=b; packhouse_session={token}\r\n");
    assert_eq!(ask(&packhouse, "DELETE", "/session", &cookie, "").status, 204);
    assert_eq!(ask(&packhouse, "DELETE", "/session", &cookie, "").status, 401);
}

#[test]
fn grading_goes_on_each_time_somebody_asks() {
    let packhouse = Packhouse::start(Server::Local).expect("it starts");
    assert_eq!(ask(&packhouse, "POST", "/lots/L-1/grading", "", "").status, 404);
    let job = ask(&packhouse, "POST", "/lots/L-2039/grading", "", "");
    assert_eq!(job.status, 202);
    assert!(job.head.contains("location: /gradings/1"), "{}", job.head);
    let states: Vec<_> = (0..4).map(|_| ask(&packhouse, "GET", "/gradings/1", "", "").json()).collect();
    let message: Vec<_> = states.iter().map(|state| state["state"].as_str().expect("a state")).collect();
    assert_eq!(message, ["queued", "running", "done", "done"]);
    assert_eq!((&states[1]["grade"], &states[2]["grade"]), (&serde_json::Value::Null, &"A".into()));
    for missing in ["/gradings/0", "/gradings/2"] {
        assert_eq!(ask(&packhouse, "GET", missing, "", "").status, 404, "{missing}");
    }
}

#[test]
fn the_flaky_scale_fails_as_often_as_it_is_told_to() {
    let packhouse = Packhouse::start(Server::Local).expect("it starts");
    let statuses = |key: &str| {
        let target = format!("/scale/flaky?key={key}&fails=2");
        (0..4).map(|_| ask(&packhouse, "GET", &target, "", "").status).collect::<Vec<_>>()
    };
    assert_eq!(statuses("a"), [503, 503, 200, 200]);
    assert_eq!(statuses("b"), [503, 503, 200, 200], "each key by itself");
    assert_eq!(ask(&packhouse, "GET", "/scale/flaky?key=a", "", "").status, 400);
}

#[test]
fn a_truck_announces_itself_with_a_form() {
    let packhouse = Packhouse::start(Server::Local).expect("it starts");
    let form = "Content-Type: application/x-www-form-urlencoded\r\n";
    let taken = ask(&packhouse, "POST", "/gate/arrivals", form, "grower=G-11&bins=24&truck=PK+4616%2FA");
    assert_eq!((taken.status, taken.json()["truck"].as_str()), (201, Some("PK 4616/A")));
    for (body, fields) in [("grower=G-99&bins=24", vec!["grower"]), ("bins=401", vec!["grower", "bins"])] {
        let refused = ask(&packhouse, "POST", "/gate/arrivals", form, body);
        assert_eq!(refused.status, 422);
        let errors = refused.json()["errors"].as_array().expect("errors").clone();
        let named: Vec<_> = errors.iter().map(|error| error["field"].as_str().expect("a field").to_owned()).collect();
        assert_eq!(named, fields, "{body}");
    }
}

#[test]
fn an_export_has_as_many_bytes_as_are_asked_for() {
    let packhouse = Packhouse::start(Server::Local).expect("it starts");
    for bytes in [0, 21, 600_000] {
        let export = ask(&packhouse, "GET", &format!("/export.csv?bytes={bytes}"), "", "");
        assert_eq!((export.status, export.body.len()), (200, bytes));
        assert!(export.head.contains(&format!("content-length: {bytes}")), "{}", export.head);
    }
    assert_eq!(ask(&packhouse, "GET", "/export.csv?bytes=-1", "", "").status, 400);
}

#[test]
fn the_office_gives_tokens_and_takes_only_its_own() {
    let packhouse = Packhouse::start(Server::Local).expect("it starts");
    let form = "Content-Type: application/x-www-form-urlencoded\r\n";
    let token = |fields: &str| ask(&packhouse, "POST", "/oauth/token", form, fields);
    let client = "client_id=packhouse-desk&client_secret=local-key-4616";
    let payroll = |token: &str| ask(&packhouse, "GET", "/payroll", &format!("Authorization: Bearer {token}\r\n"), "");

    let strange = token("grant_type=client_credentials&client_id=packhouse-desk&client_secret=production-key-9027");
    assert_eq!((strange.status, strange.json()["error"].as_str()), (401, Some("invalid_client")));
    let unknown = token(&format!("{client}&grant_type=device_code"));
    assert_eq!((unknown.status, unknown.json()["error"].as_str()), (400, Some("unsupported_grant_type")));
    let wrong = token(&format!("{client}&grant_type=password&username=clerk@packhouse.example&password=windfall"));
    assert_eq!((wrong.status, wrong.json()["error"].as_str()), (400, Some("invalid_grant")));

    let first = token(&format!("{client}&grant_type=client_credentials")).json();
    assert_eq!((first["expires_in"].as_i64(), first["renewed"].as_bool()), (Some(3600), Some(false)));
    assert_eq!(payroll(first["access_token"].as_str().expect("a token")).status, 200);
    assert_eq!(payroll("nobody").status, 401);
    let refresh = first["refresh_token"].as_str().expect("a token");
    let renew = || token(&format!("{client}&grant_type=refresh_token&refresh_token={refresh}&scope=brief"));
    let second = renew().json();
    assert_eq!((second["renewed"].as_bool(), second["expires_in"].as_i64()), (Some(true), Some(5)));
    assert_eq!(renew().status, 400, "a token renews once");
    assert_eq!(payroll(second["access_token"].as_str().expect("a token")).json()["tokens_given"], 2);
    assert_eq!(ask(&packhouse, "DELETE", "/oauth/token", "", "").status, 204);
    assert_eq!(payroll(second["access_token"].as_str().expect("a token")).status, 401);
}

#[test]
fn the_ledger_wants_a_digest() {
    let packhouse = Packhouse::start(Server::Local).expect("it starts");
    let closed = ask(&packhouse, "GET", "/ledger", "", "");
    assert_eq!(closed.status, 401);
    assert!(
        closed.head.contains("www-authenticate: digest realm=\"packhouse office\", qop=\"auth\""),
        "{}",
        closed.head
    );
    let guess = "Authorization: Digest username=\"clerk@packhouse.example\", nonce=\"x\", response=\"y\"\r\n";
    assert_eq!(ask(&packhouse, "GET", "/ledger", guess, "").status, 401);
}
