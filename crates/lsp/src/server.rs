//! The state of the server, and what handlers do with it.

use crate::capabilities::ClientCapabilities;
use crate::connection::{Connection, MessageKind};
use crate::diagnostics;
use crate::documents::DocumentStore;
use crate::host::ServerHost;
use crate::jobs::{JobEvent, JobRunner};
use crate::position::PositionEncoding;
use crate::uri::path_of;
use crate::wire::ResponseError;
use crate::workspace_state::{WorkspaceState, is_configuration};
use crate::workspaces::Workspaces;
use serde_json::{Value, json};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::Sender;
use yieldtray_source::SourceId;

/// The state of the server.
pub(crate) struct Server {
    pub(crate) host: Arc<dyn ServerHost>,
    pub(crate) connection: Connection<Server>,
    pub(crate) client: ClientCapabilities,
    pub(crate) encoding: PositionEncoding,
    pub(crate) workspaces: Workspaces,
    pub(crate) documents: DocumentStore,
    pub(crate) jobs: JobRunner,
    /// Where jobs send what they have to say.
    pub(crate) job_events: Sender<JobEvent>,
    /// Requests to the client that wait until the request which is answered now is answered: a client may show one thing
    /// at a time.
    after_response: Vec<AfterResponse>,
}

type AfterResponse = Box<dyn FnOnce(&mut Connection<Server>) + Send>;

/// A document with its workspace, as a handler sees them.
pub(crate) struct Snapshot<'s> {
    pub(crate) state: &'s mut WorkspaceState,
    pub(crate) source: SourceId,
    pub(crate) encoding: PositionEncoding,
    pub(crate) client: ClientCapabilities,
}

impl Server {
    pub(crate) fn new(host: Arc<dyn ServerHost>, out: Sender<String>, job_events: Sender<JobEvent>) -> Self {
        Self {
            host,
            connection: Connection::new(out),
            client: ClientCapabilities::default(),
            encoding: PositionEncoding::Utf16,
            workspaces: Workspaces::default(),
            documents: DocumentStore::default(),
            jobs: JobRunner::default(),
            job_events,
            after_response: Vec::new(),
        }
    }

    /// Forgets everything that was read: after a panic nothing of it is trusted.
    pub(crate) fn reset(&mut self) {
        self.workspaces.close_all();
        self.documents.forget_changes();
        self.after_response.clear();
    }

    /// Sends a request to the client once the request that is answered now is answered.
    pub(crate) fn ask_after_response(
        &mut self,
        method: &'static str,
        params: Value,
        reply: impl FnOnce(&mut Server, Option<Value>) + Send + 'static,
    ) {
        self.after_response.push(Box::new(move |connection| connection.ask(method, params, reply)));
    }

    /// Sends the requests that waited for the response.
    pub(crate) fn on_responded(&mut self) {
        for ask in std::mem::take(&mut self.after_response) {
            ask(&mut self.connection);
        }
    }

    /// The workspace of a root.
    pub(crate) fn workspace(&mut self, root: &Path) -> Result<&mut WorkspaceState, ResponseError> {
        self.workspaces.open(&*self.host, root, &self.documents.open_texts())
    }

    /// A document as it is in the editor, with its workspace.
    pub(crate) fn snapshot(&mut self, uri: &str) -> Result<Snapshot<'_>, ResponseError> {
        let path =
            path_of(uri).ok_or_else(|| ResponseError::new(ResponseError::PARAMS, format!("`{uri}` is not a file")))?;
        self.sync(&path);
        let root = self
            .host
            .root_of(&path)
            .ok_or_else(|| ResponseError::failed(format!("`{}` is not in a directory", path.display())))?;
        let (encoding, client) = (self.encoding, self.client);
        let state = self.workspace(&root)?;
        let source = state.source(&path);
        let source = source
            .ok_or_else(|| ResponseError::failed(format!("`{}` is not a file of the workspace", path.display())))?;
        Ok(Snapshot { state, source, encoding, client })
    }

    /// Takes the changes of a document into its workspace, so that responses match the editor.
    fn sync(&mut self, path: &Path) {
        let Some(root) = self.documents.get(path).and_then(|document| document.root.clone()) else { return };
        let Some(text) = self.documents.text(path) else { return };
        if !self.documents.is_changed(path) {
            return;
        }
        let Some(state) = self.workspaces.get_mut(&root) else { return };
        match state.write(&*self.host, path, &text, &self.documents.open_texts()) {
            Ok(true) => {
                self.documents.mark_changed(&root);
                self.documents.mark_one_changed(path);
            }
            Ok(false) => {}
            Err(why) => {
                self.workspaces.close(&root);
                self.connection.show_message(MessageKind::Warning, &why.to_string());
            }
        }
    }

    /// Lints the documents that changed, and publishes what is found.
    pub(crate) fn lint_changed(&mut self) {
        while let Some(path) = self.documents.first_changed() {
            self.sync(&path);
            self.documents.mark_linted(&path);
            let mut touches_others = false;
            self.publish_one(&path, |state, source| touches_others = state.lint(source));
            // The file's use of others changed, so the problems in those may be different now.
            let root = self.documents.get(&path).and_then(|document| document.root.clone());
            if let Some(root) = root.filter(|_| touches_others) {
                self.documents.mark_changed(&root);
                self.documents.mark_linted(&path);
            }
        }
    }

    /// Publishes what is found in an open document, after `lint`.
    fn publish_one(&mut self, path: &Path, lint: impl FnOnce(&mut WorkspaceState, SourceId)) {
        let Some(document) = self.documents.get(path) else { return };
        let (uri, version) = (document.uri.clone(), document.version);
        let Ok(Snapshot { state, source, encoding, client }) = self.snapshot(&uri) else { return };
        lint(state, source);
        let list = diagnostics::of(state, source, encoding, client);
        let params = json!({ "uri": uri, "version": version, "diagnostics": list });
        self.connection.notify("textDocument/publishDiagnostics", params);
    }

    /// Publishes again what was found in the documents of a workspace, without linting.
    pub(crate) fn publish(&mut self, root: &Path) {
        // Changed documents are published when they are linted.
        let linted = self.documents.of_root(root).into_iter().filter(|path| !self.documents.is_changed(path));
        linted.collect::<Vec<_>>().iter().for_each(|path| self.publish_one(path, |_, _| {}));
    }

    /// Reads a file again that is not open. One that is gone or new changes what files there are.
    pub(crate) fn reload(&mut self, root: &Path, path: &Path) {
        let Some(state) = self.workspaces.get_mut(root) else { return };
        let inside = path.strip_prefix(root).unwrap_or(path);
        let known = state.workspace.find(inside).filter(|_| !is_configuration(inside));
        match (known, std::fs::read_to_string(path)) {
            (Some(source), Ok(text)) => state.workspace.set_text(source, text),
            _ => self.workspaces.close(root),
        }
        self.documents.mark_changed(root);
    }

    /// Lets the client draw its lenses, tokens and hints again: the environment or the last responses are different.
    pub(crate) fn refresh(&mut self) {
        let ClientCapabilities { refreshes_lenses, refreshes_tokens, refreshes_hints, .. } = self.client;
        for (method, is_wanted) in [
            ("workspace/codeLens/refresh", refreshes_lenses),
            ("workspace/semanticTokens/refresh", refreshes_tokens),
            ("workspace/inlayHint/refresh", refreshes_hints),
        ] {
            if is_wanted {
                self.connection.ask(method, Value::Null, |_, _| {});
            }
        }
    }
}
