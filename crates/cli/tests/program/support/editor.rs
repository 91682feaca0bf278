//! A client of the language server.

use super::TestWorkspace;
use serde_json::{Value, json};
use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Read, Write};
use std::path::PathBuf;
use std::process::{Child, ChildStdin, Command, Stdio};
use std::sync::mpsc::{self, Receiver};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

/// How long a message is waited for. Nothing takes that long; a test that hangs shall end.
const PATIENCE: Duration = Duration::from_secs(60);

/// A process that does not outlive its test.
struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        // It has ended, unless the test failed.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// The editor.
pub struct Editor {
    root: PathBuf,
    child: Ended,
    input: ChildStdin,
    messages: Receiver<Value>,
    /// Messages that arrived while another one was expected.
    kept: VecDeque<Value>,
    last_id: i64,
    version: i32,
    /// Everything the program ever said.
    said: Arc<Mutex<String>>,
}

impl Editor {
    /// Starts the program in a workspace, as a client that can do everything.
    pub fn start(workspace: &TestWorkspace) -> Self {
        let capabilities = json!({
            "window": { "showDocument": { "support": true }, "workDoneProgress": true },
            "workspace": {
                "applyEdit": true,
                "workspaceEdit": { "documentChanges": true, "resourceOperations": ["create"] },
                "didChangeWatchedFiles": { "dynamicRegistration": true },
            },
            "textDocument": {
                "completion": { "completionItem": { "snippetSupport": true } },
                "documentSymbol": { "hierarchicalDocumentSymbolSupport": true },
                "hover": { "contentFormat": ["markdown"] },
                "publishDiagnostics": { "relatedInformation": true, "tagSupport": { "valueSet": [1] } },
            },
        });
        Self::with(workspace, &json!({ "capabilities": capabilities }))
    }

    /// The same, with what `initialize` carries.
    pub fn with(workspace: &TestWorkspace, params: &Value) -> Self {
        let mut editor = Self::raw(workspace);
        editor.ask("initialize", params.clone());
        editor.tell("initialized", json!({}));
        editor
    }

    /// Starts the program and says nothing yet.
    pub fn raw(workspace: &TestWorkspace) -> Self {
        Self::raw_with(workspace, &[], &[])
    }

    /// The same with these options and variables.
    pub fn raw_with(workspace: &TestWorkspace, options: &[&str], variables: &[(&str, &str)]) -> Self {
        let mut command = workspace.command();
        command.arg("lsp").args(options).envs(variables.iter().copied());
        Self::of(workspace, command)
    }

    /// An editor that speaks with this process.
    pub fn of(workspace: &TestWorkspace, mut command: Command) -> Self {
        let root = workspace.path().canonicalize().expect("the folder is there");
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::inherit());
        let mut child = command.spawn().expect("the program starts");
        let input = child.stdin.take().expect("a pipe");
        let mut output = BufReader::new(child.stdout.take().expect("a pipe"));
        let (sender, messages) = mpsc::channel();
        let said: Arc<Mutex<String>> = Arc::default();
        let heard = Arc::clone(&said);
        thread::spawn(move || {
            loop {
                let mut length = 0;
                let mut line = String::new();
                loop {
                    line.clear();
                    if output.read_line(&mut line).is_err() || line.is_empty() {
                        return;
                    }
                    match line.trim().split_once(": ") {
                        Some(("Content-Length", value)) => length = value.parse().expect("a length"),
                        _ if line.trim().is_empty() => break,
                        _ => panic!("standard output is for the protocol alone: {line}"),
                    }
                }
                let mut body = vec![0; length];
                output.read_exact(&mut body).expect("a whole message");
                heard.lock().expect("nobody failed with it").push_str(&String::from_utf8_lossy(&body));
                if sender.send(serde_json::from_slice(&body).expect("JSON")).is_err() {
                    return;
                }
            }
        });
        let child = Ended(child);
        Self { root, child, input, messages, kept: VecDeque::new(), last_id: 0, version: 0, said }
    }

    /// Everything the program ever said.
    pub fn said(&self) -> String {
        self.said.lock().expect("nobody failed with it").clone()
    }

    /// The URI of a file of the workspace.
    pub fn uri(&self, file: &str) -> String {
        format!("file://{}", self.root.join(file).display()).replace(' ', "%20")
    }

    /// Bytes as they are.
    pub fn write(&mut self, bytes: &[u8]) {
        self.input.write_all(bytes).expect("the program reads");
        self.input.flush().expect("the program reads");
    }

    fn send(&mut self, mut message: Value) {
        message["jsonrpc"] = json!("2.0");
        let text = message.to_string();
        self.write(format!("Content-Length: {}\r\n\r\n{text}", text.len()).as_bytes());
    }

    /// Tells something.
    pub fn tell(&mut self, method: &str, params: Value) {
        self.send(json!({ "method": method, "params": params }));
    }

    /// Asks without waiting.
    pub fn request(&mut self, method: &str, params: Value) -> i64 {
        self.last_id += 1;
        self.send(json!({ "id": self.last_id, "method": method, "params": params }));
        self.last_id
    }

    /// Sends a request, and returns the whole response.
    #[track_caller]
    pub fn answer(&mut self, method: &str, params: Value) -> Value {
        let id = self.request(method, params);
        self.wait(|message| message["id"] == id && message.get("method").is_none())
    }

    /// Asks, and gives the result.
    #[track_caller]
    pub fn ask(&mut self, method: &str, params: Value) -> Value {
        let answer = self.answer(method, params);
        assert!(answer.get("error").is_none(), "{method}: {answer}");
        answer["result"].clone()
    }

    /// Answers what the program asks.
    pub fn reply(&mut self, request: &Value, result: Value) {
        let id = request["id"].clone();
        self.send(json!({ "id": id, "result": result }));
    }

    /// The next message for which `wanted` is true. Requests that any client handles without a person are handled.
    #[track_caller]
    pub fn wait(&mut self, wanted: impl Fn(&Value) -> bool) -> Value {
        if let Some(at) = self.kept.iter().position(&wanted) {
            return self.kept.remove(at).expect("it was just found");
        }
        loop {
            let message = self.messages.recv_timeout(PATIENCE);
            let message = message.unwrap_or_else(|error| panic!("{error}; before came {:#?}", self.kept));
            if message["method"] == "window/workDoneProgress/create" || message["method"] == "client/registerCapability"
            {
                self.reply(&message, Value::Null);
            }
            if wanted(&message) {
                return message;
            }
            self.kept.push_back(message);
        }
    }

    /// The next message of that method.
    #[track_caller]
    pub fn hear(&mut self, method: &str) -> Value {
        let message = self.wait(|message| message["method"] == method);
        if method == "window/showDocument" {
            self.reply(&message, json!({ "success": true }));
        }
        message["params"].clone()
    }

    /// Opens a file with what is on disk, and gives what is found in it.
    #[track_caller]
    pub fn open(&mut self, file: &str) -> Vec<Value> {
        let text = std::fs::read_to_string(self.root.join(file)).expect("the file is there");
        self.open_with(file, &text)
    }

    /// Opens a file with a text.
    #[track_caller]
    pub fn open_with(&mut self, file: &str, text: &str) -> Vec<Value> {
        self.version += 1;
        let document = json!({ "uri": self.uri(file), "languageId": "http", "version": self.version, "text": text });
        self.tell("textDocument/didOpen", json!({ "textDocument": document }));
        self.found(file)
    }

    /// Puts another text in place of an open file's, and gives what is found in it.
    #[track_caller]
    pub fn change(&mut self, file: &str, text: &str) -> Vec<Value> {
        self.change_by(file, json!([{ "text": text }]))
    }

    /// Changes an open file.
    #[track_caller]
    pub fn change_by(&mut self, file: &str, changes: Value) -> Vec<Value> {
        self.change_unheard(file, changes);
        self.found(file)
    }

    /// Changes an open file and waits for nothing.
    pub fn change_unheard(&mut self, file: &str, changes: Value) {
        self.version += 1;
        let document = json!({ "uri": self.uri(file), "version": self.version });
        self.tell("textDocument/didChange", json!({ "textDocument": document, "contentChanges": changes }));
    }

    /// Drops messages that arrived while another one was expected.
    pub fn forget(&mut self) {
        self.kept.clear();
    }

    /// The diagnostics of the last version of a file.
    #[track_caller]
    pub fn found(&mut self, file: &str) -> Vec<Value> {
        let (uri, version) = (self.uri(file), self.version);
        let message = self.wait(|message| {
            message["method"] == "textDocument/publishDiagnostics"
                && message["params"]["uri"] == uri.as_str()
                && message["params"]["version"] == version
        });
        message["params"]["diagnostics"].as_array().expect("a list").clone()
    }

    /// Asks about a place of a file: the line and column from 0.
    #[track_caller]
    pub fn at(&mut self, method: &str, file: &str, line: u32, column: u32) -> Value {
        let uri = self.uri(file);
        self.ask(method, json!({ "textDocument": { "uri": uri }, "position": { "line": line, "character": column } }))
    }

    /// Asks about a file.
    #[track_caller]
    pub fn about(&mut self, method: &str, file: &str) -> Value {
        let uri = self.uri(file);
        self.ask(method, json!({ "textDocument": { "uri": uri } }))
    }

    /// Carries a command out.
    #[track_caller]
    pub fn run(&mut self, command: &str, file: &str, name: Option<&str>) -> Value {
        let uri = self.uri(file);
        self.ask("workspace/executeCommand", json!({ "command": command, "arguments": [{ "uri": uri, "name": name }] }))
    }

    /// The text of the sheet that is shown next.
    #[track_caller]
    pub fn sheet(&mut self) -> String {
        let shown = self.hear("window/showDocument");
        let path = shown["uri"].as_str().expect("an address").strip_prefix("file://").expect("a file").to_owned();
        std::fs::read_to_string(path).expect("the sheet is there")
    }

    /// Ends as the protocol wants it, and gives the exit code.
    #[track_caller]
    pub fn end(mut self) -> i32 {
        self.ask("shutdown", Value::Null);
        self.tell("exit", Value::Null);
        self.child.0.wait().expect("the program ends").code().expect("no signal ended it")
    }

    /// Goes without a word, and gives the exit code.
    pub fn go(self) -> i32 {
        let Self { mut child, input, .. } = self;
        drop(input);
        child.0.wait().expect("the program ends").code().expect("no signal ended it")
    }
}

/// The messages of diagnostics, with the text of their lines.
pub fn described(found: &[Value]) -> Vec<String> {
    found
        .iter()
        .map(|diagnostic| {
            let line = diagnostic["range"]["start"]["line"].as_u64().expect("a line");
            let message = diagnostic["message"].as_str().expect("a message");
            format!(
                "{line} {}: {}",
                diagnostic["code"].as_str().unwrap_or("?"),
                message.lines().next().unwrap_or_default()
            )
        })
        .collect()
}
