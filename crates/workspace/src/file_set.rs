//! The texts of a workspace: which are loaded, from where, and how a changed one is taken.

use crate::source_file::SourceFile;
use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yieldtray_source::escape::{escape_line, is_control_or_bidi};
use yieldtray_source::files::{FileSystem, normalize};
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax as syntax;
use yieldtray_syntax::MAX_TEXT;

/// The file whose instructions hold for its folder and all below.
pub const COMMON_FILE: &str = "_common.http";

/// The texts that were read, each under an id that never changes.
pub(crate) struct FileSet {
    files: Arc<dyn FileSystem>,
    /// Says why no request can be made of a pasted command.
    explain_command: Option<fn(&str) -> Option<String>>,
    sources: Vec<SourceFile>,
    /// `None` for a path at which there is no file.
    by_path: HashMap<PathBuf, Option<SourceId>>,
}

impl FileSet {
    pub(crate) fn new(files: Box<dyn FileSystem>) -> Self {
        Self { files: files.into(), explain_command: None, sources: Vec::new(), by_path: HashMap::new() }
    }

    /// Says why no request can be made of a pasted command.
    pub(crate) fn explain_commands(&mut self, explain: fn(&str) -> Option<String>) {
        self.explain_command = Some(explain);
    }

    /// The file system under the workspace's root.
    pub(crate) fn file_system(&self) -> &Arc<dyn FileSystem> {
        &self.files
    }

    /// A text by its id.
    pub(crate) fn source(&self, id: SourceId) -> &SourceFile {
        &self.sources[id.0 as usize]
    }

    /// Reports a problem of a text.
    pub(crate) fn report(&mut self, id: SourceId, problem: Problem) {
        self.sources[id.0 as usize].problems.push(problem.in_source(id));
    }

    /// A text by its path, if it is loaded.
    pub(crate) fn find(&self, path: &Path) -> Option<SourceId> {
        self.by_path.get(path).copied().flatten()
    }

    /// Every request file loaded so far, inherited ones and the configuration left out.
    pub(crate) fn loaded(&self) -> impl Iterator<Item = SourceId> + '_ {
        let all = self.sources.iter().enumerate();
        all.filter(|(_, source)| !source.file.cells.is_empty()).map(|(index, _)| SourceId(index as u32))
    }

    /// Parses a text, and completes what the parser alone cannot know.
    fn parse(&self, text: &str, id: SourceId, stem: &str) -> syntax::Parsed {
        let mut parsed = syntax::parse(text, id, stem);
        if let Some(explain) = self.explain_command {
            for problem in parsed.problems.iter_mut().filter(|problem| problem.code == Code::ShellCommand) {
                problem.hint = explain(problem.span.of(text)).or(problem.hint.take());
            }
        }
        parsed
    }

    /// Loads a request file and the `_common.http` files above it. `path` is relative to the root. A file that cannot
    /// be read is an error without a place.
    pub(crate) fn load(&mut self, path: &Path) -> Result<SourceId, Problem> {
        let path = usable(path)?;
        if let Some(Some(id)) = self.by_path.get(&path) {
            return Ok(*id);
        }
        let inherited = self.inherited_files(&path)?;
        let id = self.load_one(&path)?.ok_or_else(|| {
            let message = format!("no file `{}`", shown(&path));
            Problem::error(Code::UnreadableFile, Span::default(), message)
                .with_hint("use an existing file or directory; see `yieldtray list`")
        })?;
        self.sources[id.0 as usize].inherited = inherited;
        Ok(id)
    }

    /// The same, but a file that is not there is taken for an empty one: it is about to be written.
    pub(crate) fn load_or_create(&mut self, path: &Path) -> Result<SourceId, Problem> {
        let path = usable(path)?;
        let inherited = self.inherited_files(&path)?;
        let id = match self.load_one(&path)? {
            Some(id) => id,
            None => {
                let id = self.add(SourceFile::new(path.clone(), String::new()));
                self.by_path.insert(path, Some(id));
                id
            }
        };
        self.sources[id.0 as usize].inherited = inherited;
        Ok(id)
    }

    /// The `_common.http` files that hold for a file, the outermost first.
    fn inherited_files(&mut self, path: &Path) -> Result<Vec<SourceId>, Problem> {
        let mut inherited = Vec::new();
        let folders: Vec<&Path> = path.ancestors().skip(1).collect();
        for folder in folders.into_iter().rev() {
            let common = folder.join(COMMON_FILE);
            if common != path
                && let Some(id) = self.load_one(&common)?
            {
                self.forbid_cells(id);
                inherited.push(id);
            }
        }
        Ok(inherited)
    }

    /// Adds a text that is not a file of the workspace: that of the command line, or of standard input. The
    /// `_common.http` of the root holds for it.
    pub(crate) fn load_text(&mut self, name: &str, text: String) -> Result<SourceId, Problem> {
        let inherited = self.load_one(Path::new(COMMON_FILE))?;
        let parsed_as = self.sources.len() as u32;
        let parsed = self.parse(&text, SourceId(parsed_as), "request");
        let mut source = SourceFile::new(name.into(), text);
        (source.file, source.problems) = (parsed.file, parsed.problems);
        source.inherited = inherited.into_iter().collect();
        Ok(self.add(source))
    }

    /// Puts another text in place of a request file's or a `_common.http`'s, as somebody is writing it.
    pub(crate) fn set_text(&mut self, id: SourceId, text: String) {
        let source = self.source(id);
        let (path, inherited) = (source.path.clone(), source.inherited.clone());
        let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let is_common = path.file_name().is_some_and(|name| name == COMMON_FILE);
        let parsed = self.parse(&text, id, &stem);
        let mut source = SourceFile::new(path, text);
        (source.file, source.problems, source.inherited) = (parsed.file, parsed.problems, inherited);
        self.sources[id.0 as usize] = source;
        if is_common {
            self.forbid_cells(id);
        }
    }

    fn load_one(&mut self, path: &Path) -> Result<Option<SourceId>, Problem> {
        if let Some(known) = self.by_path.get(path) {
            return Ok(*known);
        }
        let id = self.read(path)?;
        if let Some(id) = id {
            let stem = path.file_stem().unwrap_or_default().to_string_lossy();
            let parsed = self.parse(&self.source(id).text, id, &stem);
            let source = &mut self.sources[id.0 as usize];
            (source.file, source.problems) = (parsed.file, parsed.problems);
        }
        Ok(id)
    }

    /// `_common.http` is a preamble: a request in it is reported once.
    fn forbid_cells(&mut self, id: SourceId) {
        let source = &mut self.sources[id.0 as usize];
        if let Some(cell) = source.file.cells.first() {
            let span = cell.request.as_ref().map_or(cell.title, |request| request.span);
            let problem = Problem::error(Code::StrayText, span, format!("`{COMMON_FILE}` cannot contain requests"))
                .with_hint("move the request to another file")
                .in_source(id);
            // From here on the file is only its preamble.
            source.file.cells.clear();
            source.problems.retain(|problem| problem.span.end() <= span.start());
            source.problems.push(problem);
        }
    }

    /// Reads a file; `None` if there is none.
    pub(crate) fn read(&mut self, path: &Path) -> Result<Option<SourceId>, Problem> {
        let bytes = match self.files.read(path) {
            Ok(bytes) => bytes,
            Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
                self.by_path.insert(path.to_owned(), None);
                return Ok(None);
            }
            Err(error) => {
                let message = format!("cannot read `{}`: {error}", shown(path));
                return Err(Problem::error(Code::UnreadableFile, Span::default(), message));
            }
        };
        if bytes.len() > MAX_TEXT {
            let message = format!("`{}` is too large: {} bytes (limit {MAX_TEXT})", shown(path), bytes.len());
            return Err(Problem::error(Code::UnreadableFile, Span::default(), message).with_hint("split the file"));
        }
        let text = String::from_utf8(bytes).map_err(|error| {
            let at = error.utf8_error().valid_up_to();
            let line = error.as_bytes()[..at].iter().filter(|&&b| b == b'\n').count() + 1;
            let message = format!("`{}` is not UTF-8: invalid byte in line {line}", shown(path));
            Problem::error(Code::UnreadableFile, Span::default(), message).with_hint("save the file as UTF-8")
        })?;
        let id = self.add(SourceFile::new(path.to_owned(), text));
        self.by_path.insert(path.to_owned(), Some(id));
        Ok(Some(id))
    }

    pub(crate) fn add(&mut self, source: SourceFile) -> SourceId {
        self.sources.push(source);
        SourceId(self.sources.len() as u32 - 1)
    }
}

/// A path with `/` between its parts.
pub(crate) fn shown(path: &Path) -> String {
    path.components().map(|part| part.as_os_str().to_string_lossy()).collect::<Vec<_>>().join("/")
}

/// The cleaned path of a request file. Its name is shown in headings, reports and messages, where characters that
/// drive a terminal or hide from the reader have no place.
fn usable(path: &Path) -> Result<PathBuf, Problem> {
    let cleaned = normalize(path).ok_or_else(|| outside(path))?;
    let name = shown(&cleaned);
    if name.contains(|c| is_control_or_bidi(c) || c.is_control()) {
        let message = format!("the file name `{}` contains control characters", escape_line(&name));
        return Err(Problem::error(Code::UnreadableFile, Span::default(), message).with_hint("rename the file"));
    }
    Ok(cleaned)
}

fn outside(path: &Path) -> Problem {
    let message = format!("`{}` is outside the workspace", path.display());
    Problem::error(Code::UnreadableFile, Span::default(), message).with_hint("use a path inside the workspace")
}
