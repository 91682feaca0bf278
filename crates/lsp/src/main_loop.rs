//! The loop: messages of the client and of jobs are handled one after another; nothing here waits for anything else.

use crate::capabilities::{ClientCapabilities, position_encoding, server_capabilities};
use crate::connection::MessageKind;
use crate::event::Event;
use crate::handlers;
use crate::params::{TextDocumentParams, Watched, read};
use crate::server::Server;
use crate::uri::path_of;
use crate::wire::{self, Message, ResponseError};
use serde_json::{Value, json};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::mpsc::{Receiver, RecvTimeoutError, TryRecvError};
use std::time::Duration;
use yieldtray_source::access::CONFIG_FILE;

/// How long the loop waits before it looks again whether the other side is gone.
const LIVENESS_INTERVAL: Duration = Duration::from_secs(3600);

/// Handles what comes in.
pub(crate) struct MainLoop {
    server: Server,
    lifecycle: Lifecycle,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Lifecycle {
    Uninitialized,
    Running,
    ShutDown,
}

impl MainLoop {
    pub(crate) fn new(server: Server) -> Self {
        Self { server, lifecycle: Lifecycle::Uninitialized }
    }

    /// Serves until the client says `exit` or is gone. Returns whether it ended as the protocol wants it to.
    pub(crate) fn serve(mut self, incoming: &Receiver<Event>) -> bool {
        let is_proper = loop {
            // Typing comes before linting what was typed.
            let event = match incoming.try_recv() {
                Ok(event) => event,
                Err(TryRecvError::Disconnected) => break false,
                Err(TryRecvError::Empty) => {
                    self.guard(|server| server.lint_changed());
                    match incoming.recv_timeout(LIVENESS_INTERVAL) {
                        Ok(event) => event,
                        Err(RecvTimeoutError::Timeout) => continue,
                        Err(RecvTimeoutError::Disconnected) => break false,
                    }
                }
            };
            match event {
                Event::Closed => break self.lifecycle == Lifecycle::ShutDown,
                Event::Client(Message::Notification { method, .. }) if method == "exit" => {
                    break self.lifecycle == Lifecycle::ShutDown;
                }
                Event::Client(message) => self.on_message(message),
                Event::Job(event) => self.guard(|server| server.on_job_event(event)),
            }
        };
        self.server.jobs.end();
        is_proper
    }

    /// Does something that must not end the session if it panics.
    fn guard(&mut self, work: impl FnOnce(&mut Server)) {
        if catch_unwind(AssertUnwindSafe(|| work(&mut self.server))).is_err() {
            self.server.reset();
            let message = "Internal error; the server continues. Please report it.";
            self.server.connection.show_message(MessageKind::Error, message);
        }
    }

    fn on_message(&mut self, message: Message) {
        match message {
            Message::Request { id, method, params } => {
                let outcome = catch_unwind(AssertUnwindSafe(|| self.on_request(&method, params)));
                let outcome = outcome.unwrap_or_else(|_| {
                    self.server.reset();
                    let message = "internal error: please report it";
                    Err(ResponseError::new(ResponseError::INTERNAL, message))
                });
                self.server.connection.respond(&id, outcome);
                self.guard(Server::on_responded);
            }
            Message::Notification { method, params } => self.guard(|server| on_notification(server, &method, params)),
            Message::Response { id, result } => {
                if let Some(reply) = self.server.connection.take_reply(&id) {
                    self.guard(|server| reply(server, result));
                }
            }
            Message::Broken { why, id, is_json } => {
                let code = if is_json { ResponseError::REQUEST } else { ResponseError::PARSE };
                self.server.connection.respond(&id, Err(ResponseError::new(code, why)));
            }
        }
    }

    fn on_request(&mut self, method: &str, params: Value) -> Result<wire::Reply, ResponseError> {
        match (method, self.lifecycle) {
            ("initialize", Lifecycle::Uninitialized) => {
                self.lifecycle = Lifecycle::Running;
                self.server.client = ClientCapabilities::read(&params);
                self.server.encoding = position_encoding(&params);
                let (commands, tokens) = (handlers::COMMANDS, handlers::TOKEN_TYPES);
                Ok(wire::Reply::Value(server_capabilities(self.server.encoding, commands, tokens)))
            }
            (_, Lifecycle::Uninitialized) => {
                Err(ResponseError::new(ResponseError::NOT_INITIALIZED, "`initialize` must come first"))
            }
            ("initialize", _) => Err(ResponseError::new(ResponseError::REQUEST, "`initialize` must be sent once")),
            (_, Lifecycle::ShutDown) => {
                Err(ResponseError::new(ResponseError::REQUEST, "only `exit` is allowed after `shutdown`"))
            }
            ("shutdown", Lifecycle::Running) => {
                self.lifecycle = Lifecycle::ShutDown;
                self.server.jobs.cancel_all();
                Ok(wire::Reply::Value(Value::Null))
            }
            _ => handlers::handle(&mut self.server, method, params),
        }
    }
}

fn on_notification(server: &mut Server, method: &str, params: Value) {
    let handled = match method {
        "initialized" => {
            watch_files(server);
            Ok(())
        }
        "textDocument/didOpen" => read(params).map(|TextDocumentParams { text_document }| {
            let Some(path) = path_of(&text_document.uri) else { return };
            let root = server.host.root_of(&path);
            server.documents.open(path, text_document, root);
        }),
        "textDocument/didChange" => read(params).map(|changed| server.documents.change(changed, server.encoding)),
        "textDocument/didClose" => {
            read(params).map(|TextDocumentParams { text_document }| on_close(server, &text_document.uri))
        }
        "workspace/didChangeWatchedFiles" => read(params).map(|watched| on_watched_files(server, watched)),
        "window/workDoneProgress/cancel" => {
            if let Some(token) = params["token"].as_i64() {
                server.jobs.cancel(token);
            }
            Ok(())
        }
        _ => Ok(()),
    };
    if let Err(ResponseError { message, .. }) = handled {
        server.connection.show_message(MessageKind::Warning, &format!("`{method}`: {message}"));
    }
}

/// Asks to be notified when files change that are not open.
fn watch_files(server: &mut Server) {
    if !server.client.watches {
        return;
    }
    let globs = ["**/*.http", "**/yieldtray.toml", "**/yieldtray.local.toml", "**/.env"];
    let watchers: Vec<Value> = globs.iter().map(|glob| json!({ "globPattern": glob })).collect();
    let registration = json!({
        "id": "files", "method": "workspace/didChangeWatchedFiles", "registerOptions": { "watchers": watchers },
    });
    server.connection.ask("client/registerCapability", json!({ "registrations": [registration] }), |_, _| {});
}

fn on_close(server: &mut Server, uri: &str) {
    let Some(path) = path_of(uri) else { return };
    let Some(document) = server.documents.close(&path) else { return };
    let params = json!({ "uri": document.uri, "diagnostics": [] });
    server.connection.notify("textDocument/publishDiagnostics", params);
    // From now on the file on disk holds.
    match document.root {
        Some(root) if !server.documents.of_root(&root).is_empty() => server.reload(&root, &path),
        Some(root) => server.workspaces.close(&root),
        None => {}
    }
}

/// Files changed on disk.
fn on_watched_files(server: &mut Server, watched: Watched) {
    for path in watched.changes.iter().filter_map(|change| path_of(&change.uri)) {
        // With a configuration, a workspace begins or ends.
        if path.file_name().is_some_and(|name| name == CONFIG_FILE) {
            let host = server.host.clone();
            server.documents.find_roots(|path| host.root_of(path));
        }
        if server.documents.get(&path).is_some() {
            continue;
        }
        if let Some(root) = server.workspaces.root_above(&path) {
            server.reload(&root, &path);
        }
    }
}
