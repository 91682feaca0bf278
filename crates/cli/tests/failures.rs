//! Servers that do not answer as they should: each has its own words, and exit code 3.

mod support;

use support::{Bench, raw_server};

#[track_caller]
fn fails(base: &str, kind: &str, words: &str) {
    let bench = Bench::empty();
    let run = bench.run(&["send", "--text", &format!("GET {base}/lots")]).exits(3);
    assert!(run.stderr.contains(words), "{}", run.stderr);
    assert_eq!(run.stdout, "");
    let data = bench.run(&["send", "--text", &format!("GET {base}/lots"), "--json"]).exits(3).json();
    assert_eq!(data["cells"][0]["failure"]["kind"], kind);
}

#[test]
fn nothing_listens() {
    fails("http://127.0.0.1:1", "refused", "nothing answers at 127.0.0.1:1: the connection was refused");
}

#[test]
fn nobody_knows_the_name() {
    fails("http://no-such-packhouse.invalid", "no-such-host", "no host `no-such-packhouse.invalid`");
}

#[test]
fn the_connection_ends_without_an_answer() {
    fails(&raw_server(b"", false), "broken-off", "broke the connection off before the answer was whole");
}

#[test]
fn the_body_ends_early() {
    let cut = b"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\n{\"lots\": [";
    fails(&raw_server(cut, false), "broken-off", "broke the connection off before the answer was whole");
}

#[test]
fn the_answer_is_not_http() {
    fails(&raw_server(b"220 scale ready\r\n", false), "not-http", "is not HTTP");
}

#[test]
fn the_coding_is_not_what_it_says() {
    let coded = b"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: 5\r\n\r\nplain";
    fails(&raw_server(coded, false), "not-http", "the body 127.0.0.1");
}

#[test]
fn the_server_speaks_plain_http() {
    let base =
        raw_server(b"HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n", false).replace("http://", "https://");
    fails(&base, "tls", "does not answer with TLS");
}

#[test]
fn redirects_without_end() {
    let round = b"HTTP/1.1 302 Found\r\nLocation: /lots\r\nContent-Length: 0\r\nConnection: close\r\n\r\n";
    fails(&raw_server(round, false), "redirect", "go in a circle");
}

#[test]
fn a_redirect_to_nowhere() {
    let nowhere = b"HTTP/1.1 302 Found\r\nLocation: mailto:clerk@packhouse.example\r\nContent-Length: 0\r\n\r\n";
    fails(&raw_server(nowhere, false), "redirect", "it leads to `mailto`, which cannot be sent to");
}

#[test]
fn what_a_server_sends_never_drives_the_output() {
    let hostile = b"HTTP/1.1 200 \x1b[31mOK\r\nContent-Type: text/plain\r\nX-A: \xffb\r\nContent-Length: 11\r\n\r\n\x1b[2Jmoved\r\n";
    let bench = Bench::empty();
    let base = raw_server(hostile, false);
    let run = bench.run(&["send", "--text", &base, "--show", "all"]);
    assert!(!run.both().contains('\u{1b}'), "{:?}", run.both());
}

#[cfg(unix)]
#[test]
fn an_interrupt_ends_it_at_once() {
    use std::process::{Command, Stdio};
    use std::time::{Duration, Instant};

    let bench = Bench::empty();
    let base = raw_server(b"HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nhalf", true);
    let sending = support::command(bench.path())
        .args(["send", "--text", &base])
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .expect("it starts");
    std::thread::sleep(Duration::from_millis(300));
    let start = Instant::now();
    let interrupt = Command::new("sh").args(["-c", &format!("kill -INT {}", sending.id())]).status().expect("a shell");
    assert!(interrupt.success());
    let output = sending.wait_with_output().expect("it ends");
    let said = String::from_utf8_lossy(&output.stderr);
    // As a shell reports the signal: 128 + 2.
    assert_eq!(output.status.code(), Some(130), "{said}");
    assert!(said.contains("interrupted before the answer was there"), "{said}");
    assert!(start.elapsed() < Duration::from_secs(5));
}
