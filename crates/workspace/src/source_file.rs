//! One text of a workspace, with its tree.

use crate::cell_names::CellNames;
use std::path::PathBuf;
use std::sync::OnceLock;
use yieldtray_source::{LineColumn, Lines, Problem, SourceId};
use yieldtray_syntax::RequestFile;

/// One text of a workspace.
pub struct SourceFile {
    /// Relative to the root.
    pub path: PathBuf,
    /// The whole text.
    pub text: String,
    /// The tree of a request file; of the configuration, an empty one.
    pub file: RequestFile,
    /// Problems of its syntax. Those of its expressions are found when they are compiled.
    pub problems: Vec<Problem>,
    /// The `_common.http` files above it, outermost first.
    pub inherited: Vec<SourceId>,
    lines: OnceLock<Lines>,
    names: OnceLock<CellNames>,
}

impl SourceFile {
    pub(crate) fn new(path: PathBuf, text: String) -> Self {
        let (file, problems, inherited) = (RequestFile::default(), Vec::new(), Vec::new());
        Self { path, text, file, problems, inherited, lines: OnceLock::new(), names: OnceLock::new() }
    }

    /// Line starts, found once.
    pub fn lines(&self) -> &Lines {
        self.lines.get_or_init(|| Lines::new(&self.text))
    }

    pub(crate) fn names(&self) -> &CellNames {
        self.names.get_or_init(|| CellNames::of(&self.text, &self.file))
    }

    /// Line and column of a byte.
    pub fn place(&self, offset: usize) -> LineColumn {
        self.lines().place(&self.text, offset)
    }
}
