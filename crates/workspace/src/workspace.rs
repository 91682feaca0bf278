use super::cell_names::CellNames;
use crate::config::{Config, ExternalSources, Variables};
use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use yieldtray_expression::{FileReader, Schemas};
use yieldtray_http::FileBody;
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};
use yieldtray_source::escape::{escape_line, is_control_or_bidi};
use yieldtray_source::files::{FileSystem, normalize};
use yieldtray_source::{Code, LineColumn, Lines, Problem, SourceId, Span};
use yieldtray_syntax as syntax;
use yieldtray_syntax::{Cell, Instruction, InstructionKind, MAX_TEXT, RequestFile};

/// The file whose instructions hold for its folder and all below.
pub const COMMON_FILE: &str = "_common.http";

/// A cell in a workspace.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct CellId {
    /// Its file.
    pub source: SourceId,
    /// Its place in the file, from 0.
    pub index: u32,
}

/// One text of a workspace.
pub struct SourceFile {
    /// Relative to the root.
    pub path: PathBuf,
    /// The whole text.
    pub text: String,
    /// The tree of a request file; of the configuration, an empty one.
    pub file: RequestFile,
    /// What is wrong with it as a text. What its expressions do is found when they are compiled.
    pub problems: Vec<Problem>,
    /// The `_common.http` files above it, outermost first.
    pub commons: Vec<SourceId>,
    lines: OnceLock<Lines>,
    names: OnceLock<CellNames>,
}

impl SourceFile {
    fn new(path: PathBuf, text: String) -> Self {
        let (file, problems, commons) = (RequestFile::default(), Vec::new(), Vec::new());
        Self { path, text, file, problems, commons, lines: OnceLock::new(), names: OnceLock::new() }
    }

    /// Line starts, found once.
    pub fn lines(&self) -> &Lines {
        self.lines.get_or_init(|| Lines::new(&self.text))
    }

    fn names(&self) -> &CellNames {
        self.names.get_or_init(|| CellNames::of(&self.text, &self.file))
    }

    /// Line and column of a byte.
    pub fn place(&self, offset: usize) -> LineColumn {
        self.lines().place(&self.text, offset)
    }
}

/// The files, their trees and the configuration.
pub struct Workspace {
    files: Arc<dyn FileSystem>,
    schemas: Arc<Schemas>,
    /// Says why no request can be made of a pasted command.
    explain_command: Option<fn(&str) -> Option<String>>,
    sources: Vec<SourceFile>,
    by_path: HashMap<PathBuf, Option<SourceId>>,
    /// What `yieldtray.toml` and `yieldtray.local.toml` say; empty without them.
    pub config: Config,
    /// The texts of those.
    configs: Vec<SourceId>,
}

impl Workspace {
    /// Opens the workspace whose files `files` reads, and reads its configuration if it has one.
    pub fn open(files: Box<dyn FileSystem>) -> Self {
        let mut workspace = Self {
            files: files.into(),
            schemas: Arc::default(),
            explain_command: None,
            sources: Vec::new(),
            by_path: HashMap::new(),
            config: Config::default(),
            configs: Vec::new(),
        };
        for (file, private) in [(CONFIG_FILE, false), (LOCAL_FILE, true)] {
            match workspace.read(Path::new(file)) {
                Ok(Some(id)) => {
                    let source = &mut workspace.sources[id.0 as usize];
                    let (config, problems) = Config::parse(&source.text, id, private);
                    source.problems.extend(problems);
                    workspace.config = std::mem::take(&mut workspace.config).under(config);
                    workspace.configs.push(id);
                }
                Ok(None) => {}
                Err(problem) => {
                    let id = workspace.add(SourceFile::new(file.into(), String::new()));
                    workspace.sources[id.0 as usize].problems.push(problem.in_source(id));
                    workspace.configs.push(id);
                }
            }
        }
        workspace.config.settle();
        if workspace.config.schema_formats == Some(false) {
            workspace.schemas = Arc::new(Schemas::with_formats(false));
        }
        for problem in workspace.config.examine() {
            let source = problem.source.or(workspace.configs.first().copied());
            if let Some(source) = source {
                workspace.sources[source.0 as usize].problems.push(problem.in_source(source));
            }
        }
        workspace
    }

    /// The workspace with a function that says why no request can be made of a command pasted from a shell. What reads
    /// such commands builds on this crate, so it is handed in.
    #[must_use]
    pub fn explaining_commands(mut self, explain: fn(&str) -> Option<String>) -> Self {
        self.explain_command = Some(explain);
        self
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

    /// The problems of the configurations.
    pub fn config_problems(&self) -> impl Iterator<Item = &Problem> {
        self.configs.iter().flat_map(|id| &self.source(*id).problems)
    }

    /// The configurations that were read.
    pub fn configurations(&self) -> impl Iterator<Item = SourceId> + '_ {
        self.configs.iter().copied()
    }

    /// Whether there is a private configuration.
    pub fn has_private_config(&self) -> bool {
        self.configs.iter().any(|id| self.source(*id).path == Path::new(LOCAL_FILE))
    }

    /// The text of the private configuration.
    pub fn private_configuration(&self) -> Option<&str> {
        let own = self.configs.iter().map(|id| self.source(*id)).find(|source| source.path == Path::new(LOCAL_FILE));
        own.map(|source| source.text.as_str())
    }

    /// Where values come from beside the texts.
    pub fn outside<'o>(&'o self, variables: &'o Variables) -> ExternalSources<'o> {
        ExternalSources { variables, files: &*self.files }
    }

    /// A text by its id.
    pub fn source(&self, id: SourceId) -> &SourceFile {
        &self.sources[id.0 as usize]
    }

    /// A cell by its id.
    pub fn cell(&self, id: CellId) -> &Cell {
        &self.source(id.source).file.cells[id.index as usize]
    }

    /// The cells of a file.
    pub fn cells(&self, source: SourceId) -> impl Iterator<Item = CellId> + use<> {
        let cells = self.source(source).file.cells.len() as u32;
        (0..cells).map(move |index| CellId { source, index })
    }

    /// The file's name as it is shown: relative to the root, with `/`.
    pub fn shown_path(&self, id: SourceId) -> String {
        shown(&self.source(id).path)
    }

    /// `file:line` of a byte.
    pub fn shown_line(&self, id: SourceId, offset: usize) -> String {
        format!("{}:{}", self.shown_path(id), self.source(id).lines().line_of(offset))
    }

    /// `file:line` of a cell.
    pub fn shown_cell(&self, id: CellId) -> String {
        self.shown_line(id.source, self.cell(id).span.start())
    }

    /// `file:line:column` of a byte.
    pub fn shown_place(&self, id: SourceId, offset: usize) -> String {
        let place = self.source(id).place(offset);
        format!("{}:{}:{}", self.shown_path(id), place.line, place.column)
    }

    /// The line a cell starts at, from 1.
    pub fn line_of(&self, id: CellId) -> usize {
        self.source(id.source).lines().line_of(self.cell(id).span.start())
    }

    /// A cell's title, or its name where it has none.
    pub fn title(&self, id: CellId) -> &str {
        let cell = self.cell(id);
        let title = cell.title.of(&self.source(id.source).text);
        if title.is_empty() { &cell.name } else { title }
    }

    /// The cell of that name in a file.
    pub fn cell_named(&self, source: SourceId, name: &str) -> Option<CellId> {
        self.source(source).names().named(name).map(|index| CellId { source, index })
    }

    /// The cells of a file that yield a name, in order.
    pub(crate) fn cells_yielding(&self, source: SourceId, name: &str) -> impl Iterator<Item = CellId> {
        self.source(source).names().yielding(name).iter().map(move |index| CellId { source, index: *index })
    }

    /// A reader of files for the expressions of a text.
    pub(crate) fn reader(&self, source: SourceId) -> FileReader {
        let folder = self.source(source).path.parent().unwrap_or(Path::new("")).to_owned();
        FileReader::new(Arc::clone(&self.files), Arc::clone(&self.schemas), folder)
    }

    /// The bytes of the file at `path`, which is relative to the folder of a text.
    pub(crate) fn read_beside(&self, source: SourceId, path: &str) -> io::Result<Vec<u8>> {
        self.files.read_data(&self.beside(source, path)?)
    }

    /// The same, read as they are asked for.
    pub(crate) fn open_beside(&self, source: SourceId, path: &str) -> io::Result<Box<dyn io::Read + Send>> {
        self.files.open_data(&self.beside(source, path)?)
    }

    /// The file at `path`, which is relative to the folder of a text.
    pub(crate) fn locate_beside(&self, source: SourceId, path: &str) -> io::Result<FileBody> {
        let inside = self.beside(source, path)?;
        let (path, size) = self.files.locate_data(&inside)?;
        Ok(FileBody { path, shown: shown(&inside), size })
    }

    fn beside(&self, source: SourceId, path: &str) -> io::Result<PathBuf> {
        let folder = self.source(source).path.parent().unwrap_or(Path::new(""));
        let outside = || io::Error::new(io::ErrorKind::PermissionDenied, "it lies outside the workspace");
        normalize(&folder.join(path)).ok_or_else(outside)
    }

    /// A request file by its path as it is shown, if it is loaded.
    pub fn find_loaded(&self, shown: &str) -> Option<SourceId> {
        self.by_path.get(Path::new(shown)).copied().flatten()
    }

    /// A request file at `path`, relative to the folder of a text, if it is loaded.
    pub fn loaded_beside(&self, source: SourceId, path: &str) -> Option<SourceId> {
        self.by_path.get(&self.beside(source, path).ok()?).copied().flatten()
    }

    /// Every request file loaded so far, commons and the configuration left out.
    pub fn loaded(&self) -> impl Iterator<Item = SourceId> + '_ {
        let all = self.sources.iter().enumerate();
        all.filter(|(_, source)| !source.file.cells.is_empty()).map(|(index, _)| SourceId(index as u32))
    }

    /// The instructions that stand in the preambles over a file: `_common.http`, the outermost first,
    /// then the file's own. Each with the text it stands in.
    pub fn preambles(&self, source: SourceId) -> impl Iterator<Item = (SourceId, &Instruction)> + '_ {
        let over = self.source(source).commons.iter().copied().chain([source]);
        over.flat_map(|id| syntax::instructions(&self.source(id).file.preamble).map(move |item| (id, item)))
    }

    /// The tags of a cell: its own and those of the preambles over it.
    pub fn tags(&self, id: CellId) -> Vec<&str> {
        let own = self.cell(id).instructions().map(|instruction| (id.source, instruction));
        let mut tags: Vec<&str> = self
            .preambles(id.source)
            .chain(own)
            .filter_map(|(source, instruction)| match instruction.kind {
                InstructionKind::Tag(list) => Some((&self.source(source).text, list)),
                _ => None,
            })
            .flat_map(|(text, list)| InstructionKind::list(list, text).map(move |tag| tag.of(text)))
            .collect();
        tags.sort_unstable();
        tags.dedup();
        tags
    }

    /// Loads a request file and the `_common.http` files above it. `path` is relative to the root. A
    /// file that cannot be read is a mistake without a place.
    pub fn load(&mut self, path: &Path) -> Result<SourceId, Problem> {
        let path = usable(path)?;
        if let Some(Some(id)) = self.by_path.get(&path) {
            return Ok(*id);
        }
        let commons = self.commons_above(&path)?;
        let id = self.load_one(&path)?.ok_or_else(|| {
            let message = format!("no file `{}`", shown(&path));
            Problem::error(Code::UnreadableFile, Span::default(), message)
                .with_hint("name a file or folder that is there; `yieldtray list` shows the requests")
        })?;
        self.sources[id.0 as usize].commons = commons;
        Ok(id)
    }

    /// The same, but a file that is not there is taken for an empty one: it is about to be written.
    pub fn load_or_begin(&mut self, path: &Path) -> Result<SourceId, Problem> {
        let path = usable(path)?;
        let commons = self.commons_above(&path)?;
        let id = match self.load_one(&path)? {
            Some(id) => id,
            None => {
                let id = self.add(SourceFile::new(path.clone(), String::new()));
                self.by_path.insert(path, Some(id));
                id
            }
        };
        self.sources[id.0 as usize].commons = commons;
        Ok(id)
    }

    /// The `_common.http` files that hold for a file, the outermost first.
    fn commons_above(&mut self, path: &Path) -> Result<Vec<SourceId>, Problem> {
        let mut commons = Vec::new();
        let folders: Vec<&Path> = path.ancestors().skip(1).collect();
        for folder in folders.into_iter().rev() {
            let common = folder.join(COMMON_FILE);
            if common != path
                && let Some(id) = self.load_one(&common)?
            {
                self.forbid_cells(id);
                commons.push(id);
            }
        }
        Ok(commons)
    }

    /// Takes a text that is no file of the workspace: the command line's, or standard input's. The
    /// `_common.http` of the root holds for it.
    pub fn load_text(&mut self, name: &str, text: String) -> Result<SourceId, Problem> {
        let commons = self.load_one(Path::new(COMMON_FILE))?;
        let parsed_as = self.sources.len() as u32;
        let parsed = self.parse(&text, SourceId(parsed_as), "request");
        let mut source = SourceFile::new(name.into(), text);
        (source.file, source.problems) = (parsed.file, parsed.problems);
        source.commons = commons.into_iter().collect();
        Ok(self.add(source))
    }

    /// Puts another body into a cell, as it would stand in the file; the file itself stays as it is.
    pub fn replace_body(&mut self, cell: CellId, body: &str) -> Result<(), Problem> {
        let source = self.source(cell.source);
        let (own, text) = (self.cell(cell), &source.text);
        let (at, before) = match (own.body.is_empty(), &own.request) {
            (false, _) | (_, None) => (own.body.range(), ""),
            // Below the header fields: at the first blank line after the request line.
            (true, Some(request)) => {
                let rest = &text[request.span.start()..own.span.end()];
                let blank = rest.find("\n\n").or_else(|| rest.find("\r\n\r\n")).unwrap_or(rest.trim_end().len());
                let place = request.span.start() + blank;
                (place..place, "\n\n")
            }
        };
        let edited = format!("{}{before}{body}{}", &text[..at.start], &text[at.end..]);
        let stem = source.path.file_stem().unwrap_or_default().to_string_lossy();
        let parsed = syntax::parse(&edited, cell.source, &stem);
        let same = parsed.file.cells.len() == source.file.cells.len()
            && parsed.file.cells[cell.index as usize].body.of(&edited) == body.trim_end();
        if !same {
            let message = "this body would not be read as one";
            let problem = Problem::error(Code::StrayText, Span::default(), message);
            return Err(problem.with_hint("a body line that must start with `%` is written `\\%`"));
        }
        self.set_text(cell.source, edited);
        Ok(())
    }

    /// Puts another text in place of a request file's or a `_common.http`'s, as somebody is writing it.
    pub fn set_text(&mut self, id: SourceId, text: String) {
        let source = self.source(id);
        let (path, commons) = (source.path.clone(), source.commons.clone());
        let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let is_common = path.file_name().is_some_and(|name| name == COMMON_FILE);
        let parsed = self.parse(&text, id, &stem);
        let mut source = SourceFile::new(path, text);
        (source.file, source.problems, source.commons) = (parsed.file, parsed.problems, commons);
        self.sources[id.0 as usize] = source;
        if is_common {
            self.forbid_cells(id);
        }
    }

    /// A text of the workspace by its path, a configuration or a `_common.http` too.
    pub fn find_text(&self, path: &Path) -> Option<SourceId> {
        self.by_path.get(path).copied().flatten()
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
            let problem = Problem::error(Code::StrayText, span, format!("`{COMMON_FILE}` holds no requests"))
                .with_hint("move the request to a file of its own")
                .in_source(id);
            // From here on the file is only its preamble.
            source.file.cells.clear();
            source.problems.retain(|problem| problem.span.end() <= span.start());
            source.problems.push(problem);
        }
    }

    fn read(&mut self, path: &Path) -> Result<Option<SourceId>, Problem> {
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
            let message = format!("`{}` has {} bytes, more than {MAX_TEXT}", shown(path), bytes.len());
            return Err(Problem::error(Code::UnreadableFile, Span::default(), message).with_hint("split the file"));
        }
        let text = String::from_utf8(bytes).map_err(|error| {
            let at = error.utf8_error().valid_up_to();
            let line = error.as_bytes()[..at].iter().filter(|&&b| b == b'\n').count() + 1;
            let message = format!("`{}` is not UTF-8: line {line} has a byte that is no text", shown(path));
            Problem::error(Code::UnreadableFile, Span::default(), message).with_hint("save the file as UTF-8")
        })?;
        let id = self.add(SourceFile::new(path.to_owned(), text));
        self.by_path.insert(path.to_owned(), Some(id));
        Ok(Some(id))
    }

    fn add(&mut self, source: SourceFile) -> SourceId {
        self.sources.push(source);
        SourceId(self.sources.len() as u32 - 1)
    }
}

/// A path with `/` between its parts.
fn shown(path: &Path) -> String {
    path.components().map(|part| part.as_os_str().to_string_lossy()).collect::<Vec<_>>().join("/")
}

/// The cleaned path of a request file. Its name is shown in headings, reports and messages, where characters that
/// drive a terminal or hide from the reader have no place.
fn usable(path: &Path) -> Result<PathBuf, Problem> {
    let cleaned = normalize(path).ok_or_else(|| outside(path))?;
    let name = shown(&cleaned);
    if name.contains(|c| is_control_or_bidi(c) || c.is_control()) {
        let message = format!("the file name `{}` holds characters that cannot be shown", escape_line(&name));
        return Err(Problem::error(Code::UnreadableFile, Span::default(), message).with_hint("rename the file"));
    }
    Ok(cleaned)
}

fn outside(path: &Path) -> Problem {
    let message = format!("`{}` lies outside the workspace", path.display());
    Problem::error(Code::UnreadableFile, Span::default(), message).with_hint("name a file below the workspace's root")
}
