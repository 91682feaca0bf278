//! The client against servers that are slow or faulty, on loopback.

use rustls::ServerConfig;
use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};
use yieldtray_http::{Exchange, Failure, FailureKind, HttpVersion, PreparedRequest};
use yieldtray_transport::{Client, Options};

fn get(url: &str) -> PreparedRequest {
    PreparedRequest::new("GET", url.parse().expect("an address"))
}

fn send(options: Options, prepared: &PreparedRequest) -> Result<Exchange, Failure> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    runtime.block_on(Client::new(options).send(&Arc::new(prepared.clone())))
}

/// A server that hands each connection to `serve`.
fn server(serve: impl Fn(std::net::TcpStream) + Send + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    thread::spawn(move || listener.incoming().flatten().for_each(serve));
    address.to_string()
}

fn read_request(stream: &mut impl Read) -> Vec<u8> {
    let mut request = vec![0; 4096];
    let read = stream.read(&mut request).unwrap_or(0);
    request.truncate(read);
    request
}

#[test]
fn a_server_that_never_answers_is_given_up() {
    let stalled = server(|mut stream| {
        read_request(&mut stream);
        thread::sleep(Duration::from_secs(5));
    });
    let mid_body = server(|mut stream| {
        read_request(&mut stream);
        let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nhalf");
        thread::sleep(Duration::from_secs(5));
    });
    for host in [stalled, mid_body] {
        let start = Instant::now();
        let mut request = get(&format!("http://{host}/"));
        request.sending.timeout = Duration::from_millis(200);
        let failure = send(Options::default(), &request).expect_err("no answer comes");
        assert_eq!(failure.kind, FailureKind::TimedOut);
        assert_eq!(failure.message, format!("timed out after 0.2 s waiting for {host}"));
        assert!(start.elapsed() < Duration::from_secs(4));
    }
}

#[test]
fn a_body_beyond_the_limit_is_refused() {
    let endless = server(|mut stream| {
        read_request(&mut stream);
        let _ = stream.write_all(b"HTTP/1.1 200 OK\r\n\r\n");
        while stream.write_all(&[b'x'; 65536]).is_ok() {}
    });
    let options = Options { body_limit: 1 << 20, ..Options::default() };
    let failure = send(options, &get(&format!("http://{endless}/"))).expect_err("too much comes");
    assert_eq!(
        (failure.kind, failure.message),
        (FailureKind::TooLarge, format!("the response body from {endless} is larger than 1 MiB"))
    );
}

#[test]
fn content_codings_are_taken_off_and_stay_visible() {
    // `gala, fuji`, coded by other programs.
    let bodies: [(&str, &[u8]); 2] = [
        (
            "gzip",
            &[
                0x1f, 0x8b, 0x8, 0x0, 0x0, 0x0, 0x0, 0x0, 0x2, 0x3, 0x4b, 0x4f, 0xcc, 0x49, 0xd4, 0x51, 0x48, 0x2b,
                0xcd, 0xca, 0x4, 0x0, 0xc1, 0xa2, 0x88, 0x67, 0xa, 0x0, 0x0, 0x0,
            ],
        ),
        (
            "zstd",
            &[0x28, 0xb5, 0x2f, 0xfd, 0x20, 10, 0x51, 0, 0, b'g', b'a', b'l', b'a', b',', b' ', b'f', b'u', b'j', b'i'],
        ),
    ];
    for (coding, bytes) in bodies {
        let host = server(move |mut stream| {
            read_request(&mut stream);
            let head =
                format!("HTTP/1.1 200 OK\r\nContent-Encoding: {coding}\r\nContent-Length: {}\r\n\r\n", bytes.len());
            let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(bytes));
        });
        let exchange = send(Options::default(), &get(&format!("http://{host}/"))).expect(coding);
        assert_eq!(&exchange.body[..], b"gala, fuji", "{coding}");
        assert_eq!(exchange.header("content-encoding").as_deref(), Some(coding));
    }
}

#[test]
fn an_answer_without_a_body_needs_no_coding() {
    let host = server(|mut stream| {
        read_request(&mut stream);
        let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: 55\r\n\r\n");
    });
    let mut head = get(&format!("http://{host}/"));
    head.method = "HEAD".to_owned();
    let exchange = send(Options::default(), &head).expect("an answer");
    assert_eq!((exchange.size, exchange.header("content-encoding").as_deref()), (0, Some("gzip")));
}

#[test]
fn what_goes_out_is_what_was_prepared() {
    let (sender, receiver) = std::sync::mpsc::channel();
    let host = server(move |mut stream| {
        let _ = sender.send(read_request(&mut stream));
        let _ = stream.write_all(b"HTTP/1.1 299 Booked In\r\nB: 2\r\nA: 1\r\nB: 3\r\nContent-Length: 0\r\n\r\n");
    });
    let mut prepared = get(&format!("http://{host}/lots/%2F?a=1"));
    prepared.method = "WEIGH".to_owned();
    prepared.headers = vec![
        ("Accept".into(), "*/*".into()),
        ("X-Grower".into(), "Käthe".into()),
        ("X-Note".into(), "a".into()),
        ("X-Note".into(), "b".into()),
    ];
    prepared.body = Some("{}".into());
    let exchange = send(Options::default(), &prepared).expect("an answer");
    let request = String::from_utf8(receiver.recv().expect("a request")).expect("UTF-8");
    assert_eq!(
        request,
        format!(
            "WEIGH /lots/%2F?a=1 HTTP/1.1\r\naccept: */*\r\nx-grower: Käthe\r\nx-note: a\r\nx-note: b\r\nhost: {host}\r\ncontent-length: 2\r\n\r\n{{}}"
        )
    );
    assert_eq!((exchange.status, exchange.reason.as_str()), (299, "Booked In"));
    assert_eq!(exchange.headers[0], ("b".to_owned(), b"2".to_vec()));
}

/// A certificate that its own key signed, for `localhost`, and a server that shows it.
fn tls_server() -> (String, String) {
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()]).expect("a certificate");
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(made.signing_key.serialize_der()));
    let config = ServerConfig::builder_with_provider(rustls::crypto::ring::default_provider().into())
        .with_safe_default_protocol_versions()
        .expect("versions")
        .with_no_client_auth()
        .with_single_cert(vec![made.cert.der().clone()], key)
        .expect("a configuration");
    let config = Arc::new(config);
    let host = server(move |stream| {
        let Ok(connection) = rustls::ServerConnection::new(Arc::clone(&config)) else { return };
        let mut stream = rustls::StreamOwned::new(connection, stream);
        if !read_request(&mut stream).is_empty() {
            let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nopen");
        }
    });
    (host.replace("127.0.0.1", "localhost"), made.cert.pem())
}

/// The roots are read from the surroundings at the first handshake, so this runs in a process of its
/// own that has them set.
#[test]
fn a_real_handshake_trusts_the_roots_and_nothing_else() {
    if let Ok(host) = std::env::var("TRUSTED_HOST") {
        let exchange = send(Options::default(), &get(&format!("https://{host}/"))).expect("a trusted server answers");
        assert_eq!(&exchange.body[..], b"open");
        assert!(exchange.timings.lookup.is_some() && exchange.timings.connect.is_some(), "{:?}", exchange.timings);
        let other = get(&format!("https://{}/", host.replace("localhost", "127.0.0.1")));
        let failure = send(Options::default(), &other).expect_err("the certificate is for another name");
        assert_eq!(failure.kind, FailureKind::Tls);
        assert!(failure.message.ends_with("it is not valid for `127.0.0.1`"), "{}", failure.message);
        let mut old = get(&format!("https://{host}/"));
        old.version = Some(HttpVersion::Http2);
        send(Options::default(), &old).expect_err("this server speaks HTTP/1.1 alone");
        return;
    }
    let (host, pem) = tls_server();
    let folder = tempfile::tempdir().expect("a folder");
    let roots = folder.path().join("roots.pem");
    std::fs::write(&roots, pem).expect("a file");
    let this = std::env::current_exe().expect("this test");
    let status = std::process::Command::new(this)
        .args(["--exact", "a_real_handshake_trusts_the_roots_and_nothing_else"])
        .env("SSL_CERT_FILE", &roots)
        .env("TRUSTED_HOST", &host)
        .status()
        .expect("it starts");
    assert!(status.success());

    let failure = send(Options::default(), &get(&format!("https://{host}/"))).expect_err("self-signed and not trusted");
    assert_eq!(failure.kind, FailureKind::Tls);
}
