//! The language server as an editor feels it, and the core's own work in turns with it.
//!
//! The bounds: from a keystroke to its diagnostics in a file of 2,000 cells at most 3 times the core's own parse and
//! lint of that file, in a workspace of 500 files at most 1.5 times that; completion and hover within one parse of
//! the file; memory below 25 times the open text; from start to the first diagnostics in a workspace of 500 files at
//! most 3 times `lint`; what an API description offers while typing, within one parse of the file too.

#![allow(clippy::print_stdout)]

mod common;

use common::{ratio, run, shown, take_turns};
use serde_json::{Value, json};
use std::cell::RefCell;
use std::collections::HashMap;
use std::hint::black_box;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use yieldtray_expression::Engine;
use yieldtray_ide::lint::{UsageIndex, lint_files};
use yieldtray_source::SourceId;
use yieldtray_source::files::FileSystem;
use yieldtray_syntax::parse;
use yieldtray_workspace::scope::EvalSettings;
use yieldtray_workspace::{CellId, Workspace};

const TOOL: &str = env!("CARGO_BIN_EXE_yieldtray");
const CELLS: usize = 2_000;
const FILES: usize = 500;
const RUNS: usize = 31;

/// The description of the API in the workspace that has one.
const DESCRIPTION: &str = include_str!("../../packhouse/src/openapi.json");

const CONFIG: &str = "[values]\nbase = \"http://127.0.0.1:1\"\ngrower = \"G-11\"\n";

/// A file of so many cells, each with a body, a yield and two checks.
fn cells(count: usize, from: usize) -> String {
    let cell = |number: usize| {
        format!(
            "%% Book lot {number}\n# Comes from the gate.\nPOST /lots\nAccept: application/json\n\n\
             {{ \"grower\": \"{{{{grower}}}}\", \"bins\": {number}, \"variety\": \"gala\" }}\n\n\
             % yield lot_{number} = body.id\n% check status == 201\n% check body.bins == {number} && lot_{number} != \"\"\n\n"
        )
    };
    (from..from + count).map(cell).collect()
}

fn main() {
    let text = cells(CELLS, 0);
    let alone = create_workspace(&[("big.http", &text)]);
    let small: Vec<(String, String)> =
        (0..FILES).map(|number| (format!("f{number}.http"), cells(10, number))).collect();
    let mut files: Vec<(&str, &str)> = small.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    let among_small = create_workspace(&files);
    files.push(("big.http", &text));
    let among = create_workspace(&files);

    // The core's own work: the text parsed and looked at, as `lint` does it.
    let mut core = Core::new(&text);
    let mut one = Editor::open(alone.path(), &text);
    let mut many = Editor::open(among.path(), &text);
    let times = take_turns(
        RUNS,
        &mut [&mut || core.look(), &mut || one.keystroke(), &mut || many.keystroke(), &mut || {
            black_box(parse(&text, SourceId(0), "big"));
        }],
    );
    let parsed = times[3];
    println!("{CELLS} cells, {} KB", text.len() / 1000);
    println!("parse                            {}", shown(times[3]));
    println!("parse and lint in core           {}", shown(times[0]));
    println!(
        "a keystroke to its diagnostics   {}   {:.2} of that (bound 3)",
        shown(times[1]),
        ratio(times[1], times[0])
    );
    println!(
        "the same among {FILES} files         {}   {:.2} of that (bound 1.5)",
        shown(times[2]),
        ratio(times[2], times[1])
    );
    let middle = text[..text.len() / 2].matches('\n').count() as u32 / 11 * 11;
    let many = RefCell::new(many);
    let ask = |method, line, column| many.borrow_mut().ask(method, line, column);
    let asked = take_turns(
        RUNS,
        &mut [&mut || ask("textDocument/hover", middle + 5, 18), &mut || {
            ask("textDocument/completion", middle + 9, 20)
        }],
    );
    for (what, time) in ["hover", "completion"].iter().zip(&asked) {
        println!(
            "{what:<10}                       {}   {:.2} of a parse (bound 1)",
            shown(*time),
            ratio(*time, times[3])
        );
    }
    let (memory, empty) = (one.memory(), Editor::open(alone.path(), "").memory());
    let times_text = |kib: u64| kib as f64 * 1024.0 / text.len() as f64;
    println!(
        "memory                           {memory:>8} KB   {:.1} of the text more than with nothing open, {:.1} in all (bound 25)",
        times_text(memory - empty),
        times_text(memory)
    );
    drop((one, many));
    let config = format!("{CONFIG}\n[api]\nfile = \"openapi.json\"\n");
    let described =
        create_workspace(&[("big.http", &text), ("openapi.json", DESCRIPTION), ("yieldtray.toml", &config)]);
    let editor = RefCell::new(Editor::open(described.path(), &text));
    let ask = |line, column| editor.borrow_mut().ask("textDocument/completion", line, column);
    let times = take_turns(
        RUNS,
        &mut [
            &mut || editor.borrow_mut().keystroke(),
            &mut || ask(middle + 2, 7),
            &mut || ask(middle + 5, 3),
            &mut || ask(middle + 9, 13),
        ],
    );
    println!("a keystroke with a description   {}", shown(times[0]));
    for (what, time) in ["a path", "a member of a body", "a member of a response"].iter().zip(&times[1..]) {
        println!("completion of {what:<22} {}   {:.2} of a parse (bound 1)", shown(*time), ratio(*time, parsed));
    }
    drop(editor);
    let ten = cells(10 * CELLS, 0);
    let large = create_workspace(&[("big.http", &ten)]);
    let memory = Editor::open(large.path(), &ten).memory();
    println!(
        "of ten times the text            {memory:>8} KB   {:.1} of it in all",
        memory as f64 * 1024.0 / ten.len() as f64
    );

    let first = &small[0].1;
    let lint = || run(Command::new(TOOL).args(["lint", "-q"]).current_dir(among_small.path()));
    let times =
        take_turns(15, &mut [&mut || lint(), &mut || drop(Editor::open_file(among_small.path(), "f0.http", first))]);
    println!("lint of {FILES} files                {}", shown(times[0]));
    println!(
        "start to first diagnostics       {}   {:.2} of that (bound 3)",
        shown(times[1]),
        ratio(times[1], times[0])
    );
}

fn create_workspace(files: &[(&str, &str)]) -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::write(folder.path().join("yieldtray.toml"), CONFIG).expect("a file");
    for (name, text) in files {
        std::fs::write(folder.path().join(name), text).expect("a file");
    }
    folder
}

struct Memory(HashMap<PathBuf, Vec<u8>>);

impl FileSystem for Memory {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        self.0.get(path).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }
}

/// The core, without a server around it.
struct Core {
    workspace: Workspace,
    engine: Engine,
    source: SourceId,
    text: String,
    letter: bool,
}

impl Core {
    fn new(text: &str) -> Self {
        let files = [("yieldtray.toml", CONFIG), ("big.http", text)].map(|(name, text)| (name.into(), text.into()));
        let mut workspace = Workspace::open(Box::new(Memory(files.into())));
        let source = workspace.load(Path::new("big.http")).expect("it is there");
        let engine = Engine::default();
        Self { workspace, engine, source, text: text.to_owned(), letter: false }
    }

    fn look(&mut self) {
        // Another text each time, as it is while somebody types.
        self.letter = !self.letter;
        let text = if self.letter { self.text.clone() } else { format!("#\n{}", self.text) };
        self.workspace.set_text(self.source, text);
        let cells: Vec<CellId> = self.workspace.cells(self.source).collect();
        let found = lint_files(
            &mut self.workspace,
            &self.engine,
            &EvalSettings::default(),
            &[],
            &cells,
            &mut UsageIndex::default(),
        );
        black_box(found);
    }
}

/// An editor with one file open.
struct Editor {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
    uri: String,
    version: i64,
    letter: bool,
}

impl Editor {
    fn open(folder: &Path, text: &str) -> Self {
        Self::open_file(folder, "big.http", text)
    }

    fn open_file(folder: &Path, file: &str, text: &str) -> Self {
        let mut child = Command::new(TOOL)
            .arg("lsp")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("it starts");
        let input = child.stdin.take().expect("a pipe");
        let output = BufReader::new(child.stdout.take().expect("a pipe"));
        let uri = format!("file://{}", folder.canonicalize().expect("a folder").join(file).display());
        let mut editor = Self { child, input, output, uri, version: 1, letter: false };
        editor.send(&json!({ "id": 1, "method": "initialize", "params": { "capabilities": {} } }));
        editor.until(|message| message["id"] == 1);
        let document = json!({ "uri": editor.uri, "languageId": "yieldtray", "version": 1, "text": text });
        editor.send(&json!({ "method": "textDocument/didOpen", "params": { "textDocument": document } }));
        editor.until(|message| message["method"] == "textDocument/publishDiagnostics");
        editor
    }

    fn send(&mut self, message: &Value) {
        let text = message.to_string();
        write!(self.input, "Content-Length: {}\r\n\r\n{text}", text.len()).expect("it reads");
        self.input.flush().expect("it reads");
    }

    fn until(&mut self, wanted: impl Fn(&Value) -> bool) {
        loop {
            let (mut length, mut line) = (0, String::new());
            while line != "\r\n" {
                if let Some(value) = line.strip_prefix("Content-Length: ") {
                    length = value.trim().parse().expect("a length");
                }
                line.clear();
                self.output.read_line(&mut line).expect("a line");
            }
            let mut body = vec![0; length];
            self.output.read_exact(&mut body).expect("a message");
            if wanted(&serde_json::from_slice(&body).expect("JSON")) {
                return;
            }
        }
    }

    fn keystroke(&mut self) {
        self.version += 1;
        self.letter = !self.letter;
        // A letter of a comment in the middle, put in and taken out again.
        let line = CELLS / 2 * 11 + 1;
        let end = if self.letter { 3 } else { 4 };
        let range = json!({ "start": { "line": line, "character": 3 }, "end": { "line": line, "character": end } });
        let change = json!({ "range": range, "text": if self.letter { "x" } else { "" } });
        let document = json!({ "uri": self.uri, "version": self.version });
        let params = json!({ "textDocument": document, "contentChanges": [change] });
        self.send(&json!({ "method": "textDocument/didChange", "params": params }));
        let version = self.version;
        self.until(|message| message["params"]["version"] == version);
    }

    fn ask(&mut self, method: &str, line: u32, column: u32) {
        let position = json!({ "line": line, "character": column });
        let params = json!({ "textDocument": { "uri": self.uri }, "position": position });
        self.send(&json!({ "id": 2, "method": method, "params": params }));
        self.until(|message| message["id"] == 2);
    }

    /// Resident memory in KiB.
    fn memory(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or_default();
        line.trim().trim_end_matches(" kB").parse().unwrap_or(0)
    }
}

impl Drop for Editor {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
