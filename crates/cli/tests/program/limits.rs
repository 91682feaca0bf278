//! Limits: whatever a server or a file contains, a run ends: in time, with little memory, and at the second signal.

use crate::support::TestWorkspace;
use std::fmt::Write as _;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::os::unix::process::ExitStatusExt;
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

/// A server that sends for each path the bytes of `answer`, one piece at a time.
fn server(answer: impl Fn(&str) -> Vec<Vec<u8>> + Send + Sync + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    let answer = std::sync::Arc::new(answer);
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            let answer = std::sync::Arc::clone(&answer);
            thread::spawn(move || {
                let mut request = vec![0; 16 << 10];
                let size = stream.read(&mut request).unwrap_or_default();
                let line = String::from_utf8_lossy(&request[..size]).into_owned();
                let path = line.split(' ').nth(1).unwrap_or_default().to_owned();
                for piece in answer(&path) {
                    if stream.write_all(&piece).is_err() {
                        return;
                    }
                    thread::sleep(Duration::from_millis(20));
                }
                // The connection stays open: who waits for more shall give up by itself.
                thread::sleep(Duration::from_secs(60));
            });
        }
    });
    format!("http://{address}")
}

fn whole(media: &str, body: &[u8]) -> Vec<Vec<u8>> {
    let head = format!("HTTP/1.1 200 OK\r\nContent-Type: {media}\r\nContent-Length: {}\r\n\r\n", body.len());
    vec![[head.as_bytes(), body].concat()]
}

/// The program with one and a half gigabytes of address space, for at most this time.
#[track_caller]
fn limited(workspace: &TestWorkspace, args: &[&str], seconds: u64) -> crate::support::Run {
    let mut command = Command::new("sh");
    command
        .arg("-c")
        .arg("ulimit -v 1500000; exec \"$0\" \"$@\"")
        .arg(crate::support::program())
        .args(args)
        .current_dir(workspace.path());
    command
        .env("XDG_STATE_HOME", workspace.home())
        .env("YIELDTRAY_ALLOW", workspace.path())
        .env_remove("YIELDTRAY_ENV");
    let begun = Instant::now();
    let run = crate::support::run(command, "");
    let took = begun.elapsed();
    assert!(took < Duration::from_secs(seconds), "it took {took:?}: {}", run.both());
    assert!(run.code <= 3, "{}", run.both());
    run
}

#[test]
fn answers_that_mean_harm_end_in_words() {
    let base = server(|path| match path {
        "/codings" => {
            let codings = vec!["gzip"; 10_000].join(",");
            vec![format!("HTTP/1.1 200 OK\r\nContent-Encoding: {codings}\r\nContent-Length: 3\r\n\r\nabc").into_bytes()]
        }
        "/redirect" => vec![b"HTTP/1.1 302 Found\r\nLocation: /end\r\nContent-Length: 100\r\n\r\nx".to_vec()],
        "/end" => whole("text/plain", b"here"),
        "/deep" => whole("application/xml", "<a b='/>'>".repeat(20_000).as_bytes()),
        "/comments" => whole("application/xml", "<a><!--</x>-->".repeat(20_000).as_bytes()),
        "/attributes" => {
            let mut xml = String::from("<a");
            (0..50_000).for_each(|number| write!(xml, " x{number}='1'").expect("a text"));
            whole("application/xml", (xml + "/>").as_bytes())
        }
        "/siblings" => whole("application/xml", format!("<a>{}</a>", "<b/>".repeat(40_000)).as_bytes()),
        "/members" => {
            let members: Vec<String> =
                (0..8_000).map(|number| format!("\"m{number}\":\"secret-{number:050}\"")).collect();
            whole("application/json", format!("{{{}}}", members.join(",")).as_bytes())
        }
        _ => whole("text/plain", b"x"),
    });
    let workspace = TestWorkspace::empty().file("yieldtray.toml", &format!("[values]\nbase = '{base}'\n")).file(
        "a.http",
        "%% codings\n/codings\n\n%% redirect\n% timeout 2s\n/redirect\n\n% save end.txt\n\n\
         %% deep\n/deep\n\n% check xpath(text, 'count(//a)') > 0\n\n%% comments\n/comments\n\n% check xpath(text, 'count(//a)') > 0\n\n\
         %% attributes\n/attributes\n\n% check xpath(text, 'count(//a)') > 0\n\n\
         %% siblings\n/siblings\n\n% check xpath(text, 'count(//b[preceding-sibling::b])') > 0\n\n\
         %% members\n/members\n\n% yield s = body secret\n% check status == 200\n",
    );
    for (cell, code, message) in [
        ("codings", 3, "declares 10000 content codings, more than 5"),
        ("redirect", 0, "200"),
        ("deep", 1, "elements are nested deeper than 500 levels"),
        ("comments", 1, "elements are nested deeper than 500 levels"),
        ("attributes", 1, "an element has more than 1000 attributes"),
        ("siblings", 1, "the expression takes longer than 5 s"),
        ("members", 0, "1 check passed"),
    ] {
        let run = limited(&workspace, &["send", &format!("a.http#{cell}"), "--show", "head"], 60).exits(code);
        assert!(run.both().contains(message), "{cell}: {}", run.both());
        assert!(run.stderr.len() < 20_000, "{cell}: {}", run.stderr.len());
    }
    assert_eq!(std::fs::read_to_string(workspace.path().join("saved/end.txt")).expect("a file"), "here");
}

#[test]
fn files_that_mean_harm_end_in_words() {
    let doubled: String =
        (1..40).map(|number| format!("% let a{number} = a{} + a{}\n", number - 1, number - 1)).collect();
    let nested: String =
        (1..40).map(|number| format!("% let b{number} = [b{}, b{}]\n", number - 1, number - 1)).collect();
    let loops = "['x']".to_owned() + &".map(a, [a, a])".repeat(60);
    let workspace = TestWorkspace::new()
        .file("a.http", &format!("% let a0 = 'lots of lots'\n{doubled}\n%% a\n/{{{{size(a39)}}}}\n"))
        .file("b.http", &format!("% let b0 = 'lots'\n{nested}\n%% b\n/{{{{size(b39)}}}}\n"))
        .file("c.http", &format!("%% c\n/{{{{json({loops})}}}}\n"))
        .file("d.http", "%% d\n/{{size(replace(replace('aaaaaaaaaa', 'a', text0), 'a', text0))}}\n")
        .file("_common.http", &format!("% let text0 = '{}'\n", "a".repeat(8_000)));
    for file in ["a", "b", "c", "d"] {
        let run = limited(&workspace, &["send", &format!("{file}.http"), "--dry-run"], 60).exits(2);
        assert!(
            run.stderr.contains("larger than the limit of 64 MiB") || run.stderr.contains("limit of 1,000,000 steps"),
            "{file}: {}",
            run.stderr
        );
        limited(&workspace, &["values", &format!("{file}.http")], 60);
    }
}

/// Schemas that all refer to each other, as descriptions of APIs have them.
#[test]
fn many_schemas_take_little_memory() {
    const ALL: usize = 300;
    let mut workspace = TestWorkspace::new();
    let mut requests = String::new();
    for number in 0..ALL {
        let properties: Vec<String> = (0..12)
            .map(|other| format!("\"p{other}\": {{ \"$ref\": \"s{}.json\" }}", (number * 7 + other * 31) % ALL))
            .collect();
        let schema = format!("{{ \"type\": \"object\", \"properties\": {{ {} }} }}", properties.join(", "));
        workspace = workspace.file(&format!("s{number}.json"), &schema);
        write!(requests, "%% r{number}\n/health\n\n% check conforms(body, 's{number}.json')\n\n").expect("a text");
    }
    let workspace = workspace.file("a.http", &requests);
    let run = limited(&workspace, &["replay", "a.http", "--no-log"], 120).exits(0);
    assert!(run.stdout.contains("300 checks"), "{}", run.stdout);
}

/// An expression that computes for long, a response that never comes, and a body that drips: the second signal ends
/// the process at once, and leaves nothing half-written.
#[test]
fn the_second_signal_ends_the_process_whatever_it_does() {
    let (requested, requests) = mpsc::channel();
    let base = server(move |path| {
        let _ = requested.send(());
        match path {
            "/drip" => {
                let head = b"HTTP/1.1 200 OK\r\nContent-Length: 100000\r\n\r\n".to_vec();
                [vec![head], vec![b"x".to_vec(); 3_000]].concat()
            }
            "/never" => Vec::new(),
            _ => whole("text/plain", b"x"),
        }
    });
    let list = "[1,2,3,4,5,6,7,8,9,10]";
    let mut busy = "a >= 0".to_owned();
    for _ in 0..9 {
        busy = format!("{list}.all(a, {busy})");
    }
    let workspace = TestWorkspace::empty()
        .file("yieldtray.toml", &format!("[values]\nbase = '{base}'\n"))
        .file("busy.http", &format!("/x\n\n% check {busy}\n% check {busy}\n% check {busy}\n"))
        .file("never.http", "/never\n")
        .file("drip.http", "/drip\n\n% save drip.bin\n");
    for (file, signals) in [("busy", ["INT", "INT"]), ("never", ["TERM", "TERM"]), ("drip", ["INT", "TERM"])] {
        let mut command = workspace.command();
        command.args(["replay", &format!("{file}.http"), "--no-log"]);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
        requests.recv_timeout(Duration::from_secs(60)).expect("the request is sent");
        let id = child.id();
        let kill = |signal: &str| drop(Command::new("sh").args(["-c", &format!("kill -{signal} {id}")]).status());
        kill(signals[0]);
        let first = Instant::now();
        let status = loop {
            match child.try_wait().expect("it can be waited for") {
                Some(status) => break status,
                None if first.elapsed() > Duration::from_secs(20) => {
                    child.kill().expect("it is there");
                    panic!("{file}: it does not end");
                }
                // Two signals that arrive together count as one: the second is sent until it is seen.
                None => kill(signals[1]),
            }
            thread::sleep(Duration::from_millis(20));
        };
        assert!(!status.success() && status.signal() != Some(9), "{file}: {status}");
        let left = std::fs::read_dir(workspace.path().join("saved")).into_iter().flatten().count();
        assert_eq!(left, 0, "{file}: nothing half-written is left");
    }
}
