//! `replay --watch`: runs again what a changed file touches, until somebody ends it.

use super::replay::{WatchState, replay_part};
use crate::args::{Common, Replay};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::interrupt::Interrupts;
use crate::output::Out;
use crate::project::locator::Locator;
use crate::project::{here, places, root_for};
use anyhow::Context;
use notify::{EventKind, RecursiveMode, Watcher};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::Duration;
use tokio::sync::mpsc::{UnboundedReceiver, unbounded_channel};
use yieldtray_engine::ExitCode;
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};
use yieldtray_source::join_words;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::{CellId, Workspace};

/// An editor writes a file in several steps, and often several files: what comes within this time belongs
/// together.
const SETTLE_TIME: Duration = Duration::from_millis(150);

/// Runs what the options choose, and again what a changed file touches.
pub(crate) fn watch(common: &Common, args: &Replay, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let places = places(common, &args.choice.places)?;
    if places.contains(&Locator::StandardInput) {
        return Err(CommandError::refused_with(
            "standard input cannot be watched",
            "name a file, or leave `--watch` out",
        ));
    }
    let folder = root_for(&here(common)?, &places);
    let root = folder.canonicalize().with_context(|| format!("cannot open `{}`", folder.display()))?;
    let (sender, mut changes) = unbounded_channel();
    // Watched before the first run: what is changed meanwhile counts too.
    let mut watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
        let Ok(event) = event else { return };
        if !matches!(event.kind, EventKind::Access(_)) {
            event.paths.into_iter().for_each(|path| drop(sender.send(path)));
        }
    })
    .context("cannot watch for changes")?;
    watcher.watch(&root, RecursiveMode::Recursive).with_context(|| format!("cannot watch `{}`", root.display()))?;
    let mut part = WatchState::default();
    // Held between the runs too: a Ctrl-C that comes in between ends the next one, or the waiting.
    let mut interrupts = Interrupts::watch().context("cannot watch for Ctrl-C")?;
    loop {
        let code = replay_part(common, args, host, out, &mut part);
        let saved: BTreeSet<PathBuf> = std::mem::take(&mut part.saved).into_iter().collect();
        match code {
            Ok(ExitCode::Interrupted) => return Ok(ExitCode::Interrupted),
            Ok(_) | Err(CommandError::Mistakes) => {}
            Err(error @ (CommandError::Interrupted | CommandError::System(_))) => return Err(error),
            // Fixing an error is a change too.
            Err(error) => drop(out.report_error(error)),
        }
        out.flush()?;
        if !out.settings.json && !out.settings.quiet && !part.idle {
            out.say(&out.settings.error_styles.dim("waiting for a change; Ctrl-C ends this"))?;
        }
        part.touched = loop {
            let Some(changed) = next_changes(&mut changes, &root, &mut interrupts)? else {
                return Ok(ExitCode::Interrupted);
            };
            // Files that the run itself saved do not count as changes.
            let fresh: BTreeSet<PathBuf> = changed.difference(&saved).cloned().collect();
            if let Some(touched) = Touched::by(&fresh, |path| root.join(path).is_file()) {
                break Some(touched);
            }
        };
    }
}

/// The files that change next, relative to `root`; `None` if somebody ends it.
fn next_changes(
    changes: &mut UnboundedReceiver<PathBuf>,
    root: &Path,
    interrupts: &mut Interrupts,
) -> Result<Option<BTreeSet<PathBuf>>, CommandError> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().context("cannot wait")?;
    runtime.block_on(async {
        let relative = |path: PathBuf| path.strip_prefix(root).map(Path::to_owned).ok();
        let first = tokio::select! {
            () = interrupts.next() => return Ok(None),
            first = changes.recv() => first,
        };
        let mut changed: BTreeSet<PathBuf> = first.and_then(relative).into_iter().collect();
        loop {
            tokio::select! {
                () = interrupts.next() => return Ok(None),
                more = tokio::time::timeout(SETTLE_TIME, changes.recv()) => match more {
                    Ok(Some(more)) => changed.extend(relative(more)),
                    Ok(None) | Err(_) => return Ok(Some(changed)),
                },
            }
        }
    })
}

/// The changes that can affect a request.
#[derive(Debug)]
pub(crate) struct Touched(BTreeSet<PathBuf>);

impl Touched {
    /// The changed files that may matter, if any do: not our state, not what editors and git keep hidden, and
    /// of those that are gone only request files.
    fn by(changed: &BTreeSet<PathBuf>, is_there: impl Fn(&Path) -> bool) -> Option<Self> {
        let is_hidden = |path: &Path| {
            let parts = path.components().map(|part| part.as_os_str().to_string_lossy().into_owned());
            let hidden = { parts }.any(|part| part.starts_with('.') && part != ".env");
            hidden || path.to_string_lossy().ends_with('~')
        };
        let matters = |path: &&PathBuf| {
            !is_hidden(path) && (is_there(path) || path.extension().is_some_and(|extension| extension == "http"))
        };
        let files: BTreeSet<PathBuf> = changed.iter().filter(matters).cloned().collect();
        (!files.is_empty()).then_some(Self(files))
    }

    /// In words.
    pub(crate) fn describe(&self) -> String {
        format!("{} changed", join_words(self.0.iter().take(8).map(|path| path.display().to_string())))
    }

    /// Of `chosen`, the cells that are touched: those of a changed file or below a changed `_common.http`, those
    /// whose file names a changed one, and all that need or play such a cell.
    pub(crate) fn of(&self, workspace: &mut Workspace, chosen: &[CellId]) -> Vec<CellId> {
        let everything = [CONFIG_FILE, LOCAL_FILE, ".env"];
        if self.0.iter().any(|path| everything.iter().any(|name| path == Path::new(name))) {
            return chosen.to_vec();
        }
        let is_touched = |workspace: &Workspace, cell: CellId| {
            let own = workspace.source(cell.source);
            let texts = own.inherited.iter().map(|common| workspace.source(*common)).chain([own]);
            { texts }.any(|text| self.0.contains(&text.path) || self.0.iter().any(|path| names(&text.text, path)))
        };
        let needs_touched = |workspace: &mut Workspace, cell: CellId| {
            let plan = Plan::new(workspace, &[cell], true);
            plan.steps.iter().any(|step| is_touched(workspace, step.cell))
        };
        chosen.iter().copied().filter(|cell| needs_touched(workspace, *cell)).collect()
    }
}

/// Whether a text names a file, in whichever way: by its last part.
fn names(text: &str, path: &Path) -> bool {
    path.file_name().is_some_and(|name| text.contains(&*name.to_string_lossy()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::workspace;

    #[test]
    fn what_is_hidden_touches_nothing() {
        let by = |paths: &[&str]| {
            let is_there = |path: &Path| !path.starts_with("gone");
            Touched::by(&paths.iter().map(PathBuf::from).collect(), is_there).map(|touched| touched.describe())
        };
        assert_eq!(by(&["gone/lots.csv"]), None);
        assert_eq!(by(&["gone/a.http"]).as_deref(), Some("`gone/a.http` changed"));
        assert_eq!(by(&[".yieldtray/state.db", ".git/index", "a.http~", "lots/.a.http.swp"]), None);
        assert_eq!(by(&[".git/index", "lots/a.http", ".env"]).as_deref(), Some("`.env` and `lots/a.http` changed"));
    }

    #[test]
    fn a_change_touches_what_names_or_needs_it() {
        let texts = [
            ("_common.http", "% header Accept: */*\n"),
            ("gate.http", "%% sign in\nGET http://bench/session\n%% look\nGET http://bench/\n"),
            ("desk/_common.http", "% tag desk\n"),
            ("desk/lots.http", "%% book\n% needs ../gate.http#sign-in\n% body from new.json\nPOST http://bench/lots\n"),
            ("desk/rows.http", "%% all\n% play one\n\n%% one\n% each row in \"lots.csv\"\nGET http://bench/{{lot}}\n"),
            ("desk/round.http", "%% round\n% needs rows.http#all\nGET http://bench/round\n"),
        ];
        let mut workspace = workspace(&texts);
        let requests = ["gate.http", "desk/lots.http", "desk/rows.http", "desk/round.http"];
        let sources: Vec<_> =
            requests.iter().map(|path| workspace.load(Path::new(path)).expect("the file is there")).collect();
        let all: Vec<CellId> = sources.iter().flat_map(|source| workspace.cells(*source)).collect();
        let mut touched = |path: &str| {
            let touched = Touched(BTreeSet::from([PathBuf::from(path)])).of(&mut workspace, &all);
            touched.iter().map(|cell| workspace.cell(*cell).name.to_string()).collect::<Vec<_>>().join(" ")
        };
        assert_eq!(touched("gate.http"), "sign-in look book");
        assert_eq!(touched("_common.http"), "sign-in look book all one round");
        assert_eq!(touched("desk/_common.http"), "book all one round");
        assert_eq!(touched("desk/new.json"), "book");
        assert_eq!(touched("desk/lots.csv"), "all one round");
        assert_eq!(touched("desk/round.http"), "round");
        assert_eq!(touched("desk/notes.txt"), "");
        for everything in [CONFIG_FILE, LOCAL_FILE, ".env"] {
            assert_eq!(touched(everything), "sign-in look book all one round", "{everything}");
        }
    }
}
