//! `replay --watch`: runs again what a changed file touches, until somebody ends it.

use super::replay::{WatchState, replay_part};
use super::touched::Touched;
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

/// An editor writes a file in several steps, and often several files: what comes within this time belongs
/// together.
const SETTLE_TIME: Duration = Duration::from_millis(150);

/// Runs what the options choose, and again what a changed file touches.
pub(crate) fn watch(common: &Common, args: &Replay, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let places = places(common, &args.choice.places)?;
    if places.contains(&Locator::StandardInput) {
        return Err(CommandError::refused_with("cannot watch standard input", "pass a file, or omit `--watch`"));
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
            out.say(&out.settings.error_styles.dim("waiting for changes; press Ctrl-C to stop"))?;
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
