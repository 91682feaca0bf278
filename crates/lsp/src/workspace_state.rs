//! One workspace that somebody edits files of: its texts as they are in the editor, and what was found in them.

use crate::host::{Finding, ResponseHistory, ServerHost};
use crate::overlay::{OpenTexts, Overlay};
use rustc_hash::{FxHashMap, FxHasher};
use std::hash::{Hash, Hasher};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use thiserror::Error;
use yieldtray_expression::{Engine, RandomSource};
use yieldtray_http::Exchange;
use yieldtray_ide::assist::{IdeContext, LastResponses};
use yieldtray_ide::lint::{UsageIndex, index_usage, lint_configuration, lint_files};
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};
use yieldtray_source::{Problem, SourceId};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::scope::{EvalContext, EvalSettings, PromptAnswers, Tray};
use yieldtray_workspace::{CellId, Workspace};

/// A workspace.
pub(crate) struct WorkspaceState {
    pub(crate) root: PathBuf,
    pub(crate) workspace: Workspace,
    pub(crate) engine: Engine,
    random: RandomSource,
    pub(crate) settings: EvalSettings,
    tray: Tray,
    prompt_answers: PromptAnswers,
    answered: Box<dyn ResponseHistory>,
    usage: UsageIndex,
    /// How many expressions the files had when they were read.
    baseline_exprs: usize,
    /// The problems found in each text when it was linted last.
    pub(crate) problems: FxHashMap<SourceId, Vec<Problem>>,
    /// The findings of the last runs.
    pub(crate) findings: Vec<Finding>,
}

/// The last responses of one workspace.
struct Last<'h>(&'h WorkspaceState);

impl LastResponses for Last<'_> {
    fn last(&self, cell: CellId) -> Option<Exchange> {
        let workspace = &self.0.workspace;
        self.0.answered.last(&workspace.shown_path(cell.source), &workspace.cell(cell).name)
    }
}

/// A workspace whose folder cannot be opened.
#[derive(Debug, Error)]
#[error("cannot open `{root}`: {error}", root = .root.display())]
pub(crate) struct OpenError {
    root: PathBuf,
    error: io::Error,
}

impl WorkspaceState {
    /// Opens the workspace at `root` with all its request files.
    pub(crate) fn open(host: &dyn ServerHost, root: &Path, open: &OpenTexts) -> Result<Self, OpenError> {
        let disk = host.files(root).map_err(|error| OpenError { root: root.to_owned(), error })?;
        // A value that comes from a command is not worked out only to be looked at.
        let files = Overlay { disk, root: root.to_owned(), open: Arc::clone(open), runs: false };
        let mut workspace =
            Workspace::open(Box::new(files)).explaining_commands(yieldtray_interchange::curl::why_no_request);
        // A file that cannot be read is reported where it is named, and stops nothing here.
        for file in host.request_files(root, &workspace.config.requests).unwrap_or_default() {
            let _ = workspace.load(&file);
        }
        let settings = host.settings(root, &workspace);
        host.load_apis(root, &mut workspace, &settings);
        let engine = Engine::with_functions(&workspace.config.functions);
        let tray = host.tray(root, &workspace, &settings);
        let answered = host.answers(root, &settings);
        let mut state = Self {
            root: root.to_owned(),
            workspace,
            engine,
            random: host.random(),
            settings,
            tray,
            prompt_answers: PromptAnswers::default(),
            answered,
            usage: UsageIndex::default(),
            baseline_exprs: 0,
            problems: FxHashMap::default(),
            findings: Vec::new(),
        };
        let cells: Vec<CellId> = state.all_cells();
        index_usage(&mut state.workspace, &state.engine, &state.settings, &cells, &mut state.usage);
        state.baseline_exprs = state.engine.cache_len();
        Ok(state)
    }

    fn all_cells(&self) -> Vec<CellId> {
        self.workspace.loaded().flat_map(|source| self.workspace.cells(source)).collect()
    }

    /// Reads again what responses left behind.
    pub(crate) fn refresh(&mut self, host: &dyn ServerHost) {
        self.tray = host.tray(&self.root, &self.workspace, &self.settings);
        self.answered = host.answers(&self.root, &self.settings);
        // A description may have been fetched since.
        host.load_apis(&self.root, &mut self.workspace, &self.settings);
    }

    /// The text of a file, loaded if it was not yet; `None` for one that is not of the workspace.
    pub(crate) fn source(&mut self, path: &Path) -> Option<SourceId> {
        let inside = path.strip_prefix(&self.root).ok()?.to_owned();
        match self.workspace.find(&inside) {
            Some(id) => Some(id),
            None if is_configuration(&inside) => None,
            None => self.workspace.load(&inside).ok(),
        }
    }

    /// Takes the text that somebody is writing. Tells whether more than this file has to be looked at again: what
    /// a configuration or a `_common.http` says holds elsewhere.
    pub(crate) fn write(
        &mut self,
        host: &dyn ServerHost,
        path: &Path,
        text: &str,
        open: &OpenTexts,
    ) -> Result<bool, OpenError> {
        let inside = path.strip_prefix(&self.root).unwrap_or(path).to_owned();
        // An unchanged text causes nothing: else two open configurations would make each other reload for ever.
        if self.workspace.find(&inside).is_some_and(|source| self.workspace.source(source).text == text) {
            return Ok(false);
        }
        if is_configuration(&inside) {
            let findings = std::mem::take(&mut self.findings);
            *self = Self::open(host, &self.root.clone(), open)?;
            self.findings = findings;
            return Ok(true);
        }
        let mut changed = inside.file_name().is_some_and(|name| name == yieldtray_workspace::COMMON_FILE);
        if let Some(source) = self.source(path) {
            let before = self.offers(source);
            self.workspace.set_text(source, text.to_owned());
            // Findings refer to the text before the change.
            self.problems.remove(&source);
            changed |= self.offers(source) != before;
        }
        Ok(changed)
    }

    /// A digest of what other files can see of a file: its cells, what they yield, ask for, need and play.
    fn offers(&self, source: SourceId) -> u64 {
        let mut digest = FxHasher::default();
        let own = self.workspace.source(source);
        for cell in &own.file.cells {
            cell.name.hash(&mut digest);
            for line in cell.instructions() {
                if let InstructionKind::Yield { .. }
                | InstructionKind::Ask { .. }
                | InstructionKind::Needs(_)
                | InstructionKind::Play { .. }
                | InstructionKind::Name(_) = line.kind
                {
                    line.span.of(&own.text).hash(&mut digest);
                }
            }
        }
        digest.finish()
    }

    /// Looks at a text again. Tells whether it uses something else of other files than before.
    pub(crate) fn lint(&mut self, source: SourceId) -> bool {
        let before = self.usage.of(source);
        // Intermediate texts of an expression while typing are never needed again.
        if self.engine.cache_len() > 2 * self.baseline_exprs + 1_000 {
            self.engine.clear_cache();
        }
        let found = if self.workspace.configurations().any(|config| config == source) {
            lint_configuration(&self.workspace, &self.all_cells())
        } else {
            // A `_common.http` is looked at from a file below it.
            let file = match self.workspace.cells(source).next() {
                Some(_) => Some(source),
                None => self.workspace.loaded().find(|file| self.workspace.source(*file).inherited.contains(&source)),
            };
            let cells: Vec<CellId> = file.into_iter().flat_map(|file| self.workspace.cells(file)).collect();
            if cells.is_empty() {
                self.usage.forget(source);
            }
            lint_files(&mut self.workspace, &self.engine, &self.settings, &[source], &cells, &mut self.usage)
        };
        let own = found.into_iter().filter(|problem| problem.source == Some(source)).collect();
        self.problems.insert(source, own);
        self.usage.of(source) != before
    }

    /// The context for `ide`.
    pub(crate) fn view<T>(&self, look: impl FnOnce(IdeContext<'_>) -> T) -> T {
        let Self { workspace, engine, random, settings, tray, prompt_answers: answers, .. } = self;
        look(IdeContext {
            context: EvalContext { workspace, engine, random, settings, tray, answers },
            past: &Last(self),
        })
    }

    /// Whether a cell was answered before.
    pub(crate) fn was_answered(&self, cell: CellId) -> bool {
        self.answered.has(&self.workspace.shown_path(cell.source), &self.workspace.cell(cell).name)
    }

    /// Replaces the findings of the files that a run was about.
    pub(crate) fn replace_findings(&mut self, judged: &[PathBuf], findings: Vec<Finding>) {
        self.findings.retain(|finding| !judged.contains(&finding.file));
        self.findings.extend(findings);
    }
}

/// Whether a path relative to the root is one of the two configurations.
pub(crate) fn is_configuration(inside: &Path) -> bool {
    inside == Path::new(CONFIG_FILE) || inside == Path::new(LOCAL_FILE)
}
