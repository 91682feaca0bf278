//! The loop: messages of the client and of jobs come in one after another; nothing here waits for anything else.

use crate::address::{address_of, path_of};
use crate::desk::{ServerHost, TextMap};
use crate::house::{WorkspaceState, is_configuration};
use crate::jobs::{JobEvent, Jobs};
use crate::overlay::OpenTexts;
use crate::params::{Changed, Document, TextDocumentParams, Watched, read};
use crate::places::{LineIndex, PositionEncoding};
use crate::wire::{self, Message, ResponseError, notification, request, response};
use crate::{answers, diagnostics};
use serde_json::{Value, json};
use std::collections::{BTreeSet, HashMap};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, TryRecvError};
use std::sync::{Arc, PoisonError};
use std::time::Duration;
use yieldtray_source::SourceId;
use yieldtray_source::access::CONFIG_FILE;

/// What comes in.
pub(crate) enum Event {
    Client(Message),
    Job(JobEvent),
    /// The client is gone.
    Closed,
}

/// What the client can do.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Client {
    pub(crate) shows_documents: bool,
    pub(crate) shows_progress: bool,
    pub(crate) edits_documents: bool,
    pub(crate) makes_files: bool,
    /// Applies edits that the server asks for.
    pub(crate) applies_edits: bool,
    pub(crate) takes_snippets: bool,
    pub(crate) shows_markdown: bool,
    pub(crate) shows_symbol_trees: bool,
    pub(crate) shows_tags: bool,
    pub(crate) shows_related: bool,
    /// Answers `yieldtray/ask`.
    pub(crate) asks: bool,
    refreshes_lenses: bool,
    refreshes_tokens: bool,
    refreshes_hints: bool,
    watches: bool,
    pub(crate) hints: bool,
}

/// A document that is open in the editor.
pub(crate) struct Opened {
    pub(crate) address: String,
    pub(crate) version: i32,
    pub(crate) root: Option<PathBuf>,
}

/// What waits for an answer of the client.
pub(crate) type Reply = Box<dyn FnOnce(&mut Server, Option<Value>) + Send>;

pub(crate) struct Server {
    pub(crate) desk: Arc<dyn ServerHost>,
    out: Sender<String>,
    pub(crate) events: Sender<Event>,
    pub(crate) client: Client,
    pub(crate) columns: PositionEncoding,
    pub(crate) houses: HashMap<PathBuf, WorkspaceState>,
    pub(crate) documents: HashMap<PathBuf, Opened>,
    pub(crate) open: OpenTexts,
    pub(crate) jobs: Jobs,
    /// Documents that changed since they were looked at.
    changed: BTreeSet<PathBuf>,
    waiting: HashMap<i64, Reply>,
    last_id: i64,
    stage: Lifecycle,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Lifecycle {
    Fresh,
    Running,
    ShutDown,
}

impl Server {
    pub(crate) fn new(desk: Arc<dyn ServerHost>, out: Sender<String>, events: Sender<Event>) -> Self {
        Self {
            desk,
            out,
            events,
            client: Client::default(),
            columns: PositionEncoding::Utf16,
            houses: HashMap::new(),
            documents: HashMap::new(),
            open: Arc::default(),
            jobs: Jobs::default(),
            changed: BTreeSet::new(),
            waiting: HashMap::new(),
            last_id: 0,
            stage: Lifecycle::Fresh,
        }
    }

    /// Serves until the client says `exit` or is gone. Tells whether it ended as the protocol wants it to.
    pub(crate) fn serve(mut self, incoming: &Receiver<Event>) -> bool {
        let proper = loop {
            // Typing comes before what is found in what was typed.
            let event = match incoming.try_recv() {
                Ok(event) => event,
                Err(TryRecvError::Disconnected) => break false,
                Err(TryRecvError::Empty) => {
                    self.guarded(Self::look_at_changed);
                    match incoming.recv_timeout(Duration::from_secs(3600)) {
                        Ok(event) => event,
                        Err(RecvTimeoutError::Timeout) => continue,
                        Err(RecvTimeoutError::Disconnected) => break false,
                    }
                }
            };
            match event {
                Event::Closed => break self.stage == Lifecycle::ShutDown,
                Event::Client(Message::Notification { method, .. }) if method == "exit" => {
                    break self.stage == Lifecycle::ShutDown;
                }
                Event::Client(message) => self.take(message),
                Event::Job(told) => self.guarded(|server| server.hear(told)),
            }
        };
        self.jobs.end();
        proper
    }

    /// Does something that must not end the session, whatever goes wrong in it.
    fn guarded(&mut self, work: impl FnOnce(&mut Self)) {
        if catch_unwind(AssertUnwindSafe(|| work(self))).is_err() {
            self.reopen();
            self.say(1, "Yield Tray itself failed; it goes on. Please report it.");
        }
    }

    /// After a failure nothing that was known is trusted.
    fn reopen(&mut self) {
        self.houses.clear();
        self.changed.clear();
    }

    fn take(&mut self, message: Message) {
        match message {
            Message::Request { id, method, params } => {
                let outcome = catch_unwind(AssertUnwindSafe(|| self.answer(&method, params)));
                let outcome = outcome.unwrap_or_else(|_| {
                    self.reopen();
                    Err(ResponseError::new(
                        ResponseError::INTERNAL,
                        "Yield Tray itself failed at this: please report it",
                    ))
                });
                self.send(response(&id, outcome));
            }
            Message::Notification { method, params } => self.guarded(|server| server.note(&method, params)),
            Message::Response { id, result } => {
                if let Some(reply) = id.as_i64().and_then(|id| self.waiting.remove(&id)) {
                    self.guarded(|server| reply(server, result));
                }
            }
            Message::Broken { why, id } => {
                let code = if why.contains("JSON") { ResponseError::PARSE } else { ResponseError::REQUEST };
                self.send(response(&id, Err(ResponseError::new(code, why))));
            }
        }
    }

    fn answer(&mut self, method: &str, params: Value) -> Result<wire::Reply, ResponseError> {
        match (method, self.stage) {
            ("initialize", Lifecycle::Fresh) => {
                self.stage = Lifecycle::Running;
                Ok(wire::Reply::Value(self.initialize(&params)))
            }
            (_, Lifecycle::Fresh) => {
                Err(ResponseError::new(ResponseError::NOT_INITIALIZED, "`initialize` comes first"))
            }
            ("initialize", _) => Err(ResponseError::new(ResponseError::REQUEST, "`initialize` comes once")),
            (_, Lifecycle::ShutDown) => {
                Err(ResponseError::new(ResponseError::REQUEST, "only `exit` comes after `shutdown`"))
            }
            ("shutdown", Lifecycle::Running) => {
                self.stage = Lifecycle::ShutDown;
                self.jobs.cancel_all();
                Ok(wire::Reply::Value(Value::Null))
            }
            _ => answers::answer(self, method, params),
        }
    }

    fn initialize(&mut self, params: &Value) -> Value {
        let can = |pointer: &str| params.pointer(pointer).and_then(Value::as_bool) == Some(true);
        let is_there = |pointer: &str| params.pointer(pointer).is_some_and(|value| !value.is_null());
        let encodings = params.pointer("/capabilities/general/positionEncodings").and_then(Value::as_array);
        if encodings.is_some_and(|list| list.iter().any(|encoding| encoding == "utf-8")) {
            self.columns = PositionEncoding::Utf8;
        }
        let operations = params.pointer("/capabilities/workspace/workspaceEdit/resourceOperations");
        self.client = Client {
            shows_documents: can("/capabilities/window/showDocument/support"),
            shows_progress: can("/capabilities/window/workDoneProgress"),
            edits_documents: can("/capabilities/workspace/workspaceEdit/documentChanges"),
            makes_files: operations
                .and_then(Value::as_array)
                .is_some_and(|list| list.iter().any(|kind| kind == "create")),
            applies_edits: can("/capabilities/workspace/applyEdit"),
            takes_snippets: can("/capabilities/textDocument/completion/completionItem/snippetSupport"),
            shows_markdown: params
                .pointer("/capabilities/textDocument/hover/contentFormat")
                .and_then(Value::as_array)
                .is_some_and(|list| list.iter().any(|format| format == "markdown")),
            shows_symbol_trees: can("/capabilities/textDocument/documentSymbol/hierarchicalDocumentSymbolSupport"),
            shows_tags: is_there("/capabilities/textDocument/publishDiagnostics/tagSupport"),
            shows_related: can("/capabilities/textDocument/publishDiagnostics/relatedInformation"),
            asks: can("/initializationOptions/asks"),
            refreshes_lenses: can("/capabilities/workspace/codeLens/refreshSupport"),
            refreshes_tokens: can("/capabilities/workspace/semanticTokens/refreshSupport"),
            refreshes_hints: can("/capabilities/workspace/inlayHint/refreshSupport"),
            watches: can("/capabilities/workspace/didChangeWatchedFiles/dynamicRegistration"),
            hints: !is_there("/initializationOptions/hints") || can("/initializationOptions/hints"),
        };
        answers::capabilities(self.columns)
    }

    fn note(&mut self, method: &str, params: Value) {
        let noted = match method {
            "initialized" => {
                self.watch();
                Ok(())
            }
            "textDocument/didOpen" => {
                read(params).map(|TextDocumentParams { text_document }| self.opened(text_document))
            }
            "textDocument/didChange" => read(params).map(|changed| self.written(changed)),
            "textDocument/didClose" => {
                read(params).map(|TextDocumentParams { text_document }| self.closed(&text_document.uri))
            }
            "textDocument/didSave" => Ok(()),
            "workspace/didChangeWatchedFiles" => read(params).map(|watched| self.moved(watched)),
            "window/workDoneProgress/cancel" => {
                if let Some(token) = params["token"].as_i64() {
                    self.jobs.cancel(token);
                }
                Ok(())
            }
            _ => Ok(()),
        };
        if let Err(ResponseError { message, .. }) = noted {
            self.say(2, &format!("`{method}`: {message}"));
        }
    }

    /// Asks to be told when files change that are not open.
    fn watch(&mut self) {
        if !self.client.watches {
            return;
        }
        let globs = ["**/*.http", "**/yieldtray.toml", "**/yieldtray.local.toml", "**/.env"];
        let watchers: Vec<Value> = globs.iter().map(|glob| json!({ "globPattern": glob })).collect();
        let registration = json!({
            "id": "files", "method": "workspace/didChangeWatchedFiles", "registerOptions": { "watchers": watchers },
        });
        self.ask("client/registerCapability", json!({ "registrations": [registration] }), |_, _| {});
    }

    fn texts(&self) -> std::sync::MutexGuard<'_, TextMap> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The texts in the editor now.
    pub(crate) fn unsaved(&self) -> TextMap {
        self.texts().clone()
    }

    fn opened(&mut self, document: Document) {
        let Some(path) = path_of(&document.uri) else { return };
        let root = self.desk.root_of(&path);
        self.texts().insert(path.clone(), Arc::from(document.text));
        self.documents.insert(path.clone(), Opened { address: document.uri, version: document.version, root });
        self.changed.insert(path);
    }

    fn written(&mut self, changed: Changed) {
        let Some(path) = path_of(&changed.text_document.uri) else { return };
        let Some(before) = self.texts().get(&path).cloned() else { return };
        let mut text = before.to_string();
        for change in changed.content_changes {
            match change.range {
                None => text = change.text,
                Some(range) => {
                    let lines = yieldtray_source::Lines::new(&text);
                    let span = LineIndex { text: &text, lines: &lines, columns: self.columns }.span(range);
                    text.replace_range(span.range(), &change.text);
                }
            }
        }
        self.texts().insert(path.clone(), Arc::from(text));
        if let Some(opened) = self.documents.get_mut(&path) {
            opened.version = changed.text_document.version;
        }
        self.changed.insert(path);
    }

    fn closed(&mut self, address: &str) {
        let Some(path) = path_of(address) else { return };
        self.texts().remove(&path);
        self.changed.remove(&path);
        let Some(opened) = self.documents.remove(&path) else { return };
        self.tell("textDocument/publishDiagnostics", json!({ "uri": opened.address, "diagnostics": [] }));
        // What is on disk holds again.
        match opened.root {
            Some(root) if self.documents.values().any(|other| other.root.as_ref() == Some(&root)) => {
                self.reread(&root, &path);
            }
            Some(root) => drop(self.houses.remove(&root)),
            None => {}
        }
    }

    /// Files changed that somebody else wrote.
    fn moved(&mut self, watched: Watched) {
        for path in watched.changes.iter().filter_map(|change| path_of(&change.uri)) {
            // With a configuration, a workspace begins or ends.
            if path.file_name().is_some_and(|name| name == CONFIG_FILE) {
                self.find_roots();
            }
            if self.documents.contains_key(&path) {
                continue;
            }
            let Some(root) = self.houses.keys().find(|root| path.starts_with(root)).cloned() else { continue };
            self.reread(&root, &path);
        }
    }

    /// Which workspace each open document belongs to, and looks at those that belong to another one now.
    fn find_roots(&mut self) {
        let desk = Arc::clone(&self.desk);
        for (path, opened) in &mut self.documents {
            let root = desk.root_of(path);
            if opened.root != root {
                opened.root = root;
                self.changed.insert(path.clone());
            }
        }
    }

    /// Reads a file again that is not open; one that is gone or new changes what there is at all.
    fn reread(&mut self, root: &Path, path: &Path) {
        let Some(house) = self.houses.get_mut(root) else { return };
        let inside = path.strip_prefix(root).unwrap_or(path);
        let known = house.workspace.find_text(inside).filter(|_| !is_configuration(inside));
        match (known, std::fs::read_to_string(path)) {
            (Some(source), Ok(text)) => house.workspace.set_text(source, text),
            _ => drop(self.houses.remove(root)),
        }
        self.look_again(root);
    }

    /// Everything that is open of a workspace is looked at again.
    pub(crate) fn look_again(&mut self, root: &Path) {
        let of_root = self.documents.iter().filter(|(_, opened)| opened.root.as_deref() == Some(root));
        self.changed.extend(of_root.map(|(path, _)| path.clone()));
    }

    /// The workspace of a root.
    pub(crate) fn house(&mut self, root: &Path) -> Result<&mut WorkspaceState, ResponseError> {
        if !self.houses.contains_key(root) {
            let house = WorkspaceState::open(&*self.desk, root, &self.open)
                .map_err(|why| ResponseError::new(ResponseError::FAILED, why))?;
            self.houses.insert(root.to_owned(), house);
        }
        Ok(self.houses.get_mut(root).expect("it was just put in"))
    }

    /// The workspace and the text of a document, as it is in the editor.
    pub(crate) fn text(&mut self, address: &str) -> Result<(&mut WorkspaceState, SourceId), ResponseError> {
        let path = path_of(address)
            .ok_or_else(|| ResponseError::new(ResponseError::PARAMS, format!("`{address}` is no file")))?;
        self.settle(&path);
        let root = self.desk.root_of(&path);
        let root = root.ok_or_else(|| {
            ResponseError::new(ResponseError::FAILED, format!("`{}` is in no folder", path.display()))
        })?;
        let house = self.house(&root)?;
        let source = house.source(&path);
        let source = source.ok_or_else(|| {
            ResponseError::new(ResponseError::FAILED, format!("`{}` is no file of the workspace", path.display()))
        })?;
        Ok((house, source))
    }

    /// Takes what was typed into the workspace, so that answers are about what is seen.
    fn settle(&mut self, path: &Path) {
        let Some(root) = self.documents.get(path).and_then(|opened| opened.root.clone()) else { return };
        let Some(text) = self.texts().get(path).cloned() else { return };
        if !self.houses.contains_key(&root) || !self.changed.contains(path) {
            return;
        }
        let (desk, open) = (Arc::clone(&self.desk), Arc::clone(&self.open));
        let house = self.houses.get_mut(&root).expect("it was looked for");
        match house.write(&*desk, path, &text, &open) {
            Ok(true) => {
                self.look_again(&root);
                self.changed.insert(path.to_owned());
            }
            Ok(false) => {}
            Err(why) => {
                self.houses.remove(&root);
                self.say(2, &why);
            }
        }
    }

    /// Looks at what changed, and tells what is found.
    fn look_at_changed(&mut self) {
        while let Some(path) = self.changed.iter().next().cloned() {
            self.settle(&path);
            self.changed.remove(&path);
            let mut touches_others = false;
            self.publish_one(&path, |house, source| touches_others = house.look(source));
            // What this file uses of others changed: what is found in those may be other now.
            if touches_others && let Some(root) = self.documents.get(&path).and_then(|opened| opened.root.clone()) {
                self.look_again(&root);
                self.changed.remove(&path);
            }
        }
    }

    /// The versions of the open documents, by their paths.
    pub(crate) fn versions(&self) -> HashMap<PathBuf, i32> {
        self.documents.iter().map(|(path, opened)| (path.clone(), opened.version)).collect()
    }

    /// Tells what is found in an open document, once it was looked at.
    fn publish_one(&mut self, path: &Path, look: impl FnOnce(&mut WorkspaceState, SourceId)) {
        let (columns, client) = (self.columns, self.client);
        let Some(opened) = self.documents.get(path) else { return };
        let (address, version) = (opened.address.clone(), opened.version);
        let Ok((house, source)) = self.text(&address) else { return };
        look(house, source);
        let list = diagnostics::of(house, source, columns, client);
        let params = json!({ "uri": address, "version": version, "diagnostics": list });
        self.tell("textDocument/publishDiagnostics", params);
    }

    /// Tells again what was found, without looking.
    pub(crate) fn publish(&mut self, root: &Path) {
        let of_root = self.documents.iter().filter(|(_, opened)| opened.root.as_deref() == Some(root));
        let open: Vec<PathBuf> = of_root.map(|(path, _)| path.clone()).collect();
        // What is still to be looked at is told then.
        let looked_at = open.iter().filter(|path| !self.changed.contains(*path)).cloned().collect::<Vec<_>>();
        looked_at.iter().for_each(|path| self.publish_one(path, |_, _| {}));
    }

    /// Another environment, or other answers: what is drawn in the text may be other now.
    pub(crate) fn refresh(&mut self) {
        let Client { refreshes_lenses, refreshes_tokens, refreshes_hints, .. } = self.client;
        for (method, wanted) in [
            ("workspace/codeLens/refresh", refreshes_lenses),
            ("workspace/semanticTokens/refresh", refreshes_tokens),
            ("workspace/inlayHint/refresh", refreshes_hints),
        ] {
            if wanted {
                self.ask(method, Value::Null, |_, _| {});
            }
        }
    }

    /// Asks the client something.
    pub(crate) fn ask(
        &mut self,
        method: &str,
        params: Value,
        reply: impl FnOnce(&mut Server, Option<Value>) + Send + 'static,
    ) {
        self.last_id += 1;
        self.waiting.insert(self.last_id, Box::new(reply));
        self.send(request(self.last_id, method, params).to_string());
    }

    /// Asks the client something once the request that is answered now was answered: a client may show one thing at a
    /// time.
    pub(crate) fn ask_later(
        &mut self,
        method: &'static str,
        params: Value,
        reply: impl FnOnce(&mut Server, Option<Value>) + Send + 'static,
    ) {
        let question = JobEvent::Later(Box::new(move |server: &mut Server| server.ask(method, params, reply)));
        let _ = self.events.send(Event::Job(question));
    }

    /// Tells the client something.
    pub(crate) fn tell(&mut self, method: &str, params: Value) {
        self.send(notification(method, params).to_string());
    }

    /// A message for a person: 1 for what went wrong, 2 for what is odd, 3 for what is worth knowing.
    pub(crate) fn say(&mut self, kind: u8, message: &str) {
        self.tell("window/showMessage", json!({ "type": kind, "message": message }));
    }

    /// Shows a file beside the one that is edited.
    pub(crate) fn show(&mut self, file: &Path, focus: bool, otherwise: &str) {
        let address = address_of(file);
        match self.client.shows_documents {
            true => self.ask("window/showDocument", json!({ "uri": address, "takeFocus": focus }), |_, _| {}),
            false => self.say(3, &format!("{otherwise}: {}", file.display())),
        }
    }

    fn send(&mut self, message: String) {
        // A client that is gone is noticed where its messages are read.
        let _ = self.out.send(message);
    }
}
