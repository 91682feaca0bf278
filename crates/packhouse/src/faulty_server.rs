//! The rough corner: a server that does everything wrong, path by path, on a plain socket. It is there
//! for tests of what a client makes of it.

use std::io::{self, Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread;
use std::time::Duration;

/// How long a path that says nothing says it.
const SILENCE_TIME: Duration = Duration::from_secs(60);

/// A rough corner that runs on threads of its own until it is dropped.
#[derive(Debug)]
pub struct FaultyServer {
    address: SocketAddr,
    ended: Arc<AtomicBool>,
    requests: Arc<AtomicUsize>,
}

impl FaultyServer {
    /// Starts one on a free loopback port.
    ///
    /// # Errors
    /// If no port can be had.
    pub fn start() -> io::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?;
        let address = listener.local_addr()?;
        let (ended, requests) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
        let (until, count) = (Arc::clone(&ended), Arc::clone(&requests));
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if until.load(Ordering::Relaxed) {
                    return;
                }
                let count = Arc::clone(&count);
                thread::spawn(move || {
                    let _ = serve(stream, &count);
                });
            }
        });
        Ok(Self { address, ended, requests })
    }

    /// Its base URL.
    pub fn base(&self) -> String {
        format!("http://{}", self.address)
    }

    /// How many requests arrived so far.
    pub fn requests(&self) -> usize {
        self.requests.load(Ordering::Relaxed)
    }
}

impl Drop for FaultyServer {
    fn drop(&mut self) {
        self.ended.store(true, Ordering::Relaxed);
        // The thread that waits for a connection gets one to end by.
        let _ = TcpStream::connect(self.address);
    }
}

/// Reads a request: its head, and its body as far as a Content-Length promises one.
fn read_request(stream: &mut TcpStream) -> io::Result<Vec<u8>> {
    let mut request = Vec::new();
    let mut block = [0; 65536];
    loop {
        let end = request.windows(4).position(|four| four == b"\r\n\r\n").map(|at| at + 4);
        if let Some(end) = end {
            let head = String::from_utf8_lossy(&request[..end]).to_ascii_lowercase();
            let length = head.lines().find_map(|line| line.strip_prefix("content-length:"));
            let length = length.and_then(|length| length.trim().parse::<usize>().ok()).unwrap_or(0);
            if request.len() >= end + length {
                return Ok(request);
            }
        }
        let read = stream.read(&mut block)?;
        if read == 0 {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        request.extend_from_slice(&block[..read]);
    }
}

fn serve(mut stream: TcpStream, count: &AtomicUsize) -> io::Result<()> {
    let mut before = 0;
    loop {
        let request = read_request(&mut stream)?;
        count.fetch_add(1, Ordering::Relaxed);
        let head = String::from_utf8_lossy(&request);
        let path = head.split(' ').nth(1).unwrap_or_default().split('?').next().unwrap_or_default().to_owned();
        let kept = answer(&mut stream, &path, &request, before)?;
        before += 1;
        if !kept {
            return Ok(());
        }
    }
}

/// Answers one request, the `before`th of its connection; whether another may follow.
fn answer(stream: &mut TcpStream, path: &str, request: &[u8], before: usize) -> io::Result<bool> {
    let whole = |stream: &mut TcpStream, kind: &str, body: &[u8]| {
        let head = format!("HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {}\r\n\r\n", body.len());
        stream.write_all(head.as_bytes())?;
        stream.write_all(body).map(|()| true)
    };
    match path {
        // Returns the request byte for byte.
        "/bytes" => return whole(stream, "application/octet-stream", request),
        "/no-answer" => thread::sleep(SILENCE_TIME),
        "/stall" => {
            stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\nhalf of")?;
            thread::sleep(SILENCE_TIME);
        }
        "/short" => stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 900\r\n\r\nhalf of")?,
        "/cut-head" => stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Le")?,
        "/bad-chunks" => {
            stream.write_all(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\nripe\r\nzz\r\n")?
        }
        "/cut-chunks" => stream.write_all(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\nripe\r\n")?,
        "/not-http" => stream.write_all(b"220 scale.packhouse.example ready\r\n")?,
        "/big-header" => {
            stream.write_all(b"HTTP/1.1 200 OK\r\nX-Manifest: ")?;
            let _ = stream.write_all(&vec![b'x'; 2 << 20]);
        }
        "/endless-headers" => {
            stream.write_all(b"HTTP/1.1 200 OK\r\n")?;
            for number in 0..1_000_000 {
                stream.write_all(format!("X-Lot-{number}: gala\r\n").as_bytes())?;
            }
        }
        "/endless" => {
            stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n\r\n")?;
            loop {
                stream.write_all(&[b'x'; 65536])?;
            }
        }
        "/bomb" => return whole_gzip(stream),
        "/interim" => {
            stream.write_all(b"HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 103 Early Hints\r\nLink: </lots>\r\n\r\n")?;
            return whole(stream, "text/plain", b"after the hints");
        }
        "/stray-204" => stream.write_all(b"HTTP/1.1 204 No Content\r\nContent-Length: 5\r\n\r\nstray")?,
        "/stray-304" => stream.write_all(b"HTTP/1.1 304 Not Modified\r\nContent-Length: 5\r\n\r\nstray")?,
        "/until-close" => stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n\r\nto the end")?,
        // The first of a connection is answered, the next is taken and the connection closed.
        "/drops-second" if before > 0 => {}
        "/drops-second" => return whole(stream, "text/plain", b"first"),
        "/latin1" => return whole(stream, "text/plain; charset=iso-8859-1", b"K\xe4the"),
        "/drives" => {
            let body = "\u{1b}[2J\u{1b}]0;owned\u{7}\rover\u{9b}31m\u{202e}sdrawkcab\u{2066}";
            return whole(stream, "text/plain; charset=utf-8", body.as_bytes());
        }
        "/drives-reason" => {
            stream.write_all(b"HTTP/1.1 299 \xc2\x9b31mRed\r\nX-Note: a\xc2\x9b2Jb\r\nContent-Length: 0\r\n\r\n")?
        }
        "/circle" => stream.write_all(b"HTTP/1.1 302 Found\r\nLocation: /circle\r\nContent-Length: 0\r\n\r\n")?,
        "/nowhere" => {
            stream.write_all(b"HTTP/1.1 302 Found\r\nLocation: gopher://field\r\nContent-Length: 0\r\n\r\n")?
        }
        _ => match path.strip_prefix("/on/") {
            // `/on/3` leads to `/on/2` and so on.
            Some(left) => {
                let left: u32 = left.parse().unwrap_or(0);
                let head = match left.checked_sub(1) {
                    Some(next) => format!("HTTP/1.1 302 Found\r\nLocation: /on/{next}\r\nContent-Length: 0\r\n\r\n"),
                    None => "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nhere".to_owned(),
                };
                stream.write_all(head.as_bytes())?;
                return Ok(true);
            }
            None => stream.write_all(b"HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\n\r\n")?,
        },
    }
    Ok(false)
}

/// A small body that becomes 96 MiB of nothing once it is unpacked.
fn whole_gzip(stream: &mut TcpStream) -> io::Result<bool> {
    let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    let block = vec![0; 1 << 20];
    for _ in 0..96 {
        encoder.write_all(&block)?;
    }
    let body = encoder.finish()?;
    let head = format!("HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\nContent-Length: {}\r\n\r\n", body.len());
    stream.write_all(head.as_bytes())?;
    stream.write_all(&body).map(|()| true)
}
