//! Bodies: streamed files, responses that are passed on, cookies beside them.

use std::io::{self, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use yieldtray_http::{Body, BodyPart, Exchange, Failure, FailureKind, FileBody, PreparedRequest};
use yieldtray_transport::{Client, Options, Received, Sink, Streaming};

fn prepared(method: &str, url: &str) -> PreparedRequest {
    PreparedRequest::new(method, url.parse().expect("an address"))
}

fn run<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime").block_on(work)
}

/// A request as it arrives: its head and its body, read by its length.
fn receive(stream: &mut TcpStream) -> Option<(String, Vec<u8>)> {
    let mut bytes = Vec::new();
    let mut block = [0; 65536];
    loop {
        let read = stream.read(&mut block).ok().filter(|read| *read > 0)?;
        bytes.extend_from_slice(&block[..read]);
        let Some(end) = bytes.windows(4).position(|four| four == b"\r\n\r\n") else { continue };
        let head = String::from_utf8_lossy(&bytes[..end]).to_ascii_lowercase();
        let length = head.split("content-length: ").nth(1).and_then(|rest| rest.split("\r\n").next()?.parse().ok());
        while bytes.len() < end + 4 + length.unwrap_or(0) {
            let read = stream.read(&mut block).ok().filter(|read| *read > 0)?;
            bytes.extend_from_slice(&block[..read]);
        }
        return Some((head, bytes[end + 4..].to_vec()));
    }
}

/// A server that responds to each request of each connection by its head, and records what it received.
fn server(answer: impl Fn(&str) -> Vec<u8> + Send + Sync + 'static) -> (String, Receiver<(String, Vec<u8>)>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let host = listener.local_addr().expect("an address").to_string();
    let (sender, came) = channel();
    let answer = Arc::new(answer);
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let (sender, answer) = (sender.clone(), Arc::clone(&answer));
            thread::spawn(move || {
                while let Some((head, body)) = receive(&mut stream) {
                    let answer = answer(&head);
                    let _ = sender.send((head, body));
                    if stream.write_all(&answer).is_err() {
                        return;
                    }
                }
            });
        }
    });
    (host, came)
}

fn fine(body: &str) -> Vec<u8> {
    format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n{body}", body.len()).into_bytes()
}

fn file(path: &std::path::Path, size: u64) -> BodyPart {
    BodyPart::File(FileBody { path: path.to_owned(), shown: "photos/lot.jpg".to_owned(), size })
}

#[test]
fn pieces_go_out_in_order_and_with_their_length() {
    let folder = tempfile::tempdir().expect("a folder");
    let photo = folder.path().join("lot.jpg");
    let bytes: Vec<u8> = (0..600_000u32).map(|n| (n % 251) as u8).collect();
    std::fs::write(&photo, &bytes).expect("a file");
    let (host, came) = server(|_| fine(""));
    let mut request = prepared("POST", &format!("http://{host}/lots/L-1/photos"));
    let text = |text: &'static str| BodyPart::Bytes(bytes::Bytes::from_static(text.as_bytes()));
    request.body = Some(Body::Pieces(vec![text("before|"), file(&photo, 600_000), text("|after")]));
    let exchange = run(Client::new(Options::default()).send(&Arc::new(request))).expect("an answer");
    let (head, body) = came.recv().expect("a request");
    assert_eq!(exchange.status, 200);
    assert!(head.contains("content-length: 600013"), "{head}");
    assert!(body.starts_with(b"before|") && body.ends_with(b"|after"));
    assert_eq!(&body[7..600_007], bytes);
}

#[test]
fn a_file_that_changes_while_it_is_sent_breaks_the_request_off() {
    let folder = tempfile::tempdir().expect("a folder");
    let photo = folder.path().join("lot.jpg");
    std::fs::write(&photo, [7; 1000]).expect("a file");
    let (host, _came) = server(|_| fine(""));
    let send = |path: &std::path::Path, size| {
        let mut request = prepared("POST", &format!("http://{host}/photos"));
        request.body = Some(Body::Pieces(vec![file(path, size)]));
        run(Client::new(Options::default()).send(&Arc::new(request)))
    };
    // It grew: what was promised goes out, and no more.
    assert_eq!(send(&photo, 600).expect("an answer").status, 200);
    let shorter = send(&photo, 2000).expect_err("too little is there");
    assert!(shorter.message.contains("was truncated"), "{}", shorter.message);
    let gone = send(&folder.path().join("gone.jpg"), 10).expect_err("it is not there");
    assert!(gone.message.contains("photos/lot.jpg"), "{}", gone.message);
}

/// Keeps what it gets, until it has enough.
#[derive(Default)]
struct Basket {
    promised: Option<u64>,
    bytes: Vec<u8>,
    full_at: Option<usize>,
}

impl Sink for Basket {
    fn begin(&mut self, length: Option<u64>) {
        self.promised = length;
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.bytes.extend_from_slice(bytes);
        match self.full_at {
            Some(full) if self.bytes.len() > full => Err(io::Error::other("the basket is full")),
            _ => Ok(()),
        }
    }
}

fn pass_on(host: &str, limit: u64, hold: bool, basket: &mut Basket) -> Result<Exchange, Failure> {
    let options = Options { body_limit: limit, ..Options::default() };
    let request = Arc::new(prepared("GET", &format!("http://{host}/export.csv")));
    let streaming = Streaming { most: u64::MAX, json: false };
    run(Client::new(options).send_to(&request, basket, hold, streaming)).map(Received::into_exchange)
}

#[test]
fn a_body_is_passed_on_whole_and_held_as_far_as_it_may_be() {
    let (host, _came) = server(|_| fine(&"L-2043,24\n".repeat(20_000)));
    for (limit, hold, held) in [(1 << 20, true, 200_000), (1000, true, 0), (1 << 20, false, 0)] {
        let mut basket = Basket::default();
        let exchange = pass_on(&host, limit, hold, &mut basket).expect("an answer");
        assert_eq!((basket.promised, basket.bytes.len()), (Some(200_000), 200_000), "{limit} {hold}");
        assert_eq!((exchange.size, exchange.body.len()), (200_000, held), "{limit} {hold}");
        assert_eq!(exchange.is_body_complete(), held > 0, "a part is never held");
    }
    let mut small = Basket { full_at: Some(100), ..Basket::default() };
    let failure = pass_on(&host, 1 << 20, false, &mut small).expect_err("it cannot be kept");
    assert_eq!(failure.kind, FailureKind::NotSaved);
    assert!(failure.message.contains("the basket is full"), "{}", failure.message);
}

#[test]
fn clients_beside_each_other_share_connections_and_no_cookies() {
    let (host, came) = server(|head| match head.starts_with("get /session") {
        true => b"HTTP/1.1 200 OK\r\nSet-Cookie: shift=early; Path=/\r\nContent-Length: 0\r\n\r\n".to_vec(),
        false => fine(""),
    });
    let get = |path: &str| Arc::new(prepared("GET", &format!("http://{host}{path}")));
    let one = Client::new(Options::default());
    let other = one.with_own_cookies();
    run(async {
        one.send(&get("/session")).await.expect("an answer");
        one.send(&get("/lots")).await.expect("an answer");
        other.send(&get("/lots")).await.expect("an answer");
        other.jar().add(&one.jar().clone());
        other.send(&get("/lots")).await.expect("an answer");
    });
    let heads: Vec<String> = came.try_iter().map(|(head, _)| head).collect();
    let cookies: Vec<bool> = heads.iter().map(|head| head.contains("cookie: shift=early")).collect();
    assert_eq!(cookies, [false, true, false, true]);
}

#[test]
fn cookies_and_credentials_stay_behind_at_another_origin() {
    let (far, far_came) = server(|_| fine("far"));
    let leads = far.clone();
    let (near, near_came) = server(move |head| {
        let cookie = "Set-Cookie: shift=early; Path=/\r\n";
        let place = if head.starts_with("get /away") { format!("http://{leads}/x") } else { "/here".to_owned() };
        match head.starts_with("get /here") {
            true => fine("near"),
            false => {
                format!("HTTP/1.1 302 Found\r\n{cookie}Location: {place}\r\nContent-Length: 0\r\n\r\n").into_bytes()
            }
        }
    });
    let client = Client::new(Options::default());
    let send = |path: &str| {
        let mut request = prepared("GET", &format!("http://{near}{path}"));
        request.headers.push(("Authorization".into(), "Bearer t-4616".into()));
        run(client.send(&Arc::new(request))).expect("an answer")
    };
    assert_eq!(&send("/round").body[..], b"near");
    let here = near_came.try_iter().last().expect("a second request").0;
    assert!(here.contains("authorization: bearer t-4616") && here.contains("cookie: shift=early"), "{here}");
    let away = send("/away");
    assert_eq!((&away.body[..], away.hops.len()), (&b"far"[..], 1));
    let (head, _) = far_came.recv().expect("a request");
    assert!(!head.contains("authorization"), "{head}");
    // Cookies know hosts, not ports (RFC 6265 8.5): both servers are one host to them.
    assert!(head.contains("cookie: shift=early"), "{head}");
}
