//! The documents that are open in the editor.

use crate::host::TextMap;
use crate::overlay::OpenTexts;
use crate::params::{Changed, Document};
use crate::position::{LineIndex, PositionEncoding};
use crate::uri::path_of;
use std::collections::{BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Arc, MutexGuard, PoisonError};

/// A document that is open in the editor.
pub(crate) struct OpenDocument {
    pub(crate) uri: String,
    pub(crate) version: i32,
    /// The root of its workspace.
    pub(crate) root: Option<PathBuf>,
}

/// The open documents, and which of them changed since they were linted.
#[derive(Default)]
pub(crate) struct DocumentStore {
    documents: HashMap<PathBuf, OpenDocument>,
    texts: OpenTexts,
    changed: BTreeSet<PathBuf>,
}

impl DocumentStore {
    /// The texts of the open documents, shared with those who read files.
    pub(crate) fn open_texts(&self) -> OpenTexts {
        Arc::clone(&self.texts)
    }

    fn lock(&self) -> MutexGuard<'_, TextMap> {
        self.texts.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The texts in the editor now.
    pub(crate) fn unsaved(&self) -> TextMap {
        self.lock().clone()
    }

    /// The text of a document.
    pub(crate) fn text(&self, path: &Path) -> Option<Arc<str>> {
        self.lock().get(path).cloned()
    }

    pub(crate) fn get(&self, path: &Path) -> Option<&OpenDocument> {
        self.documents.get(path)
    }

    /// The versions of the open documents.
    pub(crate) fn versions(&self) -> HashMap<PathBuf, i32> {
        self.documents.iter().map(|(path, document)| (path.clone(), document.version)).collect()
    }

    /// The open documents of a workspace.
    pub(crate) fn of_root(&self, root: &Path) -> Vec<PathBuf> {
        let of_root = self.documents.iter().filter(|(_, document)| document.root.as_deref() == Some(root));
        of_root.map(|(path, _)| path.clone()).collect()
    }

    pub(crate) fn open(&mut self, path: PathBuf, document: Document, root: Option<PathBuf>) {
        self.lock().insert(path.clone(), Arc::from(document.text));
        let opened = OpenDocument { uri: document.uri, version: document.version, root };
        self.documents.insert(path.clone(), opened);
        self.changed.insert(path);
    }

    /// Applies the changes of a document.
    pub(crate) fn change(&mut self, changed: Changed, encoding: PositionEncoding) {
        let Some(path) = path_of(&changed.text_document.uri) else { return };
        let Some(before) = self.text(&path) else { return };
        let mut text = before.to_string();
        for change in changed.content_changes {
            match change.range {
                None => text = change.text,
                Some(range) => {
                    let lines = yieldtray_source::Lines::new(&text);
                    let span = LineIndex { text: &text, lines: &lines, encoding }.span(range);
                    text.replace_range(span.range(), &change.text);
                }
            }
        }
        self.lock().insert(path.clone(), Arc::from(text));
        if let Some(document) = self.documents.get_mut(&path) {
            document.version = changed.text_document.version;
        }
        self.changed.insert(path);
    }

    /// Closes a document.
    pub(crate) fn close(&mut self, path: &Path) -> Option<OpenDocument> {
        self.lock().remove(path);
        self.changed.remove(path);
        self.documents.remove(path)
    }

    /// Finds the workspace of each document again. One that belongs to another workspace now has changed.
    pub(crate) fn find_roots(&mut self, root_of: impl Fn(&Path) -> Option<PathBuf>) {
        for (path, document) in &mut self.documents {
            let root = root_of(path);
            if document.root != root {
                document.root = root;
                self.changed.insert(path.clone());
            }
        }
    }

    /// Notes that every open document of a workspace is to be linted again.
    pub(crate) fn mark_changed(&mut self, root: &Path) {
        self.changed.extend(self.of_root(root));
    }

    /// Notes that a document is to be linted again.
    pub(crate) fn mark_one_changed(&mut self, path: &Path) {
        self.changed.insert(path.to_owned());
    }

    /// Notes that a document was linted.
    pub(crate) fn mark_linted(&mut self, path: &Path) {
        self.changed.remove(path);
    }

    pub(crate) fn is_changed(&self, path: &Path) -> bool {
        self.changed.contains(path)
    }

    /// A document that is to be linted.
    pub(crate) fn first_changed(&self) -> Option<PathBuf> {
        self.changed.first().cloned()
    }

    /// Forgets what is to be linted.
    pub(crate) fn forget_changes(&mut self) {
        self.changed.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn opened(store: &mut DocumentStore, path: &str, root: &str, text: &str) {
        let document = json!({ "uri": format!("file://{path}"), "version": 1, "text": text });
        let document = serde_json::from_value(document).expect("a document");
        store.open(PathBuf::from(path), document, Some(PathBuf::from(root)));
    }

    fn changed(store: &mut DocumentStore, path: &str, version: i32, changes: Value, encoding: PositionEncoding) {
        let document = json!({ "uri": format!("file://{path}"), "version": version });
        let changed = json!({ "textDocument": document, "contentChanges": changes });
        store.change(serde_json::from_value(changed).expect("changes"), encoding);
    }

    fn edit(from: (u32, u32), to: (u32, u32), text: &str) -> Value {
        let position = |(line, character): (u32, u32)| json!({ "line": line, "character": character });
        json!({ "range": { "start": position(from), "end": position(to) }, "text": text })
    }

    #[test]
    fn changes_are_applied_one_after_another_in_the_units_of_the_client() {
        // `é` has two bytes and one unit of UTF-16; `🍎` has four bytes and two units.
        for (encoding, column) in [(PositionEncoding::Utf16, 3), (PositionEncoding::Utf8, 6)] {
            let mut store = DocumentStore::default();
            opened(&mut store, "/w/a.http", "/w", "GET /a\né🍎x\n");
            let changes = [edit((1, column), (1, column + 1), "y\nz"), edit((2, 0), (2, 1), "")];
            changed(&mut store, "/w/a.http", 2, json!(changes), encoding);
            assert_eq!(store.text(Path::new("/w/a.http")).as_deref(), Some("GET /a\né🍎y\n\n"));
            assert_eq!(store.versions()[Path::new("/w/a.http")], 2);
        }
        let mut store = DocumentStore::default();
        opened(&mut store, "/w/a.http", "/w", "GET /a\n");
        changed(&mut store, "/w/a.http", 2, json!([{ "text": "GET /b\n" }]), PositionEncoding::Utf16);
        assert_eq!(store.text(Path::new("/w/a.http")).as_deref(), Some("GET /b\n"));
        // A document that is not open has no text to change.
        changed(&mut store, "/w/b.http", 2, json!([{ "text": "GET /b\n" }]), PositionEncoding::Utf16);
        assert_eq!(store.text(Path::new("/w/b.http")), None);
    }

    #[test]
    fn a_document_is_linted_again_after_each_change_and_never_once_it_is_closed() {
        let mut store = DocumentStore::default();
        opened(&mut store, "/w/a.http", "/w", "GET /a\n");
        opened(&mut store, "/v/b.http", "/v", "GET /b\n");
        assert_eq!(store.first_changed(), Some(PathBuf::from("/v/b.http")));
        store.mark_linted(Path::new("/v/b.http"));
        assert_eq!(store.first_changed(), Some(PathBuf::from("/w/a.http")));
        store.forget_changes();
        changed(&mut store, "/w/a.http", 2, json!([edit((0, 0), (0, 3), "PUT")]), PositionEncoding::Utf8);
        assert!(store.is_changed(Path::new("/w/a.http")) && !store.is_changed(Path::new("/v/b.http")));
        store.mark_changed(Path::new("/v"));
        assert!(store.is_changed(Path::new("/v/b.http")));
        assert!(store.close(Path::new("/w/a.http")).is_some());
        assert!(!store.is_changed(Path::new("/w/a.http")));
        assert_eq!(store.text(Path::new("/w/a.http")), None);
        assert!(store.close(Path::new("/w/a.http")).is_none());
    }

    #[test]
    fn a_document_that_belongs_to_another_workspace_now_has_changed() {
        let mut store = DocumentStore::default();
        opened(&mut store, "/w/a.http", "/w", "GET /a\n");
        opened(&mut store, "/w/in/b.http", "/w", "GET /b\n");
        store.forget_changes();
        // A configuration was written into the inner folder.
        store.find_roots(|path| path.parent().map(Path::to_owned));
        assert_eq!(store.of_root(Path::new("/w/in")), [PathBuf::from("/w/in/b.http")]);
        assert_eq!(store.first_changed(), Some(PathBuf::from("/w/in/b.http")));
        assert!(!store.is_changed(Path::new("/w/a.http")));
    }
}
