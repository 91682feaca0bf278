//! Opens the project of a command: the workspace around the named place, the chosen environment, the values of the
//! command line.

pub(crate) mod configuration;
pub(crate) mod description;
pub(crate) mod disk;
mod dotenv;
mod environment;
mod find;
pub(crate) mod gitignore;
mod heading;
pub(crate) mod identity;
pub(crate) mod keyring;
pub(crate) mod locator;
pub(crate) mod revision;
pub(crate) mod select;
pub(crate) mod set_from;
pub(crate) mod staged;
pub(crate) mod state;
mod tracked;
pub(crate) mod trust;

use self::disk::Disk;
pub(crate) use self::dotenv::variables;
use self::environment::checkout_choice;
use crate::args::Common;
use crate::error::CommandError;
use crate::files::root_of;
use crate::host::HostFacts;
use crate::output::Out;
use crate::project::description::DescriptionContext;
use crate::project::locator::Locator;
use crate::project::tracked::tracked_problem;
use crate::project::trust::Trust;
use crate::prompt::{Prompter, Terminal};
use crate::settings::{ChosenBy, Settings, SettingsInput};
use crate::{git, prompt};
use anyhow::Context;
use chrono::{DateTime, Utc};
use std::path::{Component, Path, PathBuf};
use std::time::SystemTime;
use yieldtray_engine::{ExitCode, Run, RunOptions, Summary};
use yieldtray_expression::{Clock, Engine, RandomSource};
use yieldtray_source::access::LOCAL_FILE;
use yieldtray_source::escape::escape_line;
use yieldtray_source::files::FileSystem;
use yieldtray_source::{Problem, SourceId, Span};
use yieldtray_workspace::Workspace;
use yieldtray_workspace::config::unknown_environment;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::scope::EvalSettings;

/// An opened workspace and what the caller chose.
pub(crate) struct Project {
    /// The workspace's folder.
    pub(crate) root: PathBuf,
    /// Its files as far as they were named.
    pub(crate) workspace: Workspace,
    /// Runs expressions.
    pub(crate) engine: Engine,
    /// Where random values and the time come from.
    pub(crate) random: RandomSource,
    /// Environment and values.
    pub(crate) settings: EvalSettings,
    /// The source of the chosen environment.
    pub(crate) chosen_by: Option<ChosenBy>,
    /// Whether the workspace may reach outside.
    pub(crate) trust: Trust,
    /// Whether secrets are shown, since somebody asked to see them.
    pub(crate) reveal: bool,
    /// The folder relative places are counted from.
    pub(crate) here: PathBuf,
    /// The request files that were looked for and read, in order.
    pub(crate) looked_at: Vec<SourceId>,
    /// Files and folders that were looked for and could not be read.
    pub(crate) unreadable: Vec<Problem>,
}

impl Project {
    /// Opens the workspace that contains the first of `places`, or the current folder.
    pub(crate) fn open(
        common: &Common,
        host: &HostFacts,
        out: &mut Out,
        places: &[Locator],
    ) -> Result<Self, CommandError> {
        let project = Self::open_any(common, host, out, places)?;
        project.check_choice()?;
        Ok(project)
    }

    /// The same for a command that evaluates values: if the workspace wants to reach outside, the user is asked.
    pub(crate) fn open_to_evaluate(
        common: &Common,
        host: &HostFacts,
        out: &mut Out,
        places: &[Locator],
    ) -> Result<Self, CommandError> {
        let mut project = Self::open(common, host, out, places)?;
        project.offer_to_allow(common, &Terminal::of(host))?;
        Ok(project)
    }

    /// The same, whether or not the chosen environment is there.
    pub(crate) fn open_any(
        common: &Common,
        host: &HostFacts,
        out: &mut Out,
        places: &[Locator],
    ) -> Result<Self, CommandError> {
        if let [first, second, ..] = common.env.as_slice() {
            let message = format!("`--env` was given twice, as `{first}` and `{second}`");
            return Err(CommandError::refused_with(message, "pass one; only `log compare` takes two"));
        }
        let here = here(common)?;
        let root = root_for(&here, places);
        let trust = Trust::default();
        let disk = Disk::new(&root, &trust).with_context(|| format!("cannot open `{}`", root.display()))?;
        Self::over(Box::new(disk), trust, root, here, common, host, out)
    }

    /// Opens the workspace at `root` whose files `files` reads, as far as `trust` lets it.
    pub(crate) fn over(
        files: Box<dyn FileSystem>,
        trust: Trust,
        root: PathBuf,
        here: PathBuf,
        common: &Common,
        host: &HostFacts,
        out: &mut Out,
    ) -> Result<Self, CommandError> {
        let workspace = Workspace::open(files).explaining_commands(yieldtray_interchange::curl::why_no_request);
        trust.decide(&root, &workspace, common, host);
        trust::refuse_foreign(&root, || trust.allows())?;
        if workspace.has_private_config() {
            // Git's index is read once: in a large checkout it has megabytes.
            let tracked = git::tracks(&root.join(LOCAL_FILE));
            if tracked {
                trust.note_tracked();
            }
            out.last_warning = tracked_problem(&root, tracked);
        }
        let problems: Vec<Problem> = workspace.config_problems().cloned().collect();
        if !problems.is_empty() {
            let error = out.stop_with(&workspace, &problems);
            if problems.iter().any(Problem::is_error) {
                return Err(error);
            }
        }
        let checkout = checkout_choice(&root, out)?;
        let resolved = Settings::resolve(SettingsInput {
            common,
            host,
            config: &workspace.config,
            checkout,
            fresh_seed: fresh_seed(),
        })?;
        let (environment, chosen_by) = resolved.environment.map(|chosen| (chosen.name, chosen.chosen_by)).unzip();
        let set_from = set_from::read(&common.set_from, &here)?;
        let settings = EvalSettings {
            environment,
            set: [resolved.set, set_from.clone()].concat(),
            set_secrets: set_from.into_iter().map(|(name, _)| name).collect(),
            variables: variables(&root, &workspace, &trust, common)?,
            can_ask: resolved.can_ask,
            secrets_to: resolved.secrets_to,
        };
        let mut workspace = workspace;
        workspace.load_apis_with(description::loader(root.clone(), settings.clone()));
        let engine = Engine::with_functions(&workspace.config.functions);
        let random = RandomSource::new(resolved.seed, clock());
        let reveal = common.reveal && may_reveal(host)?;
        Ok(Self {
            root,
            workspace,
            engine,
            random,
            settings,
            chosen_by,
            trust,
            reveal,
            here,
            looked_at: Vec::new(),
            unreadable: Vec::new(),
        })
    }

    /// What its descriptions are opened with.
    pub(crate) fn description_context(&self) -> DescriptionContext<'_> {
        DescriptionContext { root: &self.root, inputs: self.workspace.api_inputs(), settings: &self.settings }
    }

    /// A run of this session.
    pub(crate) fn run<'s>(&'s self, plan: Plan, options: RunOptions<'s>) -> Run<'s> {
        Run::new(&self.workspace, &self.engine, &self.random, self.settings.clone(), plan, options)
    }

    /// Refuses a chosen environment that nobody describes.
    pub(crate) fn check_choice(&self) -> Result<(), CommandError> {
        let (Some(name), Some(by)) = (&self.settings.environment, self.chosen_by) else { return Ok(()) };
        if self.workspace.config.environment(name).is_some() {
            return Ok(());
        }
        let mut problem = unknown_environment(name, Span::default(), &self.workspace.config);
        problem.message.push_str(&format!(", selected by {}", by.describe()));
        Err(problem.into())
    }

    /// If the workspace wants to reach outside and may not: shows what it asks for, and asks once. Without permission,
    /// it is refused when it is needed.
    pub(crate) fn offer_to_allow(&mut self, common: &Common, prompter: &dyn Prompter) -> Result<(), CommandError> {
        if self.trust.allows() || !prompter.is_there() {
            return Ok(());
        }
        let lines = trust::outside_lines(&self.workspace);
        if lines.is_empty() {
            return Ok(());
        }
        let head = "This workspace wants to access things outside its directory:".to_owned();
        let lines = lines.iter().map(|(place, what)| format!("  {place}  {}", escape_line(what)));
        let lines: Vec<String> = [head].into_iter().chain(lines).collect();
        if prompter.confirm_after(&lines, "Allow this, as it is now?", "Allow")? {
            trust::remember(&self.root, &self.workspace)?;
            self.trust.allow();
            self.settings.variables = variables(&self.root, &self.workspace, &self.trust, common)?;
        }
        Ok(())
    }

    /// The seed of a run that sent something and failed, if it made anything up.
    pub(crate) fn seed_to_tell(&self, summary: &Summary) -> Option<u64> {
        let failed = summary.exit_code() != ExitCode::Success && summary.requests > 0;
        self.random.seed_in_use().filter(|_| failed)
    }

    /// A path of the command line, relative to the current folder.
    pub(crate) fn path_from_here(&self, path: &Path) -> PathBuf {
        // If that is the process's folder, the path stays as written.
        let stays = std::env::current_dir().is_ok_and(|folder| folder == self.here);
        if stays { path.to_owned() } else { self.here.join(path) }
    }
}

/// Parses the WHERE arguments.
pub(crate) fn places(common: &Common, texts: &[String]) -> Result<Vec<Locator>, CommandError> {
    let here = here(common)?;
    Ok(texts.iter().map(|text| Locator::parse(text, |path| here.join(path).exists())).collect())
}

/// The root of the workspace that contains the first of `places`, or the current folder. A link belongs to the
/// workspace it is in, not to that of its target.
pub(crate) fn root_for(here: &Path, places: &[Locator]) -> PathBuf {
    let start = places.iter().find_map(|place| match place {
        Locator::Path(path) | Locator::Line(path, _) | Locator::Cell(path, _) => Some(here.join(path)),
        Locator::StandardInput | Locator::Name(_) => None,
    });
    let start = start.map(|start| without_steps(&start));
    let folder = start.and_then(|start| if start.is_dir() { Some(start) } else { start.parent().map(Path::to_owned) });
    // A place that is not there is reported later, with those that are.
    let root = folder.and_then(|folder| root_of(&folder).canonicalize().ok());
    root.unwrap_or_else(|| root_of(here))
}

/// A path as it is written, without `.` and `..`.
fn without_steps(path: &Path) -> PathBuf {
    let mut plain = PathBuf::new();
    for part in path.components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir => drop(plain.pop()),
            part => plain.push(part),
        }
    }
    plain
}

/// The current folder, or that of `-C`.
pub(crate) fn here(common: &Common) -> Result<PathBuf, CommandError> {
    let folder = common.directory.clone().unwrap_or_else(|| PathBuf::from("."));
    let here = folder.canonicalize();
    here.map_err(|error| CommandError::refused(format!("cannot work in `{}`: {error}", folder.display())))
}

/// Random values that are only shown: they are small.
pub(crate) fn random_for_showing(given: Option<u64>) -> RandomSource {
    RandomSource::for_showing(given.unwrap_or_else(fresh_seed), clock())
}

/// A seed for one command. A person types it to get the same values again: ten digits are enough.
fn fresh_seed() -> u64 {
    fastrand::u64(..10_000_000_000)
}

fn clock() -> Clock {
    Box::new(|| DateTime::<Utc>::from(SystemTime::now()).fixed_offset())
}

/// Whether secrets may be shown: on a terminal, to somebody who says yes.
fn may_reveal(host: &HostFacts) -> Result<bool, CommandError> {
    if !(host.can_ask && host.out_is_terminal) {
        let hint = "omit it: secrets are never written to a file or a pipe";
        return Err(CommandError::refused_with("`--reveal` works only on a terminal", hint));
    }
    prompt::confirm("Show secrets on this screen?", false)
}
