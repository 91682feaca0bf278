//! Whether the user has allowed a workspace to reach outside itself: to run the commands of its private
//! configuration, to read files elsewhere and variables of the process, to use sockets, keys and certificates
//! elsewhere, and to start git. A folder that somebody cloned does none of this by itself.

mod allowed;
mod digest;
mod ownership;

use crate::args::Common;
use crate::error::CommandError;
use crate::host::HostFacts;
pub(crate) use allowed::{Allowance, Allowed};
pub(crate) use digest::digest_of;
pub(crate) use ownership::refuse_foreign;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use yieldtray_workspace::Workspace;
use yieldtray_workspace::config::OutsideSetting;

/// The permissions of one workspace. Shared by everything that reaches outside for it, so that a permission applies
/// everywhere.
#[derive(Clone, Debug, Default)]
pub(crate) struct Trust(Arc<Flags>);

#[derive(Debug, Default)]
struct Flags {
    allowed: AtomicBool,
    /// True if git tracks the private configuration: then it came with the repository, and runs nothing.
    tracked: AtomicBool,
}

impl Trust {
    /// Whether the workspace may reach outside.
    pub(crate) fn allows(&self) -> bool {
        self.0.allowed.load(Ordering::Relaxed)
    }

    /// Whether the commands of its private configuration may run.
    pub(crate) fn allows_commands(&self) -> Result<(), &'static str> {
        match (self.allows(), self.0.tracked.load(Ordering::Relaxed)) {
            (true, false) => Ok(()),
            (_, true) => {
                Err("but the local configuration is tracked by git, and commands from a repository are never run")
            }
            (false, false) => Err("which this workspace is not allowed to run"),
        }
    }

    /// Allows it from now on.
    pub(crate) fn allow(&self) {
        self.0.allowed.store(true, Ordering::Relaxed);
    }

    /// Takes note that git keeps the private configuration.
    pub(crate) fn note_tracked(&self) {
        self.0.tracked.store(true, Ordering::Relaxed);
    }

    /// Decides about a workspace that was opened: by the command line, the surroundings, or what the user said
    /// before of this very configuration.
    pub(crate) fn decide(&self, root: &Path, workspace: &Workspace, common: &Common, host: &HostFacts) {
        if is_allowed(root, workspace, common, host) {
            self.allow();
        }
    }
}

fn is_allowed(root: &Path, workspace: &Workspace, common: &Common, host: &HostFacts) -> bool {
    if common.allow {
        return true;
    }
    let digest = digest_of(workspace);
    let named = host
        .allow
        .as_deref()
        .is_some_and(|named| named == digest || Path::new(named).canonicalize().is_ok_and(|named| named == root));
    named || Allowed::of_user().is_some_and(|allowed| allowed.find(root).is_some_and(|own| own.digest == digest))
}

/// Remembers that the user allows a workspace as it is now.
pub(crate) fn remember(root: &Path, workspace: &Workspace) -> Result<(), CommandError> {
    Allowed::expected()?.put(&Allowance { root: root.to_owned(), digest: digest_of(workspace) })
}

/// The lines of the configurations that reach outside, as a person reads them: what, and where it is said.
pub(crate) fn outside_lines(workspace: &Workspace) -> Vec<(String, String)> {
    let shown = |setting: OutsideSetting| {
        let place = workspace.shown_line(setting.source, setting.span.start());
        (place, format!("{} `{}`", setting.kind.describe(), setting.names))
    };
    let mut settings = workspace.config.outside_settings();
    settings.sort_by_key(|setting| (setting.source, setting.span.start()));
    settings.into_iter().map(shown).collect()
}

/// The folder of what is the user's own.
fn user_folder() -> Option<PathBuf> {
    yieldtray_store::user_state_folder(|name| std::env::var(name).ok())
}
