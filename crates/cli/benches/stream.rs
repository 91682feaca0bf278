//! Large bodies: what `cargo bench` prints are medians and ratios of runs that take turns.
//!
//! The bounds: `send --out` of 1 GiB at no less than 0.6 of curl's rate and below 25 MB of memory; 10 MB of
//! JSON laid out in colour faster than `jq .` does it; an upload of 200 MB by `% part` below 25 MB.

#![allow(clippy::print_stdout)]

mod common;

use common::{peak_memory, ratio, run, shown, take_turns};
use std::io::{Read, Write};
use std::net::TcpListener;
use std::path::Path;
use std::process::Command;
use std::thread;

const RUNS: usize = 5;
const LARGE: usize = 1 << 30;
const UPLOAD: usize = 200_000_000;

fn main() {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let base = server(document());
    let tool = Path::new(env!("CARGO_BIN_EXE_yieldtray"));
    let write = |name: &str, bytes: &[u8]| std::fs::write(folder.path().join(name), bytes).expect("a file");
    write("yieldtray.toml", format!("[values]\nbase = '{base}'\n[send]\ntimeout = '5m'\n").as_bytes());
    write("large.http", b"/large\n");
    write("document.http", b"/document\n");
    write("upload.http", b"POST /upload\n% part photo from photo.bin\n\n% check status == 200\n");
    write("photo.bin", &vec![b'x'; UPLOAD]);
    let send = |args: &[&str]| {
        let mut command = Command::new(tool);
        command.arg("send").args(args).current_dir(folder.path());
        command
    };
    let curl = |args: &[&str]| {
        let mut command = Command::new("curl");
        command.arg("-s").args(args).current_dir(folder.path());
        command
    };

    let url = format!("{base}/large");
    let times = take_turns(
        RUNS,
        &mut [&mut || run(&mut send(&["large.http", "--out", "large.bin"])), &mut || {
            run(&mut curl(&[&url, "-o", "curl.bin"]))
        }],
    );
    let rate = ratio(times[1], times[0]);
    println!("send --out of 1 GiB       {}   {rate:.2} of curl's rate (bound 0.6)", shown(times[0]));
    println!("curl -o                   {}", shown(times[1]));
    let peak = peak_memory(&mut send(&["large.http", "--out", "large.bin"]));
    println!("  peak memory             {:>8.1} MB (bound 25)", peak as f64 * 1.024 / 1e3);

    let times = take_turns(
        RUNS,
        &mut [&mut || {
            run(&mut send(&["document.http", "--show", "body", "--color", "always"]));
        }],
    );
    println!("10 MB of JSON in colour   {}", shown(times[0]));
    write("document.json", &document());
    if Command::new("jq").arg("--version").output().is_ok() {
        let times_jq = take_turns(
            RUNS,
            &mut [&mut || {
                run(Command::new("jq").args(["-C", ".", "document.json"]).current_dir(folder.path()));
            }],
        );
        let share = ratio(times[0], times_jq[0]);
        println!("jq -C .                   {}   {share:.2} of it (bound 1)", shown(times_jq[0]));
    } else {
        println!("jq is not here to compare with");
    }

    let times = take_turns(
        RUNS,
        &mut [&mut || run(&mut send(&["upload.http"])), &mut || {
            run(&mut curl(&["-F", "photo=@photo.bin", &format!("{base}/upload"), "-o", "answer"]))
        }],
    );
    let share = ratio(times[0], times[1]);
    println!("upload of 200 MB          {}   {share:.2} of curl's time", shown(times[0]));
    let peak = peak_memory(&mut send(&["upload.http"]));
    println!("  peak memory             {:>8.1} MB (bound 25)", peak as f64 * 1.024 / 1e3);
}

/// Some 10 MB of JSON: weighings as an API would list them.
fn document() -> Vec<u8> {
    let line = |n: usize| {
        format!(
            "{{\"id\":\"W-{n}\",\"lot\":\"L-{}\",\"kg\":{}.5,\"ripe\":{},\"note\":\"tray {n} of the north gate\",\"rows\":[1,2,{n}]}}",
            n % 977,
            n % 400,
            n.is_multiple_of(3)
        )
    };
    let lines: Vec<String> = (0..93_000).map(line).collect();
    format!("{{\"weighings\":[{}]}}", lines.join(",")).into_bytes()
}

/// A server on plain sockets, so that it costs as little as can be.
fn server(document: Vec<u8>) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let document = document.clone();
            thread::spawn(move || {
                let mut block = vec![b'x'; 1 << 20];
                let read = stream.read(&mut block).unwrap_or(0);
                let head = String::from_utf8_lossy(&block[..read]).into_owned();
                let length = |length: usize, kind: &str| {
                    format!(
                        "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n"
                    )
                };
                if head.starts_with("GET /large") {
                    let _ = stream.write_all(length(LARGE, "text/csv").as_bytes());
                    for _ in 0..LARGE >> 20 {
                        if stream.write_all(&block).is_err() {
                            return;
                        }
                    }
                } else if head.starts_with("GET /document") {
                    let _ = stream.write_all(length(document.len(), "application/json").as_bytes());
                    let _ = stream.write_all(&document);
                } else {
                    let lower = head.to_ascii_lowercase();
                    if lower.contains("expect: 100-continue") {
                        let _ = stream.write_all(b"HTTP/1.1 100 Continue\r\n\r\n");
                    }
                    let promised = lower.lines().find_map(|line| line.strip_prefix("content-length:"));
                    let promised: usize = promised.and_then(|number| number.trim().parse().ok()).unwrap_or(0);
                    let body_at = head.find("\r\n\r\n").map_or(read, |at| at + 4);
                    let mut left = promised.saturating_sub(read - body_at);
                    while left > 0 {
                        match stream.read(&mut block) {
                            Ok(0) | Err(_) => return,
                            Ok(read) => left = left.saturating_sub(read),
                        }
                    }
                    let _ = stream.write_all(length(2, "application/json").as_bytes());
                    let _ = stream.write_all(b"{}");
                }
            });
        }
    });
    format!("http://{address}")
}
