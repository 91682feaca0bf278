//! What every command begins with: the workspace around the named place, the chosen environment, the
//! values of the command line.

pub(crate) mod disk;
mod find;
pub(crate) mod gitignore;
pub(crate) mod locator;
pub(crate) mod revision;
pub(crate) mod select;
pub(crate) mod staged;
pub(crate) mod state;
mod tracked;
pub(crate) mod trust;

use self::disk::Disk;
use crate::args::Common;
use crate::error::CommandError;
use crate::files::root_of;
use crate::git;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::cell::Heading;
use crate::output::table::count;
use crate::project::locator::Locator;
use crate::project::tracked::tracked_problem;
use crate::project::trust::Trust;
use crate::prompt;
use crate::prompt::{Prompter, Terminal};
use anyhow::Context;
use chrono::{DateTime, Utc};
use std::path::{Component, Path, PathBuf};
use std::time::SystemTime;
use yieldtray_engine::ExitCode;
use yieldtray_engine::Run;
use yieldtray_engine::RunOptions;
use yieldtray_engine::Summary;
use yieldtray_expression::{Clock, Engine, RandomSource, Value};
use yieldtray_http::parse_origin;
use yieldtray_source::Span;
use yieldtray_source::access::LOCAL_FILE;
use yieldtray_source::escape::escape_line;
use yieldtray_source::files::FileSystem;
use yieldtray_source::names::is_value_name;
use yieldtray_source::{Problem, SourceId};
use yieldtray_store::StateFolder;
use yieldtray_syntax::is_language_name;
use yieldtray_workspace::config::{Variables, is_listed, unknown_environment};
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::says_insecure;
use yieldtray_workspace::scope::EvalSettings;
use yieldtray_workspace::{CellId, Workspace};

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
    /// Who chose the environment.
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

/// Who chose the environment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ChosenBy {
    /// `--env`
    Option,
    /// `YIELDTRAY_ENV`
    Variable,
    /// `yieldtray env NAME`
    Checkout,
    /// `[workspace] environment`
    Configuration,
}

impl ChosenBy {
    /// Who it was, as a person would look for it.
    pub(crate) fn words(self) -> &'static str {
        match self {
            ChosenBy::Option => "--env",
            ChosenBy::Variable => "YIELDTRAY_ENV",
            ChosenBy::Checkout => "`yieldtray env`",
            ChosenBy::Configuration => "yieldtray.toml",
        }
    }
}

impl Project {
    /// Opens the workspace that holds the first of `places`, or the folder the caller stands in.
    pub(crate) fn open(
        common: &Common,
        host: &HostFacts,
        out: &mut Out,
        places: &[Locator],
    ) -> Result<Self, CommandError> {
        let session = Self::open_any(common, host, out, places)?;
        session.check_choice()?;
        Ok(session)
    }

    /// The same for a command that evaluates values: if the workspace wants to reach outside, the user is asked.
    pub(crate) fn open_to_evaluate(
        common: &Common,
        host: &HostFacts,
        out: &mut Out,
        places: &[Locator],
    ) -> Result<Self, CommandError> {
        let mut session = Self::open(common, host, out, places)?;
        session.offer_to_allow(common, &Terminal::of(host))?;
        Ok(session)
    }

    /// The same, whether or not the chosen environment is there.
    pub(crate) fn open_any(
        common: &Common,
        host: &HostFacts,
        out: &mut Out,
        places: &[Locator],
    ) -> Result<Self, CommandError> {
        if let [first, second, ..] = common.env.as_slice() {
            let message = format!("`--env` names two environments, `{first}` and `{second}`");
            return Err(CommandError::refused_with(message, "name one; `log compare` takes two"));
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
            out.tracked = tracked_problem(&root, tracked);
        }
        let problems: Vec<Problem> = workspace.config_problems().cloned().collect();
        if !problems.is_empty() {
            let stop = out.stop_with(&workspace, &problems);
            if problems.iter().any(Problem::is_error) {
                return Err(stop);
            }
        }
        let (environment, chosen_by) = choice(common, host, &workspace, checkout_choice(&root, out)?);
        let set = common.set.iter().map(|text| set_value(text)).collect::<Result<_, _>>()?;
        let variables = variables(&root, &workspace, &trust, common)?;
        let secrets_to = common.secrets_to.iter().map(|text| origin(text)).collect::<Result<_, _>>()?;
        let settings = EvalSettings { environment, set, variables, can_ask: host.can_ask, secrets_to };
        let engine = Engine::with_functions(&workspace.config.functions);
        let random = RandomSource::new(seed(common.seed), clock());
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
        problem.message.push_str(&format!(", which {} names", by.words()));
        Err(problem.into())
    }

    /// If the workspace wants to reach outside and may not: shows what it wants, and asks once. What it wants is
    /// refused when it is needed, if nobody can be asked or the answer is no.
    pub(crate) fn offer_to_allow(&mut self, common: &Common, person: &dyn Prompter) -> Result<(), CommandError> {
        if self.trust.allows() || !person.is_there() {
            return Ok(());
        }
        let lines = trust::outside_lines(&self.workspace);
        if lines.is_empty() {
            return Ok(());
        }
        let head = "This workspace wants to reach outside its directory:".to_owned();
        let lines = lines.iter().map(|(place, what)| format!("  {place}  {}", escape_line(what)));
        let lines: Vec<String> = [head].into_iter().chain(lines).collect();
        if person.confirm_after(&lines, "Allow it, as it is now?", "Allow it")? {
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

    /// Environment and address, for the first line of what is shown.
    pub(crate) fn heading(&self) -> Heading {
        let environment = self.settings.environment.as_deref().map(|name| {
            let tint = self.workspace.config.environment(name).and_then(|environment| environment.tint);
            (name.to_owned(), tint)
        });
        Heading { environment, base: self.base(), warnings: self.connection_warnings() }
    }

    /// The same for a run of these cells.
    pub(crate) fn heading_of(&self, cells: impl IntoIterator<Item = CellId>) -> Heading {
        let mut heading = self.heading();
        let insecure = cells.into_iter().filter(|cell| says_insecure(&self.workspace, *cell)).count();
        if insecure > 0 {
            let count = count(insecure, "request", "requests");
            heading.warnings.push(format!("certificates are not verified for {count} (`% insecure`)"));
        }
        heading
    }

    /// What a configuration changes about who is trusted: whoever shares it must not do so unnoticed.
    fn connection_warnings(&self) -> Vec<String> {
        let settings = self.workspace.config.send_settings(self.settings.environment.as_deref());
        let place = |source: SourceId, span: Span| self.workspace.shown_line(source, span.start());
        let mut warnings = Vec::new();
        if let Some(setting) = settings.insecure.as_ref().filter(|setting| setting.value) {
            warnings.push(format!("certificates are not verified ({})", place(setting.source, setting.span)));
        }
        for (what, setting) in [("ca", &settings.ca), ("proxy", &settings.proxy)] {
            if let Some(setting) = setting.as_ref().filter(|setting| !setting.private) {
                let place = place(setting.source, setting.span);
                warnings.push(format!("{what} {} ({place})", without_credentials(&setting.value)));
            }
        }
        warnings
    }

    /// The address a cell goes to, as far as it is known before anything is worked out.
    pub(crate) fn target(&self, cell: CellId) -> String {
        let text = &self.workspace.source(cell.source).text;
        let target = self.workspace.cell(cell).request.as_ref().map_or("", |request| request.target.of(text));
        match self.base() {
            Some(base) if target.starts_with('/') => format!("{}{target}", base.trim_end_matches('/')),
            _ => target.to_owned(),
        }
    }

    /// The address the requests go to, where the configuration or the command line says it.
    pub(crate) fn base(&self) -> Option<String> {
        let outside = self.workspace.outside(&self.settings.variables);
        let entry = || {
            let entry = self.workspace.config.entry(self.settings.environment.as_deref(), "base")?;
            // Nothing is run for a heading, and nothing secret is shown in one.
            let plain = !entry.secret && !entry.source_kind.is_command();
            plain.then(|| entry.value(&outside).ok()).flatten()
        };
        self.settings.set_value("base").or_else(entry)?.to_text().ok().map(std::borrow::Cow::into_owned)
    }

    /// A path of the command line, counted from where the caller stands.
    pub(crate) fn path_from_here(&self, path: &Path) -> PathBuf {
        // Where the caller stands already, a path stays as it was written.
        let stays = std::env::current_dir().is_ok_and(|folder| folder == self.here);
        if stays { path.to_owned() } else { self.here.join(path) }
    }
}

/// Reads the WHEREs as they stand on the command line.
pub(crate) fn places(common: &Common, texts: &[String]) -> Result<Vec<Locator>, CommandError> {
    let here = here(common)?;
    Ok(texts.iter().map(|text| Locator::parse(text, |path| here.join(path).exists())).collect())
}

/// The root of the workspace that holds the first of `places`, or the folder the caller stands in. A link belongs to
/// the workspace in which it stands: where it leads was not the caller's choice.
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

/// The folder the caller stands in, or says to.
pub(crate) fn here(common: &Common) -> Result<PathBuf, CommandError> {
    let folder = common.directory.clone().unwrap_or_else(|| PathBuf::from("."));
    let here = folder.canonicalize();
    here.map_err(|error| CommandError::refused(format!("cannot work in `{}`: {error}", folder.display())))
}

/// The chosen environment, and who chose it: the first who says anything.
pub(crate) fn choice(
    common: &Common,
    host: &HostFacts,
    workspace: &Workspace,
    checkout: Option<String>,
) -> (Option<String>, Option<ChosenBy>) {
    let by = |name: Option<String>, by| name.map(|name| (name, by));
    let chosen = by(common.env.last().cloned(), ChosenBy::Option)
        .or_else(|| by(host.environment.clone(), ChosenBy::Variable))
        .or_else(|| by(checkout, ChosenBy::Checkout))
        .or_else(|| {
            let name = workspace.config.environment.as_ref().map(|(name, ..)| name.clone());
            by(name, ChosenBy::Configuration)
        });
    chosen.unzip()
}

/// The environment that `yieldtray env` chose for the checkout. A state folder that is not this user's own chooses
/// nothing, with a warning.
fn checkout_choice(root: &Path, out: &mut Out) -> Result<Option<String>, CommandError> {
    match StateFolder::open(root, state::key_file().as_deref()) {
        Ok(folder) => Ok(folder.and_then(|folder| folder.chosen_environment())),
        Err(error @ yieldtray_store::Error::Untrusted(_)) => {
            if !out.quiet && !out.json {
                let words =
                    format!("{error}: it is ignored; delete it, or run `yieldtray allow --state` if it is yours");
                out.say(&out.error_look.odd(&words))?;
            }
            Ok(None)
        }
        // Without a home nothing was ever chosen.
        Err(yieldtray_store::Error::NoKey) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// A proxy's address without its password.
fn without_credentials(address: &str) -> String {
    match (address.find("://"), address.rfind('@')) {
        (Some(scheme), Some(at)) if scheme < at => format!("{}{}", &address[..scheme + 3], &address[at + 1..]),
        _ => address.to_owned(),
    }
}

/// An origin of `--secrets-to`.
fn origin(text: &str) -> Result<String, CommandError> {
    parse_origin(text).ok_or_else(|| {
        let hint = "write scheme, host and port, as in `--secrets-to https://scale.example`";
        CommandError::refused_with(format!("`--secrets-to {text}` is not an origin"), hint)
    })
}

/// Random values that are only shown: they are small.
pub(crate) fn random_for_showing(given: Option<u64>) -> RandomSource {
    RandomSource::for_showing(seed(given), clock())
}

/// The seed that was given, or one of its own. A person types it: ten digits are enough.
fn seed(given: Option<u64>) -> u64 {
    given.unwrap_or_else(|| fastrand::u64(..10_000_000_000))
}

fn clock() -> Clock {
    Box::new(|| DateTime::<Utc>::from(SystemTime::now()).fixed_offset())
}

/// The variables of the `.env` file at the root, and over them those of the process that the workspace may read:
/// which the command line names, or the private configuration of an allowed workspace.
pub(crate) fn variables(
    root: &Path,
    workspace: &Workspace,
    trust: &Trust,
    common: &Common,
) -> Result<Variables, CommandError> {
    let named = |name: &str| is_listed(name, &common.read_env);
    let may_read = |name: &str| named(name) || (trust.allows() && workspace.config.lets_read(name));
    let process = std::env::vars_os();
    let process = process.filter_map(|(name, value)| Some((name.into_string().ok()?, value.into_string().ok()?)));
    Ok(Variables::new(dot_env(root, trust)?, process, may_read))
}

/// What `.env` says. Its lines may hold secrets: a mistake in it is told by its place alone.
fn dot_env(root: &Path, trust: &Trust) -> Result<Vec<(String, String)>, CommandError> {
    let text = match disk::dot_env(root, trust) {
        Ok(Some(text)) => text,
        Ok(None) => return Ok(Vec::new()),
        Err(error) => return Err(CommandError::refused(format!("cannot read `.env`: {error}"))),
    };
    dotenvy::from_read_iter(text.as_bytes())
        .map(|line| {
            line.map_err(|error| {
                let at = match &error {
                    dotenvy::Error::LineParse(line, _) => text.find(line.as_str()),
                    _ => None,
                };
                let line = at.map(|at| format!(":{}", text[..at].matches('\n').count() + 1)).unwrap_or_default();
                CommandError::refused_with(format!("`.env{line}` cannot be read"), "write lines as in `NAME=\"value\"`")
            })
        })
        .collect()
}

/// Whether secrets may be shown: on a terminal, to somebody who says yes.
fn may_reveal(host: &HostFacts) -> Result<bool, CommandError> {
    if !(host.can_ask && host.out_is_terminal) {
        let hint = "leave it away: secrets are never written to a file or a pipe";
        return Err(CommandError::refused_with("`--reveal` shows secrets on a terminal only", hint));
    }
    prompt::confirm("Show secrets on this screen?", false)
}

/// `NAME=VALUE`, the value as [`Value::typed`] reads it.
pub(crate) fn set_value(text: &str) -> Result<(String, Value), CommandError> {
    let Some((name, value)) = text.split_once('=') else {
        return Err(CommandError::refused_with(
            format!("`--set {text}` has no value"),
            format!("write `--set {text}=…`"),
        ));
    };
    if !is_value_name(name) {
        let hint = "use letters, digits and `_`, the first no digit";
        return Err(CommandError::refused_with(format!("`{name}` cannot name a value"), hint));
    }
    if is_language_name(name) {
        let message = format!("`{name}` is a name of the language, so no value can take it");
        return Err(CommandError::refused(message));
    }
    Ok((name.to_owned(), Value::infer(value)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_set_value_is_what_it_looks_like() {
        let shown = |text| set_value(text).map(|(name, value)| format!("{name} {}", value.show())).ok();
        assert_eq!(shown("bins=24").as_deref(), Some("bins 24"));
        assert_eq!(shown("grower=G-11").as_deref(), Some("grower \"G-11\""));
        assert_eq!(shown("code=007").as_deref(), Some("code \"007\""));
        assert_eq!(shown("code=\"24\"").as_deref(), Some("code \"24\""));
        assert_eq!(shown("note=a=b").as_deref(), Some("note \"a=b\""));
        assert_eq!(shown("empty=").as_deref(), Some("empty \"\""));
        assert_eq!(shown("bins"), None);
        assert_eq!(shown("4bins=1"), None);
        assert_eq!(shown("status=1"), None);
    }
}
