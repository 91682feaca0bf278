//! The workspaces of the open documents.

use crate::host::ServerHost;
use crate::overlay::OpenTexts;
use crate::wire::ResponseError;
use crate::workspace_state::WorkspaceState;
use std::collections::HashMap;
use std::path::{Path, PathBuf};

/// The open workspaces, by their roots.
#[derive(Default)]
pub(crate) struct Workspaces {
    states: HashMap<PathBuf, WorkspaceState>,
}

impl Workspaces {
    /// The workspace of a root, opened if it was not.
    pub(crate) fn open(
        &mut self,
        host: &dyn ServerHost,
        root: &Path,
        texts: &OpenTexts,
    ) -> Result<&mut WorkspaceState, ResponseError> {
        if !self.states.contains_key(root) {
            let state = WorkspaceState::open(host, root, texts);
            self.states.insert(root.to_owned(), state.map_err(ResponseError::failed)?);
        }
        Ok(self.states.get_mut(root).expect("it was just put in"))
    }

    /// The workspace of a root, if it is open.
    pub(crate) fn get_mut(&mut self, root: &Path) -> Option<&mut WorkspaceState> {
        self.states.get_mut(root)
    }

    /// Closes a workspace: it is opened anew when it is needed.
    pub(crate) fn close(&mut self, root: &Path) {
        self.states.remove(root);
    }

    pub(crate) fn close_all(&mut self) {
        self.states.clear();
    }

    pub(crate) fn iter(&self) -> impl Iterator<Item = &WorkspaceState> {
        self.states.values()
    }

    /// The root of the open workspace that a file is below.
    pub(crate) fn root_above(&self, path: &Path) -> Option<PathBuf> {
        self.states.keys().find(|root| path.starts_with(root)).cloned()
    }
}
