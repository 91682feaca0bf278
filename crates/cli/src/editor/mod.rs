//! The host of the language server: files, state, and sending as the commands do it.

mod jobs;
mod prompter;
mod result_document;

use crate::args::{Color, Common};
use crate::error::CommandError;
use crate::files::{request_files, root_of};
use crate::host::HostFacts;
use crate::project::disk::Disk;
use crate::project::trust::Trust;
use crate::project::{state, trust};
use crate::run::response_source::LoggedResponse;
use crate::{project, settings};
use std::collections::HashMap;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use yieldtray_expression::{RandomSource, Value};
use yieldtray_http::Exchange;
use yieldtray_lsp::{HostError, Job, JobResult, JobUi, ResponseHistory, ServerHost};
use yieldtray_source::files::FileSystem;
use yieldtray_store::{StateFolder, Store};
use yieldtray_workspace::Workspace;
use yieldtray_workspace::config::Variables;
use yieldtray_workspace::scope::{EvalSettings, Tray};

/// The desk at which somebody edits.
pub(crate) struct EditorHost {
    /// The options that hold for all that is done here.
    common: Common,
    /// The values of `--set` and `--set-from`.
    set: Vec<(String, Value)>,
    /// The names of those from files.
    set_secrets: Vec<String>,
    /// The trust of open workspaces.
    trusts: Mutex<HashMap<PathBuf, Trust>>,
}

impl EditorHost {
    /// One where the options of the command hold.
    pub(crate) fn of(common: &Common) -> Result<Self, CommandError> {
        if common.set_from.iter().any(|given| given.ends_with("=-")) {
            return Err(CommandError::refused("`lsp` reads its protocol from standard input, and no value"));
        }
        let given = project::set_from::read(&common.set_from, &std::env::current_dir()?)?;
        let set_secrets = given.iter().map(|(name, _)| name.clone()).collect();
        let set = common.set.iter().map(|text| settings::set_value(text)).collect::<Result<Vec<_>, _>>()?;
        let set = [set, given].concat();
        // Nothing is said but by the protocol, and nothing is revealed.
        let common = Common { json: false, quiet: true, reveal: false, color: Some(Color::Never), ..common.clone() };
        Ok(Self { common: Common { directory: None, ..common }, set, set_secrets, trusts: Mutex::default() })
    }
}

/// The facts about the host for a process without a terminal. People are asked through the editor.
fn host() -> HostFacts {
    let host = HostFacts::detect();
    HostFacts { out_is_terminal: false, errors_are_terminal: false, can_ask: true, width: None, height: None, ..host }
}

/// A refusal in words.
fn host_error(error: CommandError) -> HostError {
    HostError(match error {
        CommandError::Mistakes => "the files contain errors".to_owned(),
        CommandError::Interrupted => "nothing was sent".to_owned(),
        CommandError::Refused { message, hint, .. } => {
            hint.map_or_else(|| message.clone(), |hint| format!("{message}: {hint}"))
        }
        CommandError::System(error) => format!("{error:#}"),
    })
}

impl ServerHost for EditorHost {
    fn root_of(&self, file: &Path) -> Option<PathBuf> {
        Some(root_of(file.parent()?))
    }

    fn files(&self, root: &Path) -> io::Result<Box<dyn FileSystem>> {
        // Decided anew each time a workspace is opened: its configuration may have changed.
        let trust = Trust::default();
        let disk = Disk::new(root, &trust)?;
        self.trusts.lock().unwrap_or_else(PoisonError::into_inner).insert(root.to_owned(), trust);
        Ok(Box::new(disk))
    }

    fn request_files(&self, root: &Path, requests: &str) -> Result<Vec<PathBuf>, HostError> {
        request_files(root, &root.join(requests), false).map(|found| found.files).map_err(host_error)
    }

    fn state_folder(&self, root: &Path) -> Result<PathBuf, HostError> {
        let folder = StateFolder::open_or_make(root, state::key_file().as_deref());
        folder.map(|folder| folder.path().to_owned()).map_err(|error| HostError(error.to_string()))
    }

    fn list(&self, folder: &Path) -> Vec<String> {
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let mut names: Vec<String> = entries
            .filter_map(|entry| {
                let name = entry.file_name().into_string().ok()?;
                let folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
                (!name.starts_with('.')).then(|| if folder { format!("{name}/") } else { name })
            })
            .collect();
        names.sort();
        names
    }

    fn settings(&self, root: &Path, workspace: &Workspace) -> EvalSettings {
        let trust = self.trusts.lock().unwrap_or_else(PoisonError::into_inner).get(root).cloned().unwrap_or_default();
        trust.decide(root, workspace, &self.common, &host());
        let checkout = StateFolder::open(root, state::key_file().as_deref()).ok().flatten();
        let checkout = checkout.and_then(|folder| folder.chosen_environment());
        let chosen = settings::choose_environment(&self.common, &host(), &workspace.config, checkout);
        let environment = chosen.map(|chosen| chosen.name);
        // A workspace of somebody else reads nothing of this user's.
        let foreign = trust::refuse_foreign(root, || trust.allows()).is_err();
        let variables = match foreign {
            true => Variables::default(),
            false => project::variables(root, workspace, &trust, &self.common).unwrap_or_default(),
        };
        // An unknown environment is reported when something is sent.
        let environment = environment.filter(|name| workspace.config.environment(name).is_some());
        let (set, set_secrets) = (self.set.clone(), self.set_secrets.clone());
        EvalSettings { environment, set, set_secrets, variables, can_ask: true, ..EvalSettings::default() }
    }

    fn load_apis(&self, root: &Path, workspace: &mut Workspace, settings: &EvalSettings) {
        workspace.load_apis_with(project::description::loader(root.to_owned(), settings.clone()));
    }

    fn choose(&self, root: &Path, environment: &str) -> Result<(), HostError> {
        if let Some(fixed) = self.common.env.last() {
            let message =
                format!("`yieldtray lsp` was started with `--env {fixed}`, which cannot be changed while it runs");
            return Err(HostError(message));
        }
        let chosen = StateFolder::open_or_make(root, state::key_file().as_deref())
            .and_then(|folder| folder.choose_environment(environment));
        chosen.map_err(|error| HostError(error.to_string()))
    }

    fn random(&self) -> RandomSource {
        // Requests are evaluated by a project of their own; here values are only shown.
        project::random_for_showing(self.common.seed)
    }

    fn tray(&self, root: &Path, workspace: &Workspace, settings: &EvalSettings) -> Tray {
        let store = Store::open(root, state::key_file()).ok().flatten();
        let tray = store.and_then(|store| state::tray(&store, workspace, state::environment(settings)).ok());
        tray.unwrap_or_default()
    }

    fn answers(&self, root: &Path, settings: &EvalSettings) -> Box<dyn ResponseHistory> {
        Box::new(Answers::of(root, settings))
    }

    fn export(&self, job: &Job, cell: &str, target: &str) -> Result<String, HostError> {
        jobs::export(&self.common, job, cell, target).map_err(host_error)
    }

    fn write_scratch(&self, job: &Job, name: &str, text: &str) -> Result<PathBuf, HostError> {
        result_document::write(&job.root, &job.file, name, text).map_err(host_error)
    }

    fn run_job(&self, job: &Job, ui: &dyn JobUi) -> Result<JobResult, HostError> {
        jobs::run_job(&self.common, job, ui).map_err(host_error)
    }
}

/// The last logged responses.
#[derive(Default)]
struct Answers {
    store: Option<Store>,
    numbers: HashMap<(String, String), i64>,
}

impl Answers {
    fn of(root: &Path, settings: &EvalSettings) -> Self {
        let Some(store) = Store::open(root, state::key_file()).ok().flatten() else { return Self::default() };
        let mut numbers: HashMap<(String, String), i64> = HashMap::new();
        for ((file, name, _), number) in store.last_answers(state::environment(settings)).unwrap_or_default() {
            // Of a cell with rows, the row that was answered last.
            let last = numbers.entry((file, name)).or_default();
            *last = number.max(*last);
        }
        Self { store: Some(store), numbers }
    }

    fn number(&self, file: &str, name: &str) -> Option<i64> {
        self.numbers.get(&(file.to_owned(), name.to_owned())).copied()
    }
}

impl ResponseHistory for Answers {
    fn last(&self, file: &str, name: &str) -> Option<Exchange> {
        let number = self.number(file, name)?;
        let (listed, payload) = self.store.as_ref()?.exchange(number).ok()??;
        LoggedResponse::read(&listed, payload).ok()?.exchange.exchange()
    }

    fn has(&self, file: &str, name: &str) -> bool {
        self.number(file, name).is_some()
    }
}
