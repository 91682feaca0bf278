//! The program in a pseudo-terminal: what a person sees and types.

use super::{TestWorkspace, program};
use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use std::io::{Read, Write};
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use std::time::{Duration, Instant};

/// How long to wait for something to appear.
const PATIENCE: Duration = Duration::from_secs(30);

pub struct Terminal {
    child: Box<dyn Child + Send + Sync>,
    master: Box<dyn MasterPty + Send>,
    writer: Box<dyn Write + Send>,
    pieces: Receiver<Vec<u8>>,
    shown: Vec<u8>,
    /// Up to where the plain text was looked through.
    seen: usize,
}

impl Terminal {
    /// Starts the program in a terminal of this width.
    pub fn start(workspace: &TestWorkspace, args: &[&str], columns: u16, variables: &[(&str, &str)]) -> Self {
        let mut command = CommandBuilder::new(program());
        command.args(args);
        Self::spawn(workspace, command, columns, variables)
    }

    /// Starts a shell that finds the program under its name.
    pub fn start_shell(workspace: &TestWorkspace, shell: &str, args: &[&str]) -> Self {
        let path = std::env::var_os("PATH").unwrap_or_default();
        let own = program().parent().expect("a folder").to_owned();
        let folders = [own].into_iter().chain(std::env::split_paths(&path));
        let mut command = CommandBuilder::new(shell);
        command.args(args);
        command.env("PATH", std::env::join_paths(folders).expect("a path"));
        command.env("HOME", workspace.home());
        Self::spawn(workspace, command, 100, &[])
    }

    fn spawn(workspace: &TestWorkspace, mut command: CommandBuilder, columns: u16, variables: &[(&str, &str)]) -> Self {
        let size = PtySize { rows: 40, cols: columns, pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).expect("a pseudo-terminal");
        command.cwd(workspace.path());
        command.env("TERM", "xterm-256color");
        command.env("XDG_STATE_HOME", workspace.home());
        command.env("YIELDTRAY_ALLOW", workspace.path());
        command.env_remove("YIELDTRAY_ENV");
        command.env_remove("NO_COLOR");
        for (name, value) in variables {
            command.env(name, value);
        }
        let child = pair.slave.spawn_command(command).expect("the program starts");
        drop(pair.slave);
        let mut reader = pair.master.try_clone_reader().expect("the terminal can be read");
        let writer = pair.master.take_writer().expect("the terminal can be written");
        let (sender, pieces) = channel();
        thread::spawn(move || {
            let mut piece = [0; 4096];
            // The end of a terminal is an error on some systems.
            while let Ok(1..) = reader.read(&mut piece).inspect(|count| {
                let _ = sender.send(piece[..*count].to_vec());
            }) {}
        });
        Self { child, master: pair.master, writer, pieces, shown: Vec::new(), seen: 0 }
    }

    /// Waits until the program shows `text`, after what was waited for before.
    #[track_caller]
    pub fn wait_for(&mut self, text: &str) -> &mut Self {
        let until = Instant::now() + PATIENCE;
        loop {
            let shown = plain(&String::from_utf8_lossy(&self.shown));
            let shown = shown.get(self.seen..).unwrap_or_default();
            if let Some(at) = shown.find(text) {
                self.seen += at + text.len();
                return self;
            }
            match self.pieces.recv_timeout(until.saturating_duration_since(Instant::now())) {
                Ok(piece) => self.shown.extend(piece),
                Err(_) => panic!("`{text}` was not shown, but:\n{shown}"),
            }
        }
    }

    /// Types `text` as it is: `\r` is the return key, `\u{3}` Ctrl-C.
    pub fn type_in(&mut self, text: &str) -> &mut Self {
        // A prompt is shown a moment before its keys are read; what is typed too early is thrown away.
        thread::sleep(Duration::from_millis(300));
        self.writer.write_all(text.as_bytes()).expect("the terminal takes it");
        self.writer.flush().expect("the terminal takes it");
        self
    }

    /// Whether the terminal echoes, as it does before any program runs.
    pub fn echoes(&self) -> bool {
        let until = Instant::now() + PATIENCE;
        while Instant::now() < until {
            let settings = self.master.get_termios().expect("the terminal tells its settings");
            if format!("{:?}", settings.local_flags)
                .split(" | ")
                .any(|flag| flag.trim_end_matches(')').ends_with("ECHO"))
            {
                return true;
            }
            thread::sleep(Duration::from_millis(10));
        }
        false
    }

    /// Waits for the program's end: its exit code, and all that it showed.
    pub fn end(mut self) -> (u32, String) {
        let until = Instant::now() + PATIENCE;
        let code = loop {
            if let Some(status) = self.child.try_wait().expect("the program can be waited for") {
                break status.exit_code();
            }
            if Instant::now() > until {
                let _ = self.child.kill();
                let shown: Vec<u8> = self.pieces.try_iter().flatten().collect();
                panic!("it does not end, but shows:\n{}", String::from_utf8_lossy(&shown));
            }
            thread::sleep(Duration::from_millis(5));
        };
        while let Ok(piece) = self.pieces.recv_timeout(Duration::from_millis(300)) {
            self.shown.extend(piece);
        }
        (code, String::from_utf8_lossy(&self.shown).replace("\r\n", "\n"))
    }
}

/// Runs the program in a terminal of this width and gives all that it wrote.
pub fn in_terminal(workspace: &TestWorkspace, args: &[&str], columns: u16, variables: &[(&str, &str)]) -> String {
    Terminal::start(workspace, args, columns, variables).end().1
}

/// Text without colours.
pub fn plain(text: &str) -> String {
    let colour = regex::Regex::new("\u{1b}\\[[0-9;]*m").expect("a pattern");
    colour.replace_all(text, "").into_owned()
}
