//! The traits through which the server reaches files, state, and sending.

use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use thiserror::Error;
use yieldtray_engine::Question;
use yieldtray_expression::RandomSource;
use yieldtray_http::Exchange;
use yieldtray_source::files::FileSystem;
use yieldtray_workspace::Workspace;
use yieldtray_workspace::scope::{EvalSettings, Tray};

/// Texts that are open in the editor, by where they lie: they hold in place of what is on disk.
pub type TextMap = HashMap<PathBuf, Arc<str>>;

/// Why the host cannot do something, as text for the person at the editor.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct HostError(pub String);

/// Everything around the files that an editor has open.
pub trait ServerHost: Send + Sync + 'static {
    /// The root of the workspace that holds a file; `None` if there is none.
    fn root_of(&self, file: &Path) -> Option<PathBuf>;

    /// Reads below a root.
    fn files(&self, root: &Path) -> io::Result<Box<dyn FileSystem>>;

    /// The request files of a workspace, relative to its root, sorted.
    fn request_files(&self, root: &Path, requests: &str) -> Result<Vec<PathBuf>, HostError>;

    /// The folder of a workspace for what is not of its files, made if it is not there.
    fn state_folder(&self, root: &Path) -> Result<PathBuf, HostError>;

    /// The entries of a folder; folders end in `/`.
    fn list(&self, folder: &Path) -> Vec<String>;

    /// The chosen environment and the values of the process.
    fn settings(&self, root: &Path, workspace: &Workspace) -> EvalSettings;

    /// Has the descriptions of the workspace's API opened when they are asked for.
    fn load_apis(&self, root: &Path, workspace: &mut Workspace, settings: &EvalSettings);

    /// Makes an environment the chosen one of the checkout.
    fn choose(&self, root: &Path, environment: &str) -> Result<(), HostError>;

    /// Where random values and the time come from, for values that are only shown.
    fn random(&self) -> RandomSource;

    /// The tray, as far as the files are loaded.
    fn tray(&self, root: &Path, workspace: &Workspace, settings: &EvalSettings) -> Tray;

    /// The last responses of cells in the chosen environment.
    fn answers(&self, root: &Path, settings: &EvalSettings) -> Box<dyn ResponseHistory>;

    /// The cell of that name as code or in a format, secrets left out.
    fn export(&self, job: &Job, cell: &str, target: &str) -> Result<String, HostError>;

    /// Writes a text to show beside a file, and returns its path.
    fn write_scratch(&self, job: &Job, name: &str, text: &str) -> Result<PathBuf, HostError>;

    /// Does a job. What it has to say meanwhile goes to `ui`.
    fn run_job(&self, job: &Job, ui: &dyn JobUi) -> Result<JobResult, HostError>;
}

/// Answers from before.
pub trait ResponseHistory {
    /// The last response to a cell, by its file and name.
    fn last(&self, file: &str, name: &str) -> Option<Exchange>;

    /// Whether there is one.
    fn has(&self, file: &str, name: &str) -> bool;
}

/// Something that takes its time.
#[derive(Clone, Debug)]
pub struct Job {
    /// The workspace's root.
    pub root: PathBuf,
    /// The unsaved texts of the editor.
    pub unsaved: TextMap,
    /// The file, relative to the root.
    pub file: PathBuf,
    /// The task.
    pub task: Task,
    /// Answers that were written down for questions of `% ask`, by name.
    pub answers: Vec<(String, String)>,
}

/// A task.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Task {
    /// Sends the cell of that name, and before it what it needs if that is wanted.
    Send {
        /// The cell.
        cell: String,
        /// Whether what it needs is sent too.
        needs: bool,
    },
    /// Judges the cell's checks on its last response.
    Judge {
        /// The cell.
        cell: String,
    },
    /// Sends all cells of the file in order.
    Replay,
}

/// Speaks with whoever waits.
pub trait JobUi: Send + Sync {
    /// Asks a question of `% ask`; `None` if it was dismissed.
    fn ask(&self, question: &Question) -> Option<String>;

    /// Puts a question with a yes and a no; the words are those of the yes.
    fn confirm(&self, question: &str, yes: &str) -> bool;

    /// Says how far it is.
    fn progress(&self, message: &str);

    /// Shows a message about a web page, and opens the page if `opens`.
    fn show_page(&self, message: &str, url: &str, opens: bool);

    /// Tells, whenever it is called, whether the job is to end.
    fn cancelled(&self) -> Box<dyn Fn() -> bool>;
}

/// The result of a job.
#[derive(Clone, Debug, Default)]
pub struct JobResult {
    /// The path of a text to show.
    pub document: Option<PathBuf>,
    /// A summary, in a line.
    pub summary: String,
    /// Whether all is well.
    pub success: bool,
    /// Findings at lines of files.
    pub findings: Vec<Finding>,
    /// The files of which findings from before no longer hold, relative to the root.
    pub judged: Vec<PathBuf>,
}

/// A result at a place of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The file, relative to the root.
    pub file: PathBuf,
    /// The line, from 1.
    pub line: usize,
    /// The text on it that it is about.
    pub text: String,
    /// In words; more lines explain it.
    pub message: String,
}
