//! A workspace: its configuration, its request files, and what is found in them.

use crate::apis::{ApiInputs, ApiLoader, Apis, LoadedApi};
use crate::config::{Config, ExternalSources, SourceCache, Variables};
use crate::file_set::{FileSet, shown};
use crate::key_cache::KeyCache;
use crate::source_file::SourceFile;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use yieldtray_expression::{FileReader, Schemas};
use yieldtray_http::FileBody;
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};
use yieldtray_source::files::{FileSystem, normalize};
use yieldtray_source::{Problem, SourceId};
use yieldtray_syntax::Cell;

/// A cell in a workspace.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct CellId {
    /// Its file.
    pub source: SourceId,
    /// Its place in the file, from 0.
    pub index: u32,
}

/// The files, their trees and the configuration.
pub struct Workspace {
    files: FileSet,
    schemas: Arc<Schemas>,
    apis: Apis,
    source_cache: SourceCache,
    /// The private keys that requests were signed with.
    pub(crate) keys: KeyCache,
    /// The configuration of `yieldtray.toml` and `yieldtray.local.toml`; empty without them.
    pub config: Config,
    /// The texts of those.
    configs: Vec<SourceId>,
}

impl Workspace {
    /// Opens the workspace whose files `files` reads, and reads its configuration if it has one.
    pub fn open(files: Box<dyn FileSystem>) -> Self {
        let mut workspace = Self {
            files: FileSet::new(files),
            schemas: Arc::default(),
            apis: Apis::default(),
            source_cache: SourceCache::default(),
            keys: KeyCache::default(),
            config: Config::default(),
            configs: Vec::new(),
        };
        for (file, private) in [(CONFIG_FILE, false), (LOCAL_FILE, true)] {
            match workspace.files.read(Path::new(file)) {
                Ok(Some(id)) => {
                    let (config, problems) = Config::parse(&workspace.source(id).text, id, private);
                    problems.into_iter().for_each(|problem| workspace.files.report(id, problem));
                    workspace.config = std::mem::take(&mut workspace.config).overlaid_by(config);
                    workspace.configs.push(id);
                }
                Ok(None) => {}
                Err(problem) => {
                    let id = workspace.files.add(SourceFile::new(file.into(), String::new()));
                    workspace.files.report(id, problem);
                    workspace.configs.push(id);
                }
            }
        }
        workspace.config.inherit_send();
        if workspace.config.schema_formats == Some(false) {
            workspace.schemas = Arc::new(Schemas::with_formats(false));
        }
        for problem in workspace.config.examine() {
            let source = problem.source.or(workspace.configs.first().copied());
            if let Some(source) = source {
                workspace.files.report(source, problem);
            }
        }
        workspace
    }

    /// The workspace with a function that says why no request can be made of a command pasted from a shell. What reads
    /// such commands builds on this crate, so it is handed in.
    #[must_use]
    pub fn explaining_commands(mut self, explain: fn(&str) -> Option<String>) -> Self {
        self.files.explain_commands(explain);
        self
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
        ExternalSources { variables, files: &**self.files.file_system(), cache: &self.source_cache }
    }

    /// A text by its id.
    pub fn source(&self, id: SourceId) -> &SourceFile {
        self.files.source(id)
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

    /// The cell of that name in a file.
    pub fn cell_named(&self, source: SourceId, name: &str) -> Option<CellId> {
        self.source(source).names().named(name).map(|index| CellId { source, index })
    }

    /// The cells of a file that yield a name, in order.
    pub(crate) fn find_yielders(&self, source: SourceId, name: &str) -> impl Iterator<Item = CellId> {
        self.source(source).names().yielding(name).iter().map(move |index| CellId { source, index: *index })
    }

    /// Has descriptions of its API opened by `loader` when they are first asked for.
    pub fn load_apis_with(&mut self, loader: ApiLoader) {
        self.apis = Apis::with(loader);
    }

    /// What its descriptions are opened with.
    pub fn api_inputs(&self) -> ApiInputs<'_> {
        ApiInputs { config: &self.config, files: &**self.files.file_system(), source_cache: &self.source_cache }
    }

    /// The descriptions of its API.
    pub fn apis(&self) -> &[LoadedApi] {
        self.apis.get(self.api_inputs())
    }

    /// A reader of files for the expressions of a text.
    pub(crate) fn reader(&self, source: SourceId) -> FileReader {
        let folder = self.source(source).path.parent().unwrap_or(Path::new("")).to_owned();
        FileReader::new(Arc::clone(self.files.file_system()), Arc::clone(&self.schemas), folder)
    }

    /// The bytes of the file at `path`, which is relative to the folder of a text.
    pub(crate) fn read_relative(&self, source: SourceId, path: &str) -> io::Result<Vec<u8>> {
        self.files.file_system().read_data(&self.relative_to(source, path)?)
    }

    /// The same, read as they are asked for.
    pub(crate) fn open_relative(&self, source: SourceId, path: &str) -> io::Result<Box<dyn io::Read + Send>> {
        self.files.file_system().open_data(&self.relative_to(source, path)?)
    }

    /// The file at `path`, which is relative to the folder of a text.
    pub(crate) fn locate_relative(&self, source: SourceId, path: &str) -> io::Result<FileBody> {
        let inside = self.relative_to(source, path)?;
        let (path, size) = self.files.file_system().locate_data(&inside)?;
        Ok(FileBody { path, shown: shown(&inside), size })
    }

    fn relative_to(&self, source: SourceId, path: &str) -> io::Result<PathBuf> {
        let folder = self.source(source).path.parent().unwrap_or(Path::new(""));
        let outside = || io::Error::new(io::ErrorKind::PermissionDenied, "it is outside the workspace");
        normalize(&folder.join(path)).ok_or_else(outside)
    }

    /// A request file by its path as it is shown, if it is loaded.
    pub fn find_loaded(&self, shown: &str) -> Option<SourceId> {
        self.files.find(Path::new(shown))
    }

    /// A request file at `path`, relative to the folder of a text, if it is loaded.
    pub fn loaded_relative(&self, source: SourceId, path: &str) -> Option<SourceId> {
        self.files.find(&self.relative_to(source, path).ok()?)
    }

    /// A text of the workspace by its path, a configuration or a `_common.http` too.
    pub fn find(&self, path: &Path) -> Option<SourceId> {
        self.files.find(path)
    }

    /// Every request file loaded so far, inherited ones and the configuration left out.
    pub fn loaded(&self) -> impl Iterator<Item = SourceId> + '_ {
        self.files.loaded()
    }

    /// Loads a request file and the `_common.http` files above it. `path` is relative to the root.
    ///
    /// # Errors
    /// A problem without a place, for a file that cannot be read or lies outside the root.
    pub fn load(&mut self, path: &Path) -> Result<SourceId, Problem> {
        self.files.load(path)
    }

    /// Loads a file; one that does not exist counts as empty, since it is about to be written.
    ///
    /// # Errors
    /// As for [`Self::load`].
    pub fn load_or_create(&mut self, path: &Path) -> Result<SourceId, Problem> {
        self.files.load_or_create(path)
    }

    /// Adds a text that is no file of the workspace: the command line's, or standard input's. The `_common.http` of the
    /// root holds for it.
    ///
    /// # Errors
    /// If the `_common.http` of the root cannot be read.
    pub fn load_text(&mut self, name: &str, text: String) -> Result<SourceId, Problem> {
        self.files.load_text(name, text)
    }

    /// Replaces the text of a request file or a `_common.http` in memory, as an editor has it.
    pub fn set_text(&mut self, id: SourceId, text: String) {
        self.files.set_text(id, text);
    }
}
