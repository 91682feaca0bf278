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
    version: i32,
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
