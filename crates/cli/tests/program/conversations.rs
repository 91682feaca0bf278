//! Conversations over a WebSocket: scripts that are tests, what a person types, and servers that violate the protocol.

use crate::support::TestWorkspace;
use crate::support::editor::Editor;
use crate::support::terminal::Terminal;
use base64::Engine as _;
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpListener;
use std::thread;
use yieldtray_packhouse::{Packhouse, Server};

const SCRIPT: &str = "%% scale\nGET /scale/socket\nSec-WebSocket-Protocol: scale.v1\nAuthorization: Bearer {{key}}\n\n\
    % expect message.ready within 5s\n% say {\"want\": \"readings\", \"count\": 3}\n% expect message.number == 2 within 5s as second\n\
    % say {\"want\": \"tare\", \"kg\": {{second.kg}}, \"of\": \"{{second.tray}}\"}\n% expect message.zero == 12.5 within 5s\n\
    % say from wave.bin\n% expect message.received == 4 within 5s\n% say from want.json\n% expect size(message) == 4 within 5s\n\
    % check status == 101 && size(messages) == 7\n% check headers[\"sec-websocket-protocol\"] == \"scale.v1\"\n% yield tray_id = second.tray\n";

fn workspace(cells: &str) -> TestWorkspace {
    let workspace = TestWorkspace::new().file("a.http", cells).file("want.json", "{ \"want\": \"{{'photo'}}\" }");
    std::fs::write(workspace.path().join("wave.bin"), [0xff, 0xfe, 0, 1]).expect("a file");
    workspace
}

#[test]
fn a_conversation_is_a_test() {
    let workspace = workspace(SCRIPT);
    let run = workspace.run(&["send", "scale"]).exits(0);
    let lines: Vec<&str> = run.stdout.lines().filter_map(|line| Some(line.split_once(" s  ")?.1)).collect();
    assert_eq!(
        lines,
        [
            "←  {\"scale\":3,\"ready\":true}",
            "→  {\"want\": \"readings\", \"count\": 3}",
            "←  {\"tray\":\"T-1\",\"kg\":12.25,\"number\":1}",
            "←  {\"tray\":\"T-2\",\"kg\":12.5,\"number\":2}",
            "→  {\"want\": \"tare\", \"kg\": 12.5, \"of\": \"T-2\"}",
            "←  {\"tray\":\"T-3\",\"kg\":12.75,\"number\":3}",
            "←  {\"zero\":12.5,\"of\":\"T-2\"}",
            "→  4 B of binary data",
            "←  {\"received\":4}",
            "→  { \"want\": \"photo\" }",
            "←  4 B of binary data",
        ]
    );
    assert!(run.stderr.contains("7 checks passed · tray_id = \"T-2\""), "{}", run.stderr);
    assert!(run.stderr.contains("GET ws://127.0.0.1:"), "{}", run.stderr);
    let run = workspace.run(&["send", "scale", "--json"]).exits(0);
    let lines: Vec<Value> = run.stdout.lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
    assert_eq!(lines[1]["direction"], "sent");
    assert_eq!(lines[3]["data"], json!({ "tray": "T-2", "kg": 12.5, "number": 2 }));
    assert_eq!(lines[11]["response"]["parts"]["messages"].as_array().map(Vec::len), Some(11));
    workspace.run(&["replay", "--report", "html=r.html"]).exits(0);
    let dry = workspace.run(&["send", "scale", "--dry-run"]).exits(0);
    assert!(dry.stdout.contains("upgrade: websocket") && dry.stdout.contains("sec-websocket-key: "), "{}", dry.stdout);
    let url = format!(
        "GET {}/scale/socket?echo=true\n% say hello\n% expect message == 'hello' within 5s\n",
        workspace.base().replace("http", "ws")
    );
    workspace.run(&["send", "--text", &url]).exits(0);
}

#[test]
fn what_is_waited_for_in_vain_is_explained() {
    let workspace = workspace(
        "%% vain\nGET /scale/socket\n\n% say {\"want\": \"tare\", \"kg\": 3}\n% expect message.zero == 7 within 200ms\n% say {\"want\": \"tare\"}\n\n\
         %% ended\nGET /scale/socket\n\n% say {\"want\": \"end\"}\n% expect message.zero == 7 within 5s\n\n\
         %% refused\nGET /lots\n\n% say hello\n% expect true within 1s\n\n\
         %% silent\nGET /scale/socket?echo=true\n\n% expect true within 100ms\n",
    );
    let run = workspace.run(&["replay"]).exits(1);
    for message in [
        "message.zero  is  3",
        "no message fulfilled it in time; 2 messages arrived",
        "the server ended the conversation (1001: the shift is over); 1 message arrived",
        "the server answered 200 instead of switching to WebSocket (101, RFC 6455 4.2.2)",
        "no message fulfilled it in time; no message arrived",
    ] {
        assert!(run.stdout.contains(message), "{message}: {}", run.stdout);
    }
    for (cell, message) in [
        ("GET /scale/socket\n\n% expect message.zero", "`% expect` is missing `within DURATION`"),
        ("GET /scale/socket\n\n% expect true within soon", "expected `EXPR within DURATION [as NAME]`"),
        ("GET /scale/socket\n\n% expect true within 1s as body", "`body` is reserved"),
        ("GET /scale/socket\n\n% say", "`% say` is missing a message"),
        ("GET /scale/socket\n\n% say from gone.json\n% expect true within 1s", "cannot read `gone.json`"),
        ("POST /scale/socket\n\nhello\n% say hello", "a conversation has no body"),
        ("GET /scale/socket\n% say hello\n% follow next", "a conversation has no pages"),
        ("GET /scale/socket\n\n% say {{nothing}}", "no variable named `nothing`"),
    ] {
        let run = TestWorkspace::new().file("a.http", &format!("%% a\n{cell}\n")).run(&["send", "a"]);
        assert!(run.code >= 1 && run.both().contains(message), "{cell}: {}", run.both());
    }
}

#[test]
fn a_person_talks_and_listens() {
    let workspace = workspace("%% scale\nGET /scale/socket\nUpgrade: websocket\n");
    let mut terminal = Terminal::start(&workspace, &["send", "scale"], 120, &[]);
    terminal.wait_for("\"ready\":true").type_in("{\"want\": \"tare\", \"kg\": 4}\r");
    terminal.wait_for("\"zero\":4").type_in("\u{4}");
    let (code, text) = terminal.end();
    assert!(code == 0 && text.contains("101 Switching Protocols"), "{code}: {text}");
    // Without a terminal nobody is listened to: it ends with the time limit, or with the server.
    let run = workspace.run(&["send", "--text", "GET /scale/socket\n% timeout 200ms\nUpgrade: websocket"]).exits(0);
    assert!(run.stdout.contains("\"ready\":true"), "{}", run.both());
}

#[test]
fn a_secret_is_said_only_where_it_belongs() {
    let config =
        |workspace: &TestWorkspace| std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("the file");
    let workspace = TestWorkspace::new();
    let config = format!("{}\n[values]\npin = {{ value = 'windfall-7', secret = true }}\n", config(&workspace));
    let cells = format!(
        "%% there\nGET {}\n\n% say {{{{pin}}}}\n% expect true within 1s\n\n%% here\nGET /scale/socket?echo=true\n\n% say {{{{pin}}}}\n% expect message.startsWith('wind') within 5s\n",
        frames(Vec::new())
    );
    let workspace = workspace.file("yieldtray.toml", &config).file("a.http", &cells);
    let run = workspace.run(&["send", "there"]).exits(1);
    assert!(run.stderr.contains("`pin` is a secret and may not be sent to `http://127.0.0.1:"), "{}", run.stderr);
    let run = workspace.run(&["send", "here"]).exits(0);
    assert!(run.stdout.contains("←  [secret]") && !run.both().contains("windfall"), "{}", run.both());
}

/// A server that switches to WebSocket and sends these bytes.
fn frames(bytes: Vec<u8>) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            let (mut head, mut block) = (Vec::new(), [0; 1024]);
            while !head.ends_with(b"\r\n\r\n") {
                match stream.read(&mut block) {
                    Ok(read) if read > 0 => head.extend_from_slice(&block[..read]),
                    _ => return,
                }
            }
            let head = String::from_utf8_lossy(&head).into_owned();
            let key = head.lines().find_map(|line| line.strip_prefix("sec-websocket-key: ")).expect("a key");
            let digest = ring_sha1(format!("{key}258EAFA5-E914-47DA-95CA-C5AB0DC85B11").as_bytes());
            let accept = base64::engine::general_purpose::STANDARD.encode(digest);
            let accept = if bytes.first() == Some(&0) { "wrong".to_owned() } else { accept };
            let switch = format!(
                "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: {accept}\r\n\r\n"
            );
            let _ = stream.write_all(switch.as_bytes()).and_then(|()| stream.write_all(&bytes));
        }
    });
    format!("ws://{address}/")
}

fn ring_sha1(bytes: &[u8]) -> [u8; 20] {
    use sha1::Digest as _;
    sha1::Sha1::digest(bytes).into()
}

#[test]
fn a_server_that_violates_the_protocol_ends_the_conversation() {
    let long = [&[0x81, 127][..], &(17u64 << 20).to_be_bytes()].concat();
    for (bytes, message) in [
        // A masked frame, a reserved opcode, a frame cut in two, a text that is not UTF-8, too long a message, another key.
        (vec![0x81, 0x82, 1, 2, 3, 4, 5, 6], "violates RFC 6455"),
        (vec![0x83, 0], "violates RFC 6455"),
        (vec![0x81, 5, b'a', b'b'], "ended the connection without closing the WebSocket"),
        (vec![0x81, 2, 0xff, 0xfe], "sent a text that is not UTF-8 (RFC 6455 8.1)"),
        (long, "is longer than 16 MiB"),
        (vec![0], "its `Sec-WebSocket-Accept` is not that of this key"),
    ] {
        let cell = format!("%% a\nGET {}\n\n% expect message == 'never' within 5s\n", frames(bytes.clone()));
        let run = TestWorkspace::new().file("a.http", &cell).run(&["send", "a"]).exits(3);
        assert!(run.stderr.contains(message), "{bytes:?}: {}", run.stderr);
    }
}

#[test]
fn an_editor_and_the_log_show_the_messages() {
    let workspace = workspace(
        "%% scale\nGET /scale/socket\n\n% expect message.ready within 5s\n% say {\"want\": \"tare\", \"kg\": 2, \"of\": \"T-2\"}\n% expect message.zero == 2.0 within 5s\n",
    );
    let mut editor = Editor::start(&workspace);
    editor.open("a.http");
    editor.run("yieldtray.send", "a.http", Some("scale"));
    let shown = editor.sheet();
    let logged = workspace.run(&["log", "show", "1", "--show", "body"]).exits(0).stdout;
    for text in [&shown, &logged] {
        assert!(text.contains("→  {\"want\": \"tare\", \"kg\": 2, \"of\": \"T-2\"}"), "{text}");
        assert!(text.contains("←  {\"zero\":2,\"of\":\"T-2\"}"), "{text}");
    }
    assert!(shown.contains("1 message sent, 2 received"), "{shown}");
}

#[test]
fn a_conversation_goes_over_tls_too() {
    let (packhouse, papers) = Packhouse::start_secure(Server::Local, false).expect("a packhouse");
    let cells = format!(
        "%% talk\nGET {}/scale/socket\n\n% expect message.ready within 5s\n% say {{\"want\": \"tare\", \"kg\": 2}}\n% expect message.zero == 2.0 within 5s\n\n\
         %% readings\n/scale/readings?count=2\n\n% check size(events) == 2\n",
        packhouse.base().replace("https://", "wss://")
    );
    let config = format!("[values]\nbase = '{}'\n[send]\nca = 'ca.pem'\n", packhouse.base());
    let workspace = TestWorkspace::empty().file("ca.pem", &papers.authority).file("a.http", &cells);
    let run = workspace.file("yieldtray.toml", &config).run(&["replay"]).exits(0);
    assert!(run.stdout.contains("2 requests · 3 checks · all passed"), "{}", run.stdout);
}
