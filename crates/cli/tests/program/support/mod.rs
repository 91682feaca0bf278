//! The built program in a folder of its own, beside a packhouse on loopback.

#![allow(dead_code, unreachable_pub)] // each test file uses its part

pub mod editor;
pub mod recorder;
pub mod redact;
pub mod terminal;
#[cfg(feature = "other-programs")]
pub mod webdriver;

use redact::Redaction;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Arc, mpsc};
use std::thread;
use std::time::Duration;
use tempfile::TempDir;
use yieldtray_packhouse::{Packhouse, Server};

/// A workspace of a test.
pub struct TestWorkspace {
    folder: TempDir,
    /// Where the user's own state goes.
    home: TempDir,
    packhouse: Option<Packhouse>,
}

/// The outcome of a run of the program.
#[derive(Debug)]
pub struct Run {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
    /// Standard output, unchanged.
    pub bytes: Vec<u8>,
}

impl TestWorkspace {
    /// An empty folder without a server.
    pub fn empty() -> Self {
        let folder = tempfile::Builder::new().prefix("local-").tempdir().expect("a temporary folder");
        let home = tempfile::tempdir().expect("a temporary folder");
        Self { folder, home, packhouse: None }
    }

    /// A folder with a configuration whose environments `local` and `live` lead to a packhouse.
    pub fn new() -> Self {
        let mut workspace = Self::empty();
        let packhouse = Packhouse::start(Server::Local).expect("a packhouse");
        let config = format!(
            "[workspace]\nenvironment = \"local\"\n\n[environments.local.values]\nbase = \"{base}\"\ngrower = \"G-11\"\n\
             key = \"local-key-4616\"\n\n[environments.live.values]\nbase = \"{base}\"\ngrower = \"G-13\"\n",
            base = packhouse.base()
        );
        workspace.packhouse = Some(packhouse);
        workspace.file("yieldtray.toml", &config)
    }

    /// Writes a file.
    pub fn file(self, path: &str, text: &str) -> Self {
        let path = self.path().join(path);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("folders can be made");
        std::fs::write(path, text).expect("files can be written");
        self
    }

    /// The folder.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    /// The program in the folder, with a home of its own.
    pub fn command(&self) -> Command {
        let mut command = command(self.path());
        command.env("XDG_STATE_HOME", self.home.path());
        // Most tests are not about trust: their workspace is allowed.
        command.env("YIELDTRAY_ALLOW", self.path());
        command
    }

    /// The same in a workspace that nobody has allowed.
    pub fn stranger(&self) -> Command {
        let mut command = self.command();
        command.env_remove("YIELDTRAY_ALLOW");
        command
    }

    /// Runs the program in a workspace that nobody has allowed, with these variables.
    #[track_caller]
    pub fn run_as_stranger(&self, args: &[&str], variables: &[(&str, &str)]) -> Run {
        let mut command = self.stranger();
        command.args(args).envs(variables.iter().copied());
        run(command, "")
    }

    /// Where the user's own state goes.
    pub fn home(&self) -> &Path {
        self.home.path()
    }

    /// The URL of the packhouse.
    pub fn base(&self) -> String {
        self.packhouse.as_ref().expect("a packhouse").base()
    }

    /// Runs the program in the folder.
    #[track_caller]
    pub fn run(&self, args: &[&str]) -> Run {
        self.run_with(args, "", &[])
    }

    /// Runs the program with this standard input and these variables.
    #[track_caller]
    pub fn run_with(&self, args: &[&str], input: &str, variables: &[(&str, &str)]) -> Run {
        let mut command = self.command();
        command.args(args).envs(variables.iter().copied());
        run(command, input)
    }

    /// Text with what differs from run to run replaced: the port, times, digests, the folder. Columns keep their widths.
    pub fn redacted(&self, text: &str) -> String {
        let folder = self.path().canonicalize().expect("the folder is there").display().to_string();
        let port = self.packhouse.as_ref().map(|packhouse| packhouse.address().port());
        Redaction::new(folder, port).apply(text)
    }
}

/// Runs a command to its end with this standard input.
#[track_caller]
pub fn run(mut command: Command, input: &str) -> Run {
    let mut child = command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the program starts");
    // A program that does not read its input may close it first.
    let _ = child.stdin.take().expect("a pipe").write_all(input.as_bytes());
    let output = child.wait_with_output().expect("the program ends");
    Run {
        code: output.status.code().expect("no signal ended it"),
        stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
        stderr: String::from_utf8(output.stderr).expect("text"),
        bytes: output.stdout,
    }
}

impl Run {
    /// Both streams, for a snapshot.
    pub fn both(&self) -> String {
        format!("exit {}\n--- standard output\n{}--- standard error\n{}", self.code, self.stdout, self.stderr)
    }

    /// Asserts the exit code, showing everything if it is another.
    #[track_caller]
    pub fn exits(self, code: i32) -> Self {
        assert_eq!(self.code, code, "{}", self.both());
        self
    }

    /// Standard output as JSON.
    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|error| panic!("{error}: {}", self.both()))
    }
}

/// The program with nothing of the surroundings that would change what it says.
pub fn command(folder: &Path) -> Command {
    let mut command = Command::new(program());
    command.current_dir(folder);
    command.env_remove("YIELDTRAY_ENV").env_remove("YIELDTRAY_ALLOW").env_remove("NO_COLOR");
    command
}

/// The built program.
pub fn program() -> PathBuf {
    PathBuf::from(env!("CARGO_BIN_EXE_yieldtray"))
}

/// A server of one response: whatever comes, `bytes` go back and the connection ends. With `hold`, it stays open and
/// silent instead.
pub fn raw_server(bytes: &'static [u8], hold: bool) -> String {
    raw_server_with_signal(bytes, hold).0
}

/// The same, and a receiver that gets a signal each time the bytes were written.
pub fn raw_server_with_signal(bytes: &'static [u8], hold: bool) -> (String, mpsc::Receiver<()>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    let (sender, answered) = mpsc::channel();
    thread::spawn(move || {
        let mut held: Vec<TcpStream> = Vec::new();
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            let mut request = [0; 4096];
            let _ = stream.read(&mut request);
            let _ = stream.write_all(bytes);
            let _ = sender.send(());
            if hold {
                held.push(stream);
            }
        }
    });
    (format!("http://{address}"), answered)
}

/// A server on loopback that responds to each request, by its head, after some time, and closes the connection. A
/// body is read as far as Content-Length says.
pub fn server(answer: impl Fn(&str) -> (Duration, Vec<u8>) + Send + Sync + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let address = listener.local_addr().expect("an address");
    let answer = Arc::new(answer);
    thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let answer = Arc::clone(&answer);
            thread::spawn(move || {
                let mut stream = stream;
                let mut taken = Vec::new();
                let mut block = [0; 64 << 10];
                let (head, left) = loop {
                    let Some(end) = taken.windows(4).position(|four| four == b"\r\n\r\n") else {
                        match stream.read(&mut block) {
                            Ok(read @ 1..) => taken.extend_from_slice(&block[..read]),
                            _ => return,
                        }
                        continue;
                    };
                    let head = String::from_utf8_lossy(&taken[..end]).into_owned();
                    let length = head.lines().find_map(|line| {
                        let (name, value) = line.split_once(':')?;
                        name.eq_ignore_ascii_case("content-length").then(|| value.trim().parse::<usize>().ok())?
                    });
                    break (head, length.unwrap_or_default().saturating_sub(taken.len() - end - 4));
                };
                // A request that waits for a word, or that is refused at once, is answered before its body.
                let mut left = if head.contains("100-continue") || head.contains(" /early") { 0 } else { left };
                while left > 0 {
                    match stream.read(&mut block) {
                        Ok(read @ 1..) => left = left.saturating_sub(read),
                        _ => return,
                    }
                }
                let (time, bytes) = answer(&head);
                thread::sleep(time);
                let _ = stream.write_all(&bytes);
            });
        }
    });
    format!("http://{address}")
}

/// A response with this media type and body.
pub fn answer(media: &str, body: &str) -> Vec<u8> {
    let head = format!("HTTP/1.1 200 OK\r\nContent-Type: {media}\r\nContent-Length: {}\r\n", body.len());
    format!("{head}Connection: close\r\n\r\n{body}").into_bytes()
}

/// An index of git, version 2, that tracks one file.
pub fn index_of(name: &str) -> Vec<u8> {
    let mut entry = vec![0; 62];
    entry[61] = name.len() as u8;
    entry.extend_from_slice(name.as_bytes());
    // At least one zero, up to a multiple of eight bytes.
    entry.resize((entry.len() + 1).next_multiple_of(8), 0);
    [b"DIRC\0\0\0\x02\0\0\0\x01".as_slice(), &entry, &[0; 20]].concat()
}
