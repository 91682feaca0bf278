//! A server that records each request byte for byte.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::thread;

/// A request as it arrived.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Arrived {
    pub method: String,
    pub target: String,
    /// By name in lower case, values in order, as bytes.
    pub headers: BTreeMap<String, Vec<Vec<u8>>>,
    pub body: Vec<u8>,
}

/// Takes requests on loopback and keeps them.
pub struct RequestRecorder {
    pub address: String,
    arrived: Arc<Mutex<Vec<Arrived>>>,
}

impl RequestRecorder {
    pub fn open() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let address = listener.local_addr().expect("an address").to_string();
        let arrived: Arc<Mutex<Vec<Arrived>>> = Arc::default();
        let kept = Arc::clone(&arrived);
        thread::spawn(move || {
            for stream in listener.incoming().map_while(Result::ok) {
                let kept = Arc::clone(&kept);
                thread::spawn(move || {
                    take(&stream, &kept);
                });
            }
        });
        Self { address, arrived }
    }

    /// All that arrived since it was asked last.
    pub fn all(&self) -> Vec<Arrived> {
        std::mem::take(&mut *self.arrived.lock().expect("nobody failed with it"))
    }

    /// The last of it.
    pub fn last(&self) -> Option<Arrived> {
        self.all().pop()
    }
}

/// Reads one request and responds.
fn take(stream: &TcpStream, kept: &Mutex<Vec<Arrived>>) -> Option<()> {
    let mut reader = BufReader::new(stream);
    let line = |reader: &mut BufReader<&TcpStream>| {
        let mut line = Vec::new();
        reader.read_until(b'\n', &mut line).ok()?;
        while line.last().is_some_and(u8::is_ascii_whitespace) {
            line.pop();
        }
        Some(line)
    };
    let first = String::from_utf8(line(&mut reader)?).ok()?;
    let mut words = first.split(' ');
    let mut request =
        Arrived { method: words.next()?.to_owned(), target: words.next()?.to_owned(), ..Arrived::default() };
    loop {
        let field = line(&mut reader)?;
        let Some(colon) = field.iter().position(|byte| *byte == b':') else { break };
        let name = String::from_utf8_lossy(&field[..colon]).to_ascii_lowercase();
        request.headers.entry(name).or_default().push(field[colon + 1..].trim_ascii().to_vec());
    }
    let one = |name: &str| request.headers.get(name).map(|values| String::from_utf8_lossy(&values[0]).into_owned());
    if one("expect").is_some() {
        (&mut &*stream).write_all(b"HTTP/1.1 100 Continue\r\n\r\n").ok()?;
    }
    if one("transfer-encoding").is_some() {
        loop {
            let size = usize::from_str_radix(&String::from_utf8(line(&mut reader)?).ok()?, 16).ok()?;
            let mut piece = vec![0; size];
            reader.read_exact(&mut piece).ok()?;
            request.body.extend(piece);
            line(&mut reader)?;
            if size == 0 {
                break;
            }
        }
    } else if let Some(length) = one("content-length").and_then(|length| length.parse().ok()) {
        request.body = vec![0; length];
        reader.read_exact(&mut request.body).ok()?;
    }
    let is_head = request.method == "HEAD";
    // It is stored before the response is sent: a test may read it right after.
    kept.lock().expect("nobody failed with it").push(request);
    let body = r#"{"lots": [{"id": "L/7 é\""}], "n": 7}"#;
    let head = "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nX-Lot: L 7/x\r\nConnection: close\r\n";
    let length = format!("Content-Length: {}\r\n\r\n", body.len());
    (&mut &*stream).write_all(format!("{head}{length}{}", if is_head { "" } else { body }).as_bytes()).ok()
}

/// The fields that somebody set: those that each program adds by itself are left out.
pub fn set(arrived: &Arrived) -> BTreeMap<String, Vec<Vec<u8>>> {
    let own = |name: &str, values: &[Vec<u8>]| {
        let value = String::from_utf8_lossy(&values[0]).into_owned();
        match name {
            "host" | "content-length" | "connection" | "transfer-encoding" | "expect" => false,
            "accept" => value != "*/*",
            "accept-encoding" => value != "gzip, br, zstd",
            "user-agent" => !value.starts_with("yieldtray/"),
            _ => true,
        }
    };
    arrived
        .headers
        .iter()
        .filter(|(name, values)| own(name, values))
        .map(|(name, values)| (name.clone(), values.clone()))
        .collect()
}
